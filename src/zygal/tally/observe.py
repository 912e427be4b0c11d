"""Runs a classifier over labelled images and keeps what the figures need, not the scores."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np

from zygal.prediction.classifier import Classifier
from zygal.prediction.stream import Seen, see_all
from zygal.tally.duplicates import Fingerprint, fingerprint
from zygal.tally.labelled import Joined


@dataclass
class Observed:
    """One entry an image that could be read: its place in the joined list, and what one classifier said.

    said: the class of the highest score. sure: its probability. truth_probability, rank: of the true class, 0 the highest.
    probabilities: [images, classes], kept only where an image may have several labels.
    """

    said: list[int] = field(default_factory=list)
    sure: list[float] = field(default_factory=list)
    truth_probability: list[float] = field(default_factory=list)
    rank: list[int] = field(default_factory=list)
    probabilities: list[np.ndarray] = field(default_factory=list)


@dataclass
class Observation:
    """places: of the images that could be read, in the joined list; mine and other in the same order. unread: path and
    reason."""

    places: list[int]
    mine: Observed
    other: Observed | None
    fingerprints: list[Fingerprint]
    unreadable: list[tuple[str, str]]


def observe(
    classifier: Classifier,
    joined: Joined,
    beside: Classifier | None = None,
    threads: int | None = None,
    advance: Callable[[int], None] = lambda more: None,
) -> Observation:
    """Runs all images. Raises EngineError."""
    found = Observation([], Observed(), Observed() if beside else None, [], [])
    several, place = classifier.multi_label, 0
    paths = (image.path for image in joined.images)
    for block in see_all(paths, classifier, _with_fingerprints, beside, threads):
        for seen, mark in block:
            if seen.fault is not None:
                found.unreadable.append((seen.path, seen.fault))
            else:
                found.places.append(place)
                found.fingerprints.append(mark)
                truth = joined.truth[place]
                _keep(found.mine, seen.scores, seen.probabilities, truth, several)
                if found.other is not None:
                    _keep(found.other, seen.beside_scores, seen.beside_probabilities, truth, several)
            place += 1
        advance(len(block))
    return found


def _with_fingerprints(block: list[Seen]) -> list[tuple[Seen, Fingerprint | None]]:
    made = [(each, fingerprint(each.fed.pixels) if each.fault is None else None) for each in block]
    for each in block:
        # The picture is not needed any more.
        each.fed = None
    return made


def _keep(into: Observed, scores: np.ndarray, probabilities: np.ndarray, truth: Sequence[int], several: bool) -> None:
    said = int(scores.argmax())
    into.said.append(said)
    into.sure.append(float(probabilities[said]))
    if several:
        into.probabilities.append(probabilities)
        return
    (true,) = truth
    into.truth_probability.append(float(probabilities[true]))
    # Of equal scores the first class comes first, as argmax has it.
    into.rank.append(int((scores > scores[true]).sum() + (scores[:true] == scores[true]).sum()))
