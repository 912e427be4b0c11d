"""What is said about one image: the classes that score highest, and whether the answer is sure."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from zygal.prediction.classifier import Classifier
from zygal.prediction.stream import Seen


@dataclass(frozen=True)
class Limits:
    """An answer is unsure if its probability is below `probability` or it leads the second by less than `lead`. Of several
    labels those are given that reach `threshold`; an image that none reaches is unsure."""

    probability: float = 0.5
    lead: float = 0.1
    threshold: float = 0.5


@dataclass(frozen=True)
class Ranked:
    """A class with its score as the model gave it and its probability."""

    name: str
    score: float
    probability: float


@dataclass(frozen=True)
class Prediction:
    """top: the highest scores first. lead: by how much the first probability exceeds the second. given: of a model with
    several labels those that it gives. beside: what the other classifier puts first."""

    path: str
    fault: str | None = None
    top: tuple[Ranked, ...] = ()
    lead: float | None = None
    unsure: bool | None = None
    given: tuple[str, ...] | None = None
    beside: Ranked | None = None
    beside_given: tuple[str, ...] | None = None

    @property
    def disagrees(self) -> bool | None:
        """Whether the other classifier says something else; None if there is none, or no answer."""
        if self.beside is None:
            return None
        if self.given is not None:
            return self.given != self.beside_given
        return self.beside.name != self.top[0].name


def predictions_of(seen: Iterable[Seen], classifier: Classifier, limits: Limits, most: int) -> list[Prediction]:
    """What is said about each image, with at most so many classes each."""
    return [_answer(each, classifier, limits, most) for each in seen]


def _answer(seen: Seen, classifier: Classifier, limits: Limits, most: int) -> Prediction:
    if seen.fault is not None:
        return Prediction(seen.path, seen.fault)
    names, probabilities = classifier.labels, seen.probabilities
    # Of equal scores the first class comes first, as training code has it.
    order = np.argsort(-seen.scores, kind="stable")
    top = tuple(Ranked(names[i], float(seen.scores[i]), float(probabilities[i])) for i in order[:most])
    first = float(probabilities[order[0]])
    lead = first - float(probabilities[order[1]]) if len(order) > 1 else first
    beside = beside_given = given = None
    if seen.beside_scores is not None:
        other = int(seen.beside_scores.argmax())
        beside = Ranked(names[other], float(seen.beside_scores[other]), float(seen.beside_probabilities[other]))
    if classifier.multi_label:
        given = _given(probabilities, names, limits)
        if beside is not None:
            beside_given = _given(seen.beside_probabilities, names, limits)
        unsure = not given
    else:
        unsure = first < limits.probability or lead < limits.lead
    return Prediction(seen.path, None, top, lead, unsure, given, beside, beside_given)


def _given(probabilities: np.ndarray, names: tuple[str, ...], limits: Limits) -> tuple[str, ...]:
    return tuple(name for name, probability in zip(names, probabilities) if probability >= limits.threshold)
