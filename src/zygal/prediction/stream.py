"""Many files through a classifier: reading and inference in the same workers, results in the order of the files."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Generic, TypeVar

import numpy as np

from zygal.errors import EngineError, ImageError
from zygal.inlet.apply import InletTensor
from zygal.machine.pool import Pool
from zygal.prediction.blocks import Block, Done, blocks_of, map_blocks
from zygal.prediction.classifier import Classifier
from zygal.prediction.image_states import ImageState

Result = TypeVar("Result")


@dataclass
class ImageScores:
    """One file. scores, probabilities: [classes], and those of the compared classifier in the first one's class order;
    None if there is an error, which says why there are no scores. state: what the file was before it was read. tensor:
    what the first classifier was given."""

    path: str
    state: ImageState | None = None
    error: str | None = None
    tensor: InletTensor | None = None
    scores: np.ndarray | None = None
    probabilities: np.ndarray | None = None
    other_scores: np.ndarray | None = None
    other_probabilities: np.ndarray | None = None


def score_all(
    paths: Iterable[str],
    classifier: Classifier,
    finish: Callable[[list[ImageScores]], Result],
    other: Classifier | None = None,
    pool: Pool | None = None,
) -> Iterator[Result]:
    """What `finish` makes of each block of files, in their order; it runs in the workers too. Raises EngineError.

    Every worker reads a block of files and runs it as one batch on one core, so all cores are busy whatever reading and
    inference cost, and the scores do not depend on the number of workers. Blocks begin at every eighth file, so they
    are the same blocks when a later run begins further down the list.
    """
    return map_blocks(pool, ScoreBlock(classifier, other, finish), blocks_of(paths))


@dataclass(frozen=True)
class ScoreBlock(Generic[Result]):
    """Work for a pool: a block of files to what `finish` makes of their scores. Can be pickled if `finish` can. hashed:
    whether the files' bytes are hashed too."""

    classifier: Classifier
    other: Classifier | None
    finish: Callable[[list[ImageScores]], Result]
    hashed: bool = False

    def __call__(self, block: Block | Done[Result]) -> Result:
        """What is made of the scores of a block."""
        return block.result if isinstance(block, Done) else self.finish(self.score(block))

    def score(self, block: Block) -> list[ImageScores]:
        """The scores of a block's images."""
        images = [ImageScores(name, block.state(place, self.hashed)) for place, name in enumerate(block.names)]
        readable, other_tensors = self._read(block, images)
        scores = _scores(self.classifier, [each.tensor.tensor for each in readable], readable)
        other_scores = _scores(self.other, other_tensors, readable) if self.other is not None else None
        kept = [index for index, each in enumerate(readable) if each.error is None]
        if kept:
            rows = np.stack([scores[index] for index in kept])
            for index, row, probabilities in zip(kept, rows, self.classifier.probabilities(rows)):
                readable[index].scores, readable[index].probabilities = row, probabilities
            if other_scores is not None:
                rows = np.stack([other_scores[index] for index in kept])[:, self._class_order()]
                for index, row, probabilities in zip(kept, rows, self.other.probabilities(rows)):
                    readable[index].other_scores, readable[index].other_probabilities = row, probabilities
        for each in images:
            sides = [side for side in (each.probabilities, each.other_probabilities) if side is not None]
            if not all(np.isfinite(side).all() for side in sides):
                each.error = "its scores are NaN or infinite"
        return images

    def _read(self, block: Block, images: list[ImageScores]) -> tuple[list[ImageScores], list[np.ndarray]]:
        """The images that can be read, and their tensors for the compared classifier."""
        readable, other_tensors = [], []
        same = self.other is not None and self.classifier.reads_like(self.other)
        for place, each in enumerate(images):
            try:
                each.tensor = block.read(place, self.classifier)
                if self.other is not None:
                    other_tensors.append((each.tensor if same else block.read(place, self.other)).tensor)
                readable.append(each)
            except ImageError as fault:
                each.error = str(fault)
        return readable, other_tensors

    def _class_order(self) -> list[int]:
        """For each class of the first classifier its index in the compared one."""
        indices = {name: index for index, name in enumerate(self.other.labels)}
        return [indices[name] for name in self.classifier.labels]


def missing_of(images: Iterable[ImageScores]) -> tuple[str, ...]:
    """The names of files that are not there."""
    return tuple(each.path for each in images if each.error is not None and each.state.is_missing)


def _scores(classifier: Classifier, tensors: list[np.ndarray], images: list[ImageScores]) -> list[np.ndarray | None]:
    """A row of scores for each tensor. An artifact that holds its inlet may refuse one image, for instance one that is
    smaller than its crop: only that image gets an error. Raises EngineError for any other artifact."""
    if not tensors:
        return []
    try:
        return list(classifier.scores(tensors))
    except EngineError:
        if not classifier.raw:
            raise
    rows: list[np.ndarray | None] = []
    for tensor, each in zip(tensors, images):
        try:
            rows.append(classifier.scores([tensor])[0])
        except EngineError:
            height, width = tensor.shape[:2]
            each.error = (
                f"the artifact's own inlet cannot process it ({width} x {height} pixels; is it smaller than the crop?)"
            )
            rows.append(None)
    return rows
