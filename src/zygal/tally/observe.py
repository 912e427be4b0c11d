"""Runs a classifier over labelled images and keeps what the metrics need, not the scores."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from zygal.pool import Pool
from zygal.prediction.classifier import Classifier
from zygal.prediction.stream import ImageScores, score_all
from zygal.tally.duplicates import Fingerprint, fingerprint
from zygal.tally.labelled import Joined


@dataclass
class Observed:
    """What one classifier predicts, one entry for each image that could be read.

    predicted: the class with the highest score. confidence: its probability. truth_probability, rank: of the true class, rank
    0 the highest score. probabilities: [images, classes], kept only for multi-label models.
    """

    predicted: list[int] = field(default_factory=list)
    confidence: list[float] = field(default_factory=list)
    truth_probability: list[float] = field(default_factory=list)
    rank: list[int] = field(default_factory=list)
    probabilities: list[np.ndarray] = field(default_factory=list)


@dataclass
class Observation:
    """indices: of the images that could be read, in the joined list; first and other are in the same order. unreadable: (path,
    reason)."""

    indices: list[int]
    first: Observed
    other: Observed | None
    fingerprints: list[Fingerprint]
    unreadable: list[tuple[str, str]]


def observe(
    classifier: Classifier,
    joined: Joined,
    other_classifier: Classifier | None = None,
    pool: Pool | None = None,
    advance: Callable[[int], None] = lambda more: None,
) -> Observation:
    """Runs all images. Raises EngineError."""
    found = Observation([], Observed(), Observed() if other_classifier else None, [], [])
    several, index = classifier.multi_label, 0
    paths = (image.path for image in joined.images)
    for block in score_all(paths, classifier, _with_fingerprints, other_classifier, pool):
        for image, print_ in block:
            if image.error is not None:
                found.unreadable.append((image.path, image.error))
            else:
                found.indices.append(index)
                found.fingerprints.append(print_)
                truth = joined.truth[index]
                _keep(found.first, image.scores, image.probabilities, truth, several)
                if found.other is not None:
                    _keep(found.other, image.other_scores, image.other_probabilities, truth, several)
            index += 1
        advance(len(block))
    return found


def _with_fingerprints(block: list[ImageScores]) -> list[tuple[ImageScores, Fingerprint | None]]:
    made = [(each, fingerprint(each.tensor.pixels) if each.error is None else None) for each in block]
    for each in block:
        # The pixels are not needed any more.
        each.tensor = None
    return made


def _keep(into: Observed, scores: np.ndarray, probabilities: np.ndarray, truth: Sequence[int], several: bool) -> None:
    predicted = int(scores.argmax())
    into.predicted.append(predicted)
    into.confidence.append(float(probabilities[predicted]))
    if several:
        into.probabilities.append(probabilities)
        return
    (true,) = truth
    into.truth_probability.append(float(probabilities[true]))
    # Of equal scores the first class comes first, as argmax has it.
    into.rank.append(int((scores > scores[true]).sum() + (scores[:true] == scores[true]).sum()))
