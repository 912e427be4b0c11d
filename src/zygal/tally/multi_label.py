"""Figures of a classifier that may give an image several labels, or none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.statistics.intervals import Estimate, share_of


@dataclass(frozen=True)
class LabelMetrics:
    """Of one label. average_precision: the area under precision over recall, in steps; None without an image of it."""

    name: str
    support: int
    predicted: int
    correct: int
    precision: float
    recall: float
    f1: float
    average_precision: float | None


@dataclass(frozen=True)
class Averages:
    """micro: over all pairs of image and label. macro: over the labels. samples: over the images. Each precision,
    recall, F1."""

    micro: tuple[float, float, float]
    macro: tuple[float, float, float]
    samples: tuple[float, float, float]


@dataclass(frozen=True)
class MultiLabelAccuracy:
    """exact: the share of images whose labels are all right. wrong_part: the share of pairs of image and label that are
    wrong (Hamming loss). best_threshold, best_f1: the one threshold that gives the highest micro F1 on these very
    images."""

    images: int
    threshold: float
    exact_match: Estimate
    hamming_loss: float
    averages: Averages
    labels: tuple[LabelMetrics, ...]
    best_threshold: float
    best_f1: float


def multi_label_accuracy(
    truth: np.ndarray, probabilities: np.ndarray, names: Sequence[str], threshold: float
) -> MultiLabelAccuracy:
    """truth: [images, labels] of bool; probabilities: [images, labels]; a label is given from the threshold on."""
    given = probabilities >= threshold
    both = truth & given
    labels = tuple(
        LabelMetrics(
            name,
            int(true),
            int(predicted),
            int(correct),
            *_metrics(correct, predicted, true),
            average_precision(truth[:, i], probabilities[:, i]),
        )
        for i, (name, correct, predicted, true) in enumerate(zip(names, both.sum(0), given.sum(0), truth.sum(0)))
    )
    rows = np.array([_metrics(*each) for each in zip(both.sum(1), given.sum(1), truth.sum(1))])
    columns = np.array([(each.precision, each.recall, each.f1) for each in labels])
    best_threshold, best_f1 = _best_threshold(truth, probabilities)
    return MultiLabelAccuracy(
        images=len(truth),
        threshold=threshold,
        exact_match=share_of(int((truth == given).all(axis=1).sum()), len(truth)),
        hamming_loss=float(np.mean(truth != given)),
        averages=Averages(
            _metrics(both.sum(), given.sum(), truth.sum()),
            tuple(float(np.average(column)) for column in columns.T),
            tuple(float(np.average(column)) for column in rows.T),
        ),
        labels=labels,
        best_threshold=best_threshold,
        best_f1=best_f1,
    )


def average_precision(truth: np.ndarray, probability: np.ndarray) -> float | None:
    """The sum of precisions, each times the recall that its step adds (Zhu, "Recall, precision and average precision",
    2004); equal probabilities are one step."""
    total = int(truth.sum())
    if not total:
        return None
    order = np.argsort(-probability, kind="stable")
    hits = np.cumsum(truth[order])
    ends = np.append(np.flatnonzero(np.diff(probability[order])), len(order) - 1)
    precision, recall = hits[ends] / (ends + 1), hits[ends] / total
    return float(np.sum(np.diff(recall, prepend=0.0) * precision))


def _metrics(both: int, given: int, true: int) -> tuple[float, float, float]:
    """Precision, recall and F1; 0 where there is nothing to divide by."""
    precision = both / given if given else 0.0
    recall = both / true if true else 0.0
    return float(precision), float(recall), float(2 * both / (given + true)) if given + true else 0.0


def _best_threshold(truth: np.ndarray, probabilities: np.ndarray) -> tuple[float, float]:
    flat, true = probabilities.ravel(), truth.ravel()
    order = np.argsort(-flat, kind="stable")
    hits = np.cumsum(true[order])
    ends = np.append(np.flatnonzero(np.diff(flat[order])), len(order) - 1)
    f1 = 2 * hits[ends] / (ends + 1 + true.sum())
    best = int(f1.argmax())
    return float(flat[order][ends[best]]), float(f1[best])
