"""Many files through a classifier: reading and inference side by side, answers in the order of the files."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from itertools import islice
from typing import TypeVar

import numpy as np

from zygal.prediction.classifier import BATCH, Classifier
from zygal.errors import EngineError, ImageError
from zygal.inlet.apply import InletTensor
from zygal.processor import ahead, allowed_cores

Made = TypeVar("Made")


@dataclass
class Seen:
    """One file. scores, probabilities: [classes], and those of the other classifier in the first one's order of classes;
    None if there is a fault, which says why it has no answer."""

    path: str
    fault: str | None = None
    fed: InletTensor | None = None
    scores: np.ndarray | None = None
    probabilities: np.ndarray | None = None
    beside_scores: np.ndarray | None = None
    beside_probabilities: np.ndarray | None = None


def see_all(
    paths: Iterable[str],
    classifier: Classifier,
    finish: Callable[[list[Seen]], Made],
    beside: Classifier | None = None,
    threads: int | None = None,
) -> Iterator[Made]:
    """What `finish` makes of each block of files, in their order; it runs in the threads too. Raises EngineError.

    Every thread reads a block of files and runs it as one batch on one core, so all cores (or as many as `threads`) are at
    work whatever reading and inference cost, and the numbers do not depend on how many there are. Blocks begin at every
    eighth file, so they are the same blocks whoever begins later in the list.
    """
    seer = _Seer(classifier, beside)
    return ahead(lambda block: finish(seer.see(block)), _blocks(paths), threads or allowed_cores())


class _Seer:
    def __init__(self, classifier: Classifier, beside: Classifier | None):
        self.classifier, self.beside = classifier, beside
        if beside is not None:
            self.shares = classifier.reads_like(beside)
            places = {name: place for place, name in enumerate(beside.labels)}
            self.order = [places[name] for name in classifier.labels]

    def see(self, block: list[str]) -> list[Seen]:
        seen = [Seen(path) for path in block]
        fed, others = [], []
        for each in seen:
            try:
                each.fed = self.classifier.read(each.path)
                if self.beside is not None:
                    others.append((each.fed if self.shares else self.beside.read(each.path)).tensor)
                fed.append(each)
            except ImageError as fault:
                each.fault = _without_path(str(fault), each.path)
        mine = _scores(self.classifier, [each.fed.tensor for each in fed], fed)
        theirs = _scores(self.beside, others, fed) if self.beside is not None else None
        kept = [place for place, each in enumerate(fed) if each.fault is None]
        if kept:
            scores = np.stack([mine[place] for place in kept])
            for place, row, probabilities in zip(kept, scores, self.classifier.probabilities(scores)):
                fed[place].scores, fed[place].probabilities = row, probabilities
            if theirs is not None:
                scores = np.stack([theirs[place] for place in kept])[:, self.order]
                for place, row, probabilities in zip(kept, scores, self.beside.probabilities(scores)):
                    fed[place].beside_scores, fed[place].beside_probabilities = row, probabilities
        for each in seen:
            sides = [side for side in (each.probabilities, each.beside_probabilities) if side is not None]
            if not all(np.isfinite(side).all() for side in sides):
                each.fault = "its scores are not numbers"
        return seen


def _scores(side: Classifier, tensors: list[np.ndarray], seen: list[Seen]) -> list[np.ndarray | None]:
    """A row of scores for each tensor. An artifact that holds its inlet may not take an image, which is smaller than its
    crop for instance: that is the fault of that image alone. Raises EngineError for any other artifact."""
    if not tensors:
        return []
    try:
        return list(side.scores(tensors))
    except EngineError:
        if not side.raw:
            raise
    rows: list[np.ndarray | None] = []
    for tensor, each in zip(tensors, seen):
        try:
            rows.append(side.scores([tensor])[0])
        except EngineError:
            height, width = tensor.shape[:2]
            each.fault = f"cannot pass the artifact's own inlet ({width} x {height} pixels; is it smaller than its crop?)"
            rows.append(None)
    return rows


def _blocks(paths: Iterable[str]) -> Iterator[list[str]]:
    paths = iter(paths)
    while block := list(islice(paths, BATCH)):
        yield block


def _without_path(sentence: str, path: str) -> str:
    """A sentence about a file, for a row that names the file already."""
    return sentence.removeprefix(path).strip().rstrip(".")
