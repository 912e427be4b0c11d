"""A classification run: images to predictions, in memory or into a file of rows that can be resumed."""

from __future__ import annotations

import heapq
import shutil
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from functools import partial
from itertools import islice
from pathlib import Path
from typing import Any

from zygal import __version__
from zygal.errors import FileError, ImageError, OutputError, ZygalError
from zygal.files.writing import write_failure
from zygal.inlet import format_inlet
from zygal.machine.pool import Pool
from zygal.prediction.blocks import Block, Done, OfBlock, blocks_of, map_blocks
from zygal.prediction.classifier import BATCH, Classifier
from zygal.prediction.image_states import RowState, read_states
from zygal.prediction.prediction import Prediction, Thresholds, predictions_of
from zygal.prediction.resumable import ResumableRows, open_rows
from zygal.prediction.rows import PARQUET, RowWriter, columns_of, from_parquet, row_format, to_parquet
from zygal.prediction.run_record import RunRecord, earlier, rows_file, states_file
from zygal.prediction.stream import ImageScores, ScoreBlock, missing_of, score_all

DISAGREEMENTS = 10
"""How many are kept of a run of any length."""


@dataclass(frozen=True)
class Classification:
    """classifier, and the one that it is compared with, if any. top: how many classes are named for each image. pool:
    the workers; one thread per core unless given."""

    classifier: Classifier
    other: Classifier | None = None
    thresholds: Thresholds = Thresholds()
    top: int = 3
    pool: Pool | None = None

    def predictions(self, paths: Iterable[str]) -> Iterator[list[Prediction]]:
        """The predictions for files, in their order, a block at a time. Raises EngineError."""
        finish = MakePredictions(self.classifier, self.thresholds, self.top)
        return score_all(paths, self.classifier, finish, self.other, self.pool)

    def rows(
        self, work: Iterable[Block | Done[MadeRows]], writer: RowWriter, hashed: bool = False
    ) -> Iterator[MadeRows]:
        """The rows of blocks of files, in their order; those of an earlier run as they are. hashed: the images' bytes
        too."""
        finish = MakeRows(MakePredictions(self.classifier, self.thresholds, self.top), writer)
        return map_blocks(self.pool, ScoreBlock(self.classifier, self.other, finish, hashed), work)

    def made_by(self, columns: Iterable[str]) -> dict[str, Any]:
        """What the rows depend on, by names that a message can use."""
        return {
            "the artifact": self.classifier.sha256,
            "the output": self.classifier.output,
            "the inlet": format_inlet(self.classifier.inlet),
            "the labels": list(self.classifier.labels),
            "the kind of scores": self.classifier.kind,
            "the compared model": self.other and self.other.sha256,
            "the output of the compared model": self.other and self.other.output,
            "the labels of the compared model": self.other and list(self.other.labels),
            "the runtime of the compared model": self.other and self.other.engine_name,
            "the inlet of the compared model": self.other and format_inlet(self.other.inlet),
            "the thresholds": asdict(self.thresholds),
            "the columns": list(columns),
            "the number of classes in a row": self.top,
            "the runtime": self.classifier.engine_name,
            "the batch size": BATCH,
            "the Zygal version": __version__,
        }


@dataclass(frozen=True)
class MakePredictions:
    """Scores to predictions."""

    classifier: Classifier
    thresholds: Thresholds
    top: int

    def __call__(self, images: list[ImageScores]) -> list[Prediction]:
        """The predictions of some images."""
        return predictions_of(images, self.classifier, self.thresholds, self.top)


@dataclass(frozen=True)
class MakeRows:
    """Scores to rows of a file."""

    predict: MakePredictions
    writer: RowWriter

    def __call__(self, images: list[ImageScores]) -> MadeRows:
        """The rows of some images, with what is counted of each."""
        predictions = self.predict(images)
        rows = [self.writer.row(each) for each in predictions]
        counts = [counts_of([each]) for each in predictions]
        states = [
            RowState(image.state, len(row), tuple(count.elements())) for image, row, count in zip(images, rows, counts)
        ]
        faulty = next((each for each in predictions if each.error is not None), None)
        return MadeRows(
            [each.path for each in images],
            b"".join(rows),
            b"".join(each.line() for each in states),
            sum(counts, Counter()),
            len(images),
            faulty,
            most_confident(each for each in predictions if each.disagree),
            missing_of(images),
        )


@dataclass(frozen=True)
class MadeRows(OfBlock):
    """The rows of a block. states: the lines that say what the images were. made: how many rows were made now, none of
    those of an earlier run. faulty: the first prediction of an image that could not be read. disagreements: those in
    which both models are most confident."""

    names: Sequence[str]
    data: bytes
    states: bytes
    counts: Counter
    made: int = 0
    faulty: Prediction | None = None
    disagreements: Sequence[Prediction] = ()
    missing: Sequence[str] = ()


def counts_of(predictions: Iterable[Prediction]) -> Counter:
    """How many images were read, could not be read, are uncertain, and on how many the two models disagree."""
    counts = Counter(read=0, unreadable=0, uncertain=0, disagreements=0)
    for prediction in predictions:
        counts["read" if prediction.error is None else "unreadable"] += 1
        counts["uncertain"] += bool(prediction.uncertain)
        counts["disagreements"] += bool(prediction.disagree)
    return counts


