"""The whole tally of a classifier on labelled images."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from zygal.prediction.classifier import Classifier
from zygal.errors import FileError, ImageError
from zygal.evidence.images import list_images
from zygal.processor import ahead, allowed_cores
from zygal.tally.accuracy import Accuracy, Exchange, accuracy_of, exchanged_labels
from zygal.tally.duplicates import Fingerprint, fingerprint, duplicate_pairs
from zygal.tally.calibration import Calibration, calibration_of
from zygal.tally.intervals import Estimate, share_of
from zygal.tally.labelled import Joined
from zygal.tally.observe import Observation, Observed, observe
from zygal.tally.paired import Paired, paired
from zygal.tally.multi_label import MultiLabelAccuracy, multi_label_accuracy

Advance = Callable[[int], None]


@dataclass(frozen=True)
class Choices:
    """tops: the k of the top-k shares. threshold: from which probability on one of several labels is given. margin: the loss
    of accuracy beside another classifier that still counts as equally good. trained_on: folders that the model learnt from."""

    tops: tuple[int, ...] = (1, 5)
    threshold: float = 0.5
    margin: float = 0.01
    trained_on: tuple[str, ...] = ()
    threads: int | None = None


@dataclass(frozen=True)
class WrongImage:
    """truth, said: names of classes. probability: of what was said; truth_probability: of what it is (of the exclusive classes)."""

    path: str
    truth: tuple[str, ...]
    said: tuple[str, ...]
    probability: float
    truth_probability: float | None
    group: str | None


@dataclass(frozen=True)
class Duplicates:
    """two_labels: pictures that are the same and labelled otherwise. repeated: the same under the same
    labels. shared: pictures that are also in what the model learnt from, with where."""

    two_labels: tuple[tuple[str, str], ...]
    repeated: tuple[tuple[str, str], ...]
    shared: tuple[tuple[str, str], ...]


@dataclass(frozen=True)
class Tally:
    """right: the share of images answered rightly (all labels right, where there may be several). One of exclusive and several
    is there. wrong: the surest first. other: the same figures of the classifier beside it."""

    images: int
    right: Estimate
    exclusive: Accuracy | None
    several: MultiLabelAccuracy | None
    calibration: Calibration
    groups: dict[str, Estimate]
    group_images: dict[str, int]
    wrong: tuple[WrongImage, ...]
    unreadable: tuple[tuple[str, str], ...]
    joined: Joined
    exchanged: Exchange | None
    doubts: Duplicates
    other: Accuracy | MultiLabelAccuracy | None
    paired: Paired | None


def tally(
    classifier: Classifier,
    joined: Joined,
    choices: Choices = Choices(),
    beside: Classifier | None = None,
    advance: Advance = lambda more: None,
) -> Tally:
    """Runs all images and works out every figure. Raises ImageError if not one can be read, and any ZygalError."""
    seen = observe(classifier, joined, beside, choices.threads, advance)
    if not seen.places:
        raise ImageError(
            f"none of the {len(seen.unreadable)} labelled images can be read (the first is {seen.unreadable[0][0]}: "
            f"{seen.unreadable[0][1]}); check the paths."
        )
    names = classifier.labels
    side, other = _Side(seen.mine, seen, joined, names, choices), None
    both = None
    if seen.other is not None:
        other = _Side(seen.other, seen, joined, names, choices)
        both = paired(side.right, other.right, side.differing(other), choices.margin)
    groups = _groups(seen, joined, side.right)
    return Tally(
        images=len(seen.places),
        right=share_of(int(side.right.sum()), len(seen.places)),
        exclusive=side.figures if side.exclusive else None,
        several=None if side.exclusive else side.figures,
        calibration=side.calibration(),
        groups={name: share_of(int(right.sum()), len(right)) for name, right in groups.items()},
        group_images={name: len(right) for name, right in groups.items()},
        wrong=side.wrong(),
        unreadable=tuple(seen.unreadable),
        joined=joined,
        exchanged=exchanged_labels(side.figures.confusion, names) if side.exclusive else None,
        doubts=_doubts(classifier, seen, joined, choices),
        other=other and other.figures,
        paired=both,
    )


class _Side:
    """One classifier's answers with the truth."""

    def __init__(self, observed: Observed, seen: Observation, joined: Joined, names: Sequence[str], choices: Choices):
        self.observed, self.seen, self.joined, self.names = observed, seen, joined, names
        self.exclusive = not observed.probabilities
        self.sure = np.array(observed.sure)
        truth = [joined.truth[place] for place in seen.places]
        if self.exclusive:
            self.truth, self.said = np.array([only for (only,) in truth]), np.array(observed.said)
            self.right = self.said == self.truth
            self.figures = accuracy_of(self.truth, self.said, np.array(observed.rank),
                                       np.array(observed.truth_probability), names, choices.tops)  # fmt: skip
            return
        self.probabilities = np.array(observed.probabilities)
        self.truth = np.zeros(self.probabilities.shape, bool)
        for place, labels in enumerate(truth):
            self.truth[place, list(labels)] = True
        self.said = self.probabilities >= choices.threshold
        self.right = (self.said == self.truth).all(axis=1)
        self.figures = multi_label_accuracy(self.truth, self.probabilities, names, choices.threshold)

    def differing(self, other: _Side) -> int:
        apart = self.said != other.said
        return int((apart if self.exclusive else apart.any(axis=1)).sum())

    def calibration(self) -> Calibration:
        if self.exclusive:
            return calibration_of(self.sure, self.right)
        return calibration_of(self.probabilities.ravel(), self.truth.ravel())

    def wrong(self) -> tuple[WrongImage, ...]:
        """The wrong ones; first those that were surest, or that have most labels wrong."""
        found = np.flatnonzero(~self.right)
        weight = self.sure if self.exclusive else (self.said != self.truth).sum(axis=1)
        return tuple(self._wrong(place) for place in found[np.argsort(-weight[found], kind="stable")])

    def _wrong(self, place: int) -> WrongImage:
        image = self.joined.images[self.seen.places[place]]
        if self.exclusive:
            truth, said = (self.names[self.truth[place]],), (self.names[self.said[place]],)
        else:
            truth, said = (
                tuple(self.names[label] for label in np.flatnonzero(row[place])) for row in (self.truth, self.said)
            )
        probability = self.observed.truth_probability[place] if self.exclusive else None
        return WrongImage(image.path, truth, said, float(self.sure[place]), probability, image.group)


