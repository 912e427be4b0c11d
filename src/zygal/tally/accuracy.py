"""Metrics of a classifier whose classes exclude each other."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.statistics.intervals import Estimate, mean_of_shares, mean_with_error, share_of


@dataclass(frozen=True)
class ClassMetrics:
    """Metrics of one class. support: images of the class. predicted: images predicted as the class. correct: both.
    precision and f1 are 0 where they would be 0 / 0; recall is None without images of the class."""

    name: str
    support: int
    predicted: int
    correct: int
    precision: float
    recall: float | None
    f1: float
    recall_interval: Estimate | None


@dataclass(frozen=True)
class ConfusedPair:
    """count: images of true_class that are predicted as `predicted`. share: of the images of true_class."""

    true_class: str
    predicted: str
    count: int
    share: float


@dataclass(frozen=True)
class Accuracy:
    """top: by k, the share of images whose true class is among the k highest scores. balanced: mean recall. confusion:
    counts [true class, predicted class]. cross_entropy: in nats; probabilities below 2.2e-16 count as that. macro:
    means over the classes that occur."""

    images: int
    top: dict[int, Estimate]
    balanced: Estimate
    cross_entropy: Estimate
    macro_precision: float
    macro_recall: float
    macro_f1: float
    classes: tuple[ClassMetrics, ...]
    confusion: np.ndarray
    pairs: tuple[ConfusedPair, ...]


def accuracy_of(
    truth: np.ndarray,
    predicted: np.ndarray,
    rank: np.ndarray,
    truth_probability: np.ndarray,
    names: Sequence[str],
    top: Sequence[int],
) -> Accuracy:
    """All metrics. truth, predicted, rank: [images] integers, rank 0 the highest score. truth_probability: [images].
    top: the k of the top-k accuracies."""
    count, classes = len(truth), len(names)
    confusion = np.zeros((classes, classes), np.int64)
    np.add.at(confusion, (truth, predicted), 1)
    figures = class_metrics(confusion, names)
    present = [each for each in figures if each.support]
    occurring = [each for each in figures if each.support or each.predicted]
    smallest = np.finfo(np.float64).eps
    losses = -np.log(np.clip(truth_probability, smallest, 1 - smallest))
    deviation = float(losses.std(ddof=1)) if count > 1 else math.nan
    return Accuracy(
        images=count,
        top={k: share_of(int((rank < k).sum()), count) for k in top},
        balanced=mean_of_shares(
            [each.recall_interval for each in present], float(np.mean([each.recall for each in present]))
        ),
        cross_entropy=mean_with_error(float(np.average(losses)), deviation, count, least=0.0),
        macro_precision=float(np.average([each.precision for each in occurring])),
        macro_recall=float(np.average([each.recall or 0.0 for each in occurring])),
        macro_f1=float(np.average([each.f1 for each in occurring])),
        classes=figures,
        confusion=confusion,
        pairs=_pairs(confusion, names),
    )


def class_metrics(confusion: np.ndarray, names: Sequence[str]) -> tuple[ClassMetrics, ...]:
    """The metrics of each class, from counts [true class, predicted class]."""
    figures = []
    for index, name in enumerate(names):
        support, predicted = int(confusion[index].sum()), int(confusion[:, index].sum())
        correct = int(confusion[index, index])
        figures.append(
            ClassMetrics(
                name,
                support,
                predicted,
                correct,
                precision=correct / predicted if predicted else 0.0,
                recall=correct / support if support else None,
                f1=2 * correct / (support + predicted) if support + predicted else 0.0,
                recall_interval=share_of(correct, support) if support else None,
            )
        )
    return tuple(figures)


def _pairs(confusion: np.ndarray, names: Sequence[str]) -> tuple[ConfusedPair, ...]:
    errors = confusion.copy()
    np.fill_diagonal(errors, 0)
    support = confusion.sum(axis=1)
    found = [
        ConfusedPair(names[i], names[j], int(errors[i, j]), float(errors[i, j] / support[i]))
        for i, j in np.argwhere(errors)
    ]
    return tuple(sorted(found, key=lambda pair: (-pair.count, -pair.share, pair.true_class, pair.predicted)))