def nothing_read(counts: Counter, example: Prediction | None) -> ZygalError:
    """What to raise if no file could be read; example: one of them."""
    if not counts["unreadable"]:
        return FileError("standard input names no images; pipe one path per line.")
    if example is None:
        return ImageError(f"none of the {counts['unreadable']} files is a readable image; check the paths.")
    if counts["unreadable"] == 1:
        return ImageError(f"{example.path} {example.error}; give image files.")
    return ImageError(
        f"none of the {counts['unreadable']} files is a readable image (the first is {example.path}: {example.error}); "
        "check the paths."
    )


class PredictionFile:
    """Predictions that go into a file; open it with `open_predictions`.

    disagreements: those of this run in which both models are most confident. changed: how many images were replaced
    since their rows were made; those are made again.
    """

    def __init__(
        self,
        rows: ResumableRows,
        run: Classification,
        work: Iterator,
        writer: RowWriter,
        convert,
        hashed: bool,
        changed: int = 0,
        kept: int = 0,
    ):
        self._rows, self._run, self._work, self._writer, self._convert = rows, run, work, writer, convert
        self.resumed, self.finished, self.changed, self._hashed = rows.resumed or kept, rows.finished, changed, hashed
        self.disagreements: list[Prediction] = []
        self._example: Prediction | None = None

    @property
    def rows(self) -> int:
        """How many rows are written."""
        return self._rows.rows

    @property
    def counts(self) -> Counter:
        """What is counted of the rows."""
        return self._rows.counts

    def write_rest(self) -> Iterator[int]:
        """Writes the rows that are missing and yields how many were added, block by block; then the file gets its name.

        Raises EngineError or OutputError, and ImageError or FileError if no image could be read.
        """
        for made in self._run.rows(self._work, self._writer, self._hashed):
            self._rows.append(made.data, made.names, made.states, made.counts)
            self._example = self._example or made.faulty
            if made.disagreements:
                self.disagreements = most_confident([*self.disagreements, *made.disagreements])
            if made.made:
                yield made.made
        if not self.counts["read"]:
            counts = self.counts
            self._rows.discard()
            raise nothing_read(counts, self._example)
        self._rows.finish(self._convert)


@contextmanager
def open_predictions(
    path: str | Path, run: Classification, names: Iterable[str], overwrite: bool = False, hashed: bool = False
) -> Iterator[PredictionFile]:
    """A file of predictions for named files, new or resumed. Rows whose image was replaced since are made again, the
    others kept.

    hashed: images are compared by the hashes of their bytes, else by size and time. Raises OutputError.
    """
    path, ending = Path(path), row_format(path)
    columns = columns_of(run.top, run.classifier.multi_label, run.other is not None)
    writer = RowWriter(ending, columns)
    convert = partial(to_parquet, columns) if ending == PARQUET else None
    made_by, heading = run.made_by(columns), writer.heading()
    with open_rows(path, made_by, heading, convert, overwrite) as rows:
        remaining = iter(names)
        changed, record = rows.pass_over(remaining, hashed, run.pool), rows.run_record
        if not changed:
            yield PredictionFile(rows, run, blocks_of(remaining), writer, convert, hashed)
            return
    if iter(names) is remaining or getattr(names, "is_read_once", False):
        raise OutputError(
            f"{len(changed)} of the images of {path} were replaced since, and names from standard input can be read "
            "only once; give them in a file with --list, or start again with --overwrite."
        )
    with _set_aside(path, record, ending) as earlier_files, open_rows(path, made_by, heading, convert, True) as rows:
        blocks = {place // BATCH for place in changed}
        work = _kept_or_not(names, *earlier_files, record.rows, len(heading), blocks)
        kept = record.rows - sum(min(BATCH, record.rows - block * BATCH) for block in blocks)
        yield PredictionFile(rows, run, work, writer, convert, hashed, len(changed), kept)


@contextmanager
def _set_aside(path: Path, record: RunRecord, ending: str) -> Iterator[tuple[Path, Path]]:
    """Copies of the rows and of the images' states, while new ones are made of them."""
    rows, states = earlier(rows_file(path)), earlier(states_file(path))
    try:
        shutil.copyfile(states_file(path), states)
        if record.finished and ending == PARQUET:
            from_parquet(path, rows)
        else:
            shutil.copyfile(path if record.finished else rows_file(path), rows)
        yield rows, states
    except OSError as fault:
        raise write_failure(rows, fault) from fault
    finally:
        for each in (rows, states):
            each.unlink(missing_ok=True)


def _kept_or_not(
    names: Iterable[str], rows: Path, states: Path, count: int, heading: int, changed: set[int]
) -> Iterator[Block | Done[MadeRows]]:
    """The blocks of files: those with rows and without a replaced image with their rows, the others to be made
    again."""
    known = read_states(states, count)
    with rows.open("rb") as file:
        file.seek(heading)
        for number, block in enumerate(blocks_of(names)):
            kept = list(islice(known, len(block)))
            data = file.read(sum(each.row_bytes for each in kept))
            whole = len(kept) == len(block) and number not in changed
            lines, counts = b"".join(each.line() for each in kept), sum((each.counts for each in kept), Counter())
            yield Done(MadeRows(block.names, data, lines, counts)) if whole else block


def most_confident(disagreements: Iterable[Prediction]) -> list[Prediction]:
    """Those in which both models are most confident; of equal ones the first, so that parts give what the whole
    gives."""
    return heapq.nlargest(DISAGREEMENTS, disagreements, key=_confidence)


def _confidence(prediction: Prediction) -> float:
    """The confidence of the less confident of two models that disagree."""
    return min(prediction.top[0].probability, prediction.other.probability)
