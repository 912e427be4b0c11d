"""An inquiry: what is asked about images, answered in memory or into a file of rows that can be gone on with."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

from zygal import __version__
from zygal.prediction.prediction import Prediction, Limits, predictions_of
from zygal.prediction.classifier import BATCH, Classifier
from zygal.prediction.resumable import ResumableRows, open_rows
from zygal.prediction.rows import PARQUET, RowWriter, columns_of, row_format, to_parquet
from zygal.prediction.stream import see_all
from zygal.errors import FileError, ImageError, ZygalError
from zygal.inlet import format_inlet

Made = TypeVar("Made")

DISAGREEMENTS = 10
"""So many are kept of a run of any length."""


@dataclass(frozen=True)
class Classification:
    """classifier and the one beside it, if any. most: how many classes are named of each image. threads: None for all cores."""

    classifier: Classifier
    beside: Classifier | None = None
    limits: Limits = Limits()
    most: int = 3
    threads: int | None = None

    def answers(self, paths: Iterable[str]) -> Iterator[list[Prediction]]:
        """The answers about files, in their order, some at a time. Raises EngineError."""
        return self._ask(paths, lambda answers: answers)

    def rows(self, paths: Iterable[str], writer: RowWriter) -> Iterator[tuple[list[Prediction], bytes]]:
        """The answers, and the same as bytes of a file."""
        return self._ask(paths, lambda answers: (answers, writer.rows(answers)))

    def _ask(self, paths: Iterable[str], then: Callable[[list[Prediction]], Made]) -> Iterator[Made]:
        def finish(seen):
            return then(predictions_of(seen, self.classifier, self.limits, self.most))

        return see_all(paths, self.classifier, finish, self.beside, self.threads)

    def made_by(self, columns: Iterable[str]) -> dict[str, Any]:
        """What rows depend on, by names that a message can use."""
        return {
            "the artifact": self.classifier.sha256,
            "the inlet": format_inlet(self.classifier.inlet),
            "the labels": list(self.classifier.labels),
            "what the scores are": self.classifier.kind,
            "the other classifier": self.beside and self.beside.sha256,
            "the other inlet": self.beside and format_inlet(self.beside.inlet),
            "the limits": asdict(self.limits),
            "the columns": list(columns),
            "the runtime": self.classifier.engine_name,
            "images a batch": BATCH,
            "the version of zygal": __version__,
        }


def counts_of(answers: Iterable[Prediction]) -> Counter:
    """How many have an answer ("read") and how many none ("faults"), are unsure, and how many the two disagree on."""
    counts = Counter(read=0, faults=0, unsure=0, disagreements=0)
    for answer in answers:
        counts["read" if answer.fault is None else "faults"] += 1
        counts["unsure"] += bool(answer.unsure)
        counts["disagreements"] += bool(answer.disagrees)
    return counts


def nothing_read(counts: Counter, example: Prediction | None) -> ZygalError:
    """What to raise if not one file could be read; example: one of them."""
    if not counts["faults"]:
        return FileError("standard input names no images; pipe one path a line.")
    if example is None:
        return ImageError(f"none of the {counts['faults']} files can be read as an image; check what is named.")
    if counts["faults"] == 1:
        return ImageError(f"{example.path} {example.fault}; name images.")
    return ImageError(
        f"none of the {counts['faults']} files can be read as an image (the first is {example.path}: {example.fault}); "
        "check what is named."
    )


class PredictionFile:
    """Answers that go into a file; open it by `open_answers`.

    disagreements: those of this call on which both are surest.
    """

    def __init__(self, rows: ResumableRows, inquiry: Classification, names: Iterator[str], writer: RowWriter, convert):
        self._rows, self._inquiry, self._names, self._writer, self._convert = rows, inquiry, names, writer, convert
        self.resumed, self.finished = rows.resumed, rows.finished
        self.disagreements: list[Prediction] = []
        self._example: Prediction | None = None

    @property
    def rows(self) -> int:
        return self._rows.rows

    @property
    def counts(self) -> Counter:
        return self._rows.counts

    def go_on(self) -> Iterator[int]:
        """Answers what is left and gives how many more rows there are, again and again; then the file has its name.

        Raises EngineError or OutputError, and ImageError or FileError if not one image could be read.
        """
        for answers, data in self._inquiry.rows(self._names, self._writer):
            self._rows.append(data, [answer.path for answer in answers], counts_of(answers))
            self._example = self._example or next((answer for answer in answers if answer.fault), None)
            apart = [answer for answer in answers if answer.disagrees]
            self.disagreements = heapq.nlargest(DISAGREEMENTS, self.disagreements + apart, key=_sureness)
            yield len(answers)
        if not self.counts["read"]:
            counts = self.counts
            self._rows.discard()
            raise nothing_read(counts, self._example)
        self._rows.finish(self._convert)


@contextmanager
def open_predictions(
    path: str | Path, inquiry: Classification, names: Iterable[str], afresh: bool = False
) -> Iterator[PredictionFile]:
    """A file of the answers about named files, to be begun or gone on with. Raises OutputError."""
    ending = row_format(path)
    columns = columns_of(inquiry.most, inquiry.classifier.multi_label, inquiry.beside is not None)
    writer = RowWriter(ending, columns)
    convert = partial(to_parquet, columns) if ending == PARQUET else None
    with open_rows(path, inquiry.made_by(columns), writer.heading(), convert, afresh) as rows:
        left = iter(names)
        rows.pass_over(left)
        yield PredictionFile(rows, inquiry, left, writer, convert)


def _sureness(answer: Prediction) -> float:
    """How sure the less sure of two that disagree is."""
    return min(answer.top[0].probability, answer.beside.probability)