def _groups(seen: Observation, joined: Joined, right: np.ndarray) -> dict[str, np.ndarray]:
    """Which images of each group are right, the groups in the order of their names."""
    places: dict[str, list[int]] = {}
    for at, place in enumerate(seen.places):
        group = joined.images[place].group
        if group is not None:
            places.setdefault(group, []).append(at)
    return {name: right[places[name]] for name in sorted(places)}


def _doubts(classifier: Classifier, seen: Observation, joined: Joined, choices: Choices) -> Duplicates:
    paths = [joined.images[place].path for place in seen.places]
    truth = [joined.truth[place] for place in seen.places]
    alike = duplicate_pairs(seen.fingerprints)
    learnt = [str(Path(folder) / name) for folder in choices.trained_on for name in list_images(folder)]
    threads = choices.threads or allowed_cores()
    marks = [
        (path, mark)
        for path, mark in zip(learnt, ahead(partial(_mark, classifier), learnt, threads))
        if mark is not None
    ]
    if learnt and not marks:
        raise FileError(
            f"none of the {len(learnt)} images of {', '.join(choices.trained_on)} can be read; check the path."
        )
    shared = duplicate_pairs(seen.fingerprints, [mark for _, mark in marks])
    return Duplicates(
        two_labels=tuple((paths[i], paths[j]) for i, j in alike if truth[i] != truth[j]),
        repeated=tuple((paths[i], paths[j]) for i, j in alike if truth[i] == truth[j]),
        shared=tuple((paths[i], marks[j][0]) for i, j in shared),
    )


def _mark(classifier: Classifier, path: str) -> Fingerprint | None:
    try:
        return fingerprint(classifier.read(path).pixels)
    except ImageError:
        return None
