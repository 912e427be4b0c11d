"""Figures of a classifier whose classes exclude each other."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.tally.intervals import Estimate, mean_of_shares, mean_with_error, share_of


@dataclass(frozen=True)
class ClassFigures:
    """Of one class: support, how many images are of it; predicted, how many were taken for it. precision and F1 are 0 where
    nothing was taken for it and nothing is of it."""

    name: str
    support: int
    predicted: int
    right: int
    precision: float
    recall: float | None
    f1: float
    recall_interval: Estimate | None


@dataclass(frozen=True)
class ConfusedPair:
    """How many images of one class were taken for another, and which part of that class they are."""

    truth: str
    said: str
    count: int
    part: float


@dataclass(frozen=True)
class Accuracy:
    """top: the share of images whose true class is among the k highest, by k. confusion: [true class, said class], counts.
    cross_entropy: in nats; probabilities below 2.2e-16 count as that. macro: means over the classes that occur."""

    images: int
    top: dict[int, Estimate]
    balanced: Estimate
    cross_entropy: Estimate
    macro_precision: float
    macro_recall: float
    macro_f1: float
    classes: tuple[ClassFigures, ...]
    confusion: np.ndarray
    pairs: tuple[ConfusedPair, ...]


def accuracy_of(
    truth: np.ndarray, said: np.ndarray, rank: np.ndarray, truth_probability: np.ndarray, names: Sequence[str],
    tops: Sequence[int],
) -> Accuracy:  # fmt: skip
    """All figures; truth, said, rank: [images] integers, truth_probability: [images]."""
    count, classes = len(truth), len(names)
    confusion = np.zeros((classes, classes), np.int64)
    np.add.at(confusion, (truth, said), 1)
    figures = class_figures(confusion, names)
    present = [each for each in figures if each.support]
    occurring = [each for each in figures if each.support or each.predicted]
    smallest = np.finfo(np.float64).eps
    losses = -np.log(np.clip(truth_probability, smallest, 1 - smallest))
    deviation = float(losses.std(ddof=1)) if count > 1 else math.nan
    return Accuracy(
        images=count,
        top={k: share_of(int((rank < k).sum()), count) for k in tops},
        balanced=mean_of_shares(
            [each.recall_interval for each in present], float(np.mean([each.recall for each in present]))
        ),
        cross_entropy=mean_with_error(float(np.average(losses)), deviation, count),
        macro_precision=float(np.average([each.precision for each in occurring])),
        macro_recall=float(np.average([each.recall or 0.0 for each in occurring])),
        macro_f1=float(np.average([each.f1 for each in occurring])),
        classes=figures,
        confusion=confusion,
        pairs=_pairs(confusion, names),
    )


def class_figures(confusion: np.ndarray, names: Sequence[str]) -> tuple[ClassFigures, ...]:
    """Of each class, from counts [true class, said class]."""
    figures = []
    for place, name in enumerate(names):
        support, predicted = int(confusion[place].sum()), int(confusion[:, place].sum())
        right = int(confusion[place, place])
        figures.append(ClassFigures(
            name, support, predicted, right,
            precision=right / predicted if predicted else 0.0,
            recall=right / support if support else None,
            f1=2 * right / (support + predicted) if support + predicted else 0.0,
            recall_interval=share_of(right, support) if support else None,
        ))  # fmt: skip
    return tuple(figures)


def _pairs(confusion: np.ndarray, names: Sequence[str]) -> tuple[ConfusedPair, ...]:
    wrong = confusion.copy()
    np.fill_diagonal(wrong, 0)
    support = confusion.sum(axis=1)
    found = [
        ConfusedPair(names[i], names[j], int(wrong[i, j]), float(wrong[i, j] / support[i]))
        for i, j in np.argwhere(wrong)
    ]
    return tuple(sorted(found, key=lambda pair: (-pair.count, -pair.part, pair.truth, pair.said)))


@dataclass(frozen=True)
class Exchange:
    """Labels that look exchanged: what the true classes are taken for, how many images that makes right, and how many now.
    shift: by how many places the labels are off, if they all are by as many."""

    taken_for: dict[str, str]
    right_then: int
    right_now: int
    shift: int | None


def exchanged_labels(confusion: np.ndarray, names: Sequence[str]) -> Exchange | None:
    """Looks for another assignment of names to outputs that explains the answers: each class is mostly taken for one other
    one, no two for the same, and at least half of the images are right under it, twice as many as now."""
    present = np.flatnonzero(confusion.sum(axis=1))
    targets = confusion[present].argmax(axis=1)
    right_now, right_then = int(np.trace(confusion)), int(confusion[present, targets].sum())
    moved = present != targets
    if len(set(targets.tolist())) < len(targets) or not moved.any():
        return None
    if right_then < 2 * right_now or 2 * right_then < confusion.sum():
        return None
    shifts = set(((targets - present) % len(names)).tolist())
    shift = shifts.pop() if len(shifts) == 1 else None
    if shift is not None and shift > len(names) // 2:
        shift -= len(names)
    return Exchange({names[i]: names[j] for i, j in zip(present[moved], targets[moved])}, right_then, right_now, shift)
