"""What a classifier predicts for one image: the classes with the highest scores, and whether the prediction is
uncertain."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from zygal.prediction.classifier import Classifier
from zygal.prediction.stream import ImageScores


@dataclass(frozen=True)
class Thresholds:
    """A prediction is uncertain if its probability is below min_probability, or if its probability exceeds that of the
    second class by less than min_margin. A multi-label model assigns the labels whose probability is at least `label`;
    an image without a label is uncertain."""

    min_probability: float = 0.5
    min_margin: float = 0.1
    label: float = 0.5


@dataclass(frozen=True)
class RankedClass:
    """A class with its score as the model gave it, and its probability."""

    name: str
    score: float
    probability: float


@dataclass(frozen=True)
class Prediction:
    """top: the classes with the highest scores, highest first. margin: first probability minus second. labels: those
    that a multi-label model assigns. other: the first class of the compared classifier. error: why there is no
    prediction."""

    path: str
    error: str | None = None
    top: tuple[RankedClass, ...] = ()
    margin: float | None = None
    uncertain: bool | None = None
    labels: tuple[str, ...] | None = None
    other: RankedClass | None = None
    other_labels: tuple[str, ...] | None = None

    @property
    def disagree(self) -> bool | None:
        """Whether the compared classifier predicts something else; None if there is none, or no prediction."""
        if self.other is None:
            return None
        if self.labels is not None:
            return self.labels != self.other_labels
        return self.other.name != self.top[0].name


def predictions_of(
    images: Iterable[ImageScores], classifier: Classifier, thresholds: Thresholds, top: int
) -> list[Prediction]:
    """The predictions, each with at most `top` classes."""
    return [_prediction(each, classifier, thresholds, top) for each in images]


def _prediction(image: ImageScores, classifier: Classifier, thresholds: Thresholds, top: int) -> Prediction:
    if image.error is not None:
        return Prediction(image.path, image.error)
    names, probabilities = classifier.labels, image.probabilities
    # Of equal scores the first class comes first, as argmax has it.
    order = np.argsort(-image.scores, kind="stable")
    ranked = tuple(RankedClass(names[i], float(image.scores[i]), float(probabilities[i])) for i in order[:top])
    first = float(probabilities[order[0]])
    margin = first - float(probabilities[order[1]]) if len(order) > 1 else first
    other = other_labels = labels = None
    if image.other_scores is not None:
        index = int(image.other_scores.argmax())
        other = RankedClass(names[index], float(image.other_scores[index]), float(image.other_probabilities[index]))
    if classifier.multi_label:
        labels = _assigned(probabilities, names, thresholds)
        if other is not None:
            other_labels = _assigned(image.other_probabilities, names, thresholds)
        uncertain = not labels
    else:
        uncertain = first < thresholds.min_probability or margin < thresholds.min_margin
    return Prediction(image.path, None, ranked, margin, uncertain, labels, other, other_labels)


def _assigned(probabilities: np.ndarray, names: tuple[str, ...], thresholds: Thresholds) -> tuple[str, ...]:
    return tuple(name for name, probability in zip(names, probabilities) if probability >= thresholds.label)
