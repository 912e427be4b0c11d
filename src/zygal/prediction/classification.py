"""A classification run: images to predictions, in memory or into a file of rows that can be resumed."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path
from typing import Any

from zygal import __version__
from zygal.errors import FileError, ImageError, ZygalError
from zygal.inlet import format_inlet
from zygal.pool import Pool
from zygal.prediction.classifier import BATCH, Classifier
from zygal.prediction.prediction import Prediction, Thresholds, predictions_of
from zygal.prediction.resumable import ResumableRows, open_rows
from zygal.prediction.rows import PARQUET, RowWriter, columns_of, row_format, to_parquet
from zygal.prediction.stream import ImageScores, score_all

DISAGREEMENTS = 10
"""How many are kept of a run of any length."""


@dataclass(frozen=True)
class Classification:
    """classifier, and the one that it is compared with, if any. top: how many classes are named for each image. pool: the
    workers; one thread per core unless given."""

    classifier: Classifier
    other: Classifier | None = None
    thresholds: Thresholds = Thresholds()
    top: int = 3
    pool: Pool | None = None

    def predictions(self, paths: Iterable[str]) -> Iterator[list[Prediction]]:
        """The predictions for files, in their order, a block at a time. Raises EngineError."""
        finish = MakePredictions(self.classifier, self.thresholds, self.top)
        return score_all(paths, self.classifier, finish, self.other, self.pool)

    def rows(self, paths: Iterable[str], writer: RowWriter) -> Iterator[tuple[list[Prediction], bytes]]:
        """The predictions, and the same as bytes of a file."""
        finish = MakeRows(MakePredictions(self.classifier, self.thresholds, self.top), writer)
        return score_all(paths, self.classifier, finish, self.other, self.pool)

    def made_by(self, columns: Iterable[str]) -> dict[str, Any]:
        """What the rows depend on, by names that a message can use."""
        return {
            "the artifact": self.classifier.sha256,
            "the inlet": format_inlet(self.classifier.inlet),
            "the labels": list(self.classifier.labels),
            "the kind of scores": self.classifier.kind,
            "the compared model": self.other and self.other.sha256,
            "the inlet of the compared model": self.other and format_inlet(self.other.inlet),
            "the thresholds": asdict(self.thresholds),
            "the columns": list(columns),
            "the runtime": self.classifier.engine_name,
            "the batch size": BATCH,
            "the Zygal version": __version__,
        }


@dataclass(frozen=True)
class MakePredictions:
    classifier: Classifier
    thresholds: Thresholds
    top: int

    def __call__(self, images: list[ImageScores]) -> list[Prediction]:
        return predictions_of(images, self.classifier, self.thresholds, self.top)


@dataclass(frozen=True)
class MakeRows:
    predict: MakePredictions
    writer: RowWriter

    def __call__(self, images: list[ImageScores]) -> tuple[list[Prediction], bytes]:
        predictions = self.predict(images)
        return predictions, self.writer.rows(predictions)


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

    disagreements: those of this run in which both models are most confident.
    """

    def __init__(self, rows: ResumableRows, run: Classification, names: Iterator[str], writer: RowWriter, convert):
        self._rows, self._run, self._names, self._writer, self._convert = rows, run, names, writer, convert
        self.resumed, self.finished = rows.resumed, rows.finished
        self.disagreements: list[Prediction] = []
        self._example: Prediction | None = None

    @property
    def rows(self) -> int:
        return self._rows.rows

    @property
    def counts(self) -> Counter:
        return self._rows.counts

    def write_rest(self) -> Iterator[int]:
        """Writes the rows that are missing and yields how many were added, block by block; then the file gets its name.

        Raises EngineError or OutputError, and ImageError or FileError if no image could be read.
        """
        for predictions, data in self._run.rows(self._names, self._writer):
            self._rows.append(data, [each.path for each in predictions], counts_of(predictions))
            self._example = self._example or next((each for each in predictions if each.error), None)
            disagreeing = [each for each in predictions if each.disagree]
            self.disagreements = heapq.nlargest(DISAGREEMENTS, self.disagreements + disagreeing, key=_confidence)
            yield len(predictions)
        if not self.counts["read"]:
            counts = self.counts
            self._rows.discard()
            raise nothing_read(counts, self._example)
        self._rows.finish(self._convert)


@contextmanager
def open_predictions(
    path: str | Path, run: Classification, names: Iterable[str], overwrite: bool = False
) -> Iterator[PredictionFile]:
    """A file of predictions for named files, new or resumed. Raises OutputError."""
    ending = row_format(path)
    columns = columns_of(run.top, run.classifier.multi_label, run.other is not None)
    writer = RowWriter(ending, columns)
    convert = partial(to_parquet, columns) if ending == PARQUET else None
    with open_rows(path, run.made_by(columns), writer.heading(), convert, overwrite) as rows:
        remaining = iter(names)
        rows.pass_over(remaining)
        yield PredictionFile(rows, run, remaining, writer, convert)


def _confidence(prediction: Prediction) -> float:
    """The confidence of the less confident of two models that disagree."""
    return min(prediction.top[0].probability, prediction.other.probability)
