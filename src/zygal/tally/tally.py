"""All metrics of a classifier on labelled images."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from zygal.errors import FileError, ImageError
from zygal.files.locations import joined as joined_path
from zygal.inlet.images import images_below
from zygal.machine.pool import Pool, ThreadPool
from zygal.prediction.blocks import blocks_of, map_blocks
from zygal.prediction.classifier import Classifier
from zygal.prediction.labelled import Joined
from zygal.statistics.intervals import Estimate, share_of
from zygal.tally.accuracy import Accuracy, accuracy_of
from zygal.tally.calibration import Calibration, calibration_of
from zygal.tally.duplicates import duplicate_pairs, is_sure
from zygal.tally.exchange import Exchange, exchanged_labels
from zygal.tally.multi_label import MultiLabelAccuracy, multi_label_accuracy
from zygal.tally.observe import FingerprintBlock, Observation, Observed, observe
from zygal.tally.paired import Paired, paired

Advance = Callable[[int], None]


@dataclass(frozen=True)
class Choices:
    """top: the k of the top-k accuracies. threshold: the probability from which a multi-label model assigns a label.
    margin: the loss of accuracy that still counts as not worse than the compared classifier. trained_on: folders of
    training images."""

    top: tuple[int, ...] = (1, 5)
    threshold: float = 0.5
    margin: float = 0.01
    trained_on: tuple[str, ...] = ()


@dataclass(frozen=True)
class Misclassified:
    """A wrong prediction. true, predicted: names of classes; several for a multi-label model. confidence: the
    probability of the predicted class. true_class_probability: None for a multi-label model."""

    path: str
    true: tuple[str, ...]
    predicted: tuple[str, ...]
    confidence: float
    true_class_probability: float | None
    group: str | None


@dataclass(frozen=True)
class Duplicates:
    """Pairs of paths that show the same picture. different_labels: under different labels. same_label: under the same
    label. in_training: a labelled image and a training image. doubtful: those of the pairs that may be two overlapping
    crops of one picture. training_images: how many training images were compared."""

    different_labels: tuple[tuple[str, str], ...]
    same_label: tuple[tuple[str, str], ...]
    in_training: tuple[tuple[str, str], ...]
    doubtful: tuple[tuple[str, str], ...] = ()
    training_images: int = 0


@dataclass(frozen=True)
class Tally:
    """accuracy: the share of correct predictions; for a multi-label model, of images whose labels are all correct.
    Either exclusive or multi_label is None. misclassified: the most confident first. other: the metrics of the compared
    classifier. groups: accuracy by group. without_images: classes of which no image was read."""

    images: int
    accuracy: Estimate
    exclusive: Accuracy | None
    multi_label: MultiLabelAccuracy | None
    calibration: Calibration
    groups: dict[str, Estimate]
    group_images: dict[str, int]
    misclassified: tuple[Misclassified, ...]
    unreadable: tuple[tuple[str, str], ...]
    joined: Joined
    exchange: Exchange | None
    duplicates: Duplicates
    other: Accuracy | MultiLabelAccuracy | None
    paired: Paired | None
    without_images: tuple[str, ...] = ()


def tally(
    classifier: Classifier,
    joined: Joined,
    choices: Choices = Choices(),
    other_classifier: Classifier | None = None,
    pool: Pool | None = None,
    advance: Advance = lambda more: None,
) -> Tally:
    """Runs all images and computes all metrics. Raises ImageError if no image can be read, and any ZygalError."""
    pool = pool or ThreadPool()
    observation = observe(classifier, joined, other_classifier, pool, advance)
    if not observation.indices:
        raise ImageError(
            f"none of the {len(observation.unreadable)} labelled images can be read (the first is "
            f"{observation.unreadable[0][0]}: {observation.unreadable[0][1]}); check the paths."
        )
    names = classifier.labels
    side, other = _Judged(observation.first, observation, joined, names, choices), None
    both = None
    if observation.other is not None:
        other = _Judged(observation.other, observation, joined, names, choices)
        both = paired(side.correct, other.correct, side.disagreements(other), choices.margin)
    groups = _groups(observation, joined, side.correct)
    return Tally(
        images=len(observation.indices),
        accuracy=share_of(int(side.correct.sum()), len(observation.indices)),
        exclusive=side.figures if side.exclusive else None,
        multi_label=None if side.exclusive else side.figures,
        calibration=side.calibration(),
        groups={name: share_of(int(correct.sum()), len(correct)) for name, correct in groups.items()},
        group_images={name: len(correct) for name, correct in groups.items()},
        misclassified=side.misclassified(),
        unreadable=tuple(observation.unreadable),
        joined=joined,
        exchange=exchanged_labels(side.figures.confusion, names) if side.exclusive else None,
        duplicates=_duplicates(classifier, observation, joined, choices, pool),
        other=other and other.figures,
        paired=both,
        without_images=_without_images(observation, joined, names),
    )


def _without_images(observation: Observation, joined: Joined, names: Sequence[str]) -> tuple[str, ...]:
    """The classes of which no image could be read, or there is none."""
    seen = {label for index in observation.indices for label in joined.truth[index]}
    return tuple(name for label, name in enumerate(names) if label not in seen)


class _Judged:
    """One classifier's predictions beside the true classes."""

    def __init__(
        self, observed: Observed, observation: Observation, joined: Joined, names: Sequence[str], choices: Choices
    ):
        self.observed, self.observation, self.joined, self.names = observed, observation, joined, names
        self.exclusive = not observed.probabilities
        self.confidence = np.array(observed.confidence)
        truth = [joined.truth[index] for index in observation.indices]
        if self.exclusive:
            self.truth, self.predicted = np.array([only for (only,) in truth]), np.array(observed.predicted)
            self.correct = self.predicted == self.truth
            self.figures = accuracy_of(
                self.truth,
                self.predicted,
                np.array(observed.rank),
                np.array(observed.truth_probability),
                names,
                choices.top,
            )
            return
        self.probabilities = np.array(observed.probabilities)
        self.truth = np.zeros(self.probabilities.shape, bool)
        for index, labels in enumerate(truth):
            self.truth[index, list(labels)] = True
        self.predicted = self.probabilities >= choices.threshold
        self.correct = (self.predicted == self.truth).all(axis=1)
        self.figures = multi_label_accuracy(self.truth, self.probabilities, names, choices.threshold)

    def disagreements(self, other: _Judged) -> int:
        apart = self.predicted != other.predicted
        return int((apart if self.exclusive else apart.any(axis=1)).sum())

    def calibration(self) -> Calibration:
        if self.exclusive:
            return calibration_of(self.confidence, self.correct)
        return calibration_of(self.probabilities.ravel(), self.truth.ravel())

    def misclassified(self) -> tuple[Misclassified, ...]:
        """The wrong predictions: the most confident first, or those with most wrong labels."""
        found = np.flatnonzero(~self.correct)
        weight = self.confidence if self.exclusive else (self.predicted != self.truth).sum(axis=1)
        return tuple(self._misclassified(index) for index in found[np.argsort(-weight[found], kind="stable")])

    def _misclassified(self, index: int) -> Misclassified:
        image = self.joined.images[self.observation.indices[index]]
        if self.exclusive:
            truth, predicted = (self.names[self.truth[index]],), (self.names[self.predicted[index]],)
        else:
            truth, predicted = (
                tuple(self.names[label] for label in np.flatnonzero(row[index])) for row in (self.truth, self.predicted)
            )
        probability = self.observed.truth_probability[index] if self.exclusive else None
        return Misclassified(image.path, truth, predicted, float(self.confidence[index]), probability, image.group)


def _groups(observation: Observation, joined: Joined, correct: np.ndarray) -> dict[str, np.ndarray]:
    """For each group, in the order of the names, whether each of its images is correct."""
    indices: dict[str, list[int]] = {}
    for row, index in enumerate(observation.indices):
        group = joined.images[index].group
        if group is not None:
            indices.setdefault(group, []).append(row)
    return {name: correct[indices[name]] for name in sorted(indices)}


def _duplicates(
    classifier: Classifier, observation: Observation, joined: Joined, choices: Choices, pool: Pool
) -> Duplicates:
    paths = [joined.images[index].path for index in observation.indices]
    truth = [joined.truth[index] for index in observation.indices]
    pairs = duplicate_pairs(observation.fingerprints)
    trained = [joined_path(folder, name) for folder in choices.trained_on for name in images_below(folder)]
    found = (each for block in map_blocks(pool, FingerprintBlock(classifier), blocks_of(trained)) for each in block)
    fingerprints = [(path, each) for path, each in zip(trained, found) if each is not None]
    if trained and not fingerprints:
        raise FileError(
            f"none of the {len(trained)} images of {', '.join(choices.trained_on)} can be read; check the path."
        )
    shared = duplicate_pairs(observation.fingerprints, [found for _, found in fingerprints])
    prints = observation.fingerprints
    doubtful = [(paths[i], paths[j]) for i, j in pairs if not is_sure(prints[i], prints[j])]
    doubtful += [(paths[i], fingerprints[j][0]) for i, j in shared if not is_sure(prints[i], fingerprints[j][1])]
    return Duplicates(
        different_labels=tuple((paths[i], paths[j]) for i, j in pairs if truth[i] != truth[j]),
        same_label=tuple((paths[i], paths[j]) for i, j in pairs if truth[i] == truth[j]),
        in_training=tuple((paths[i], fingerprints[j][0]) for i, j in shared),
        doubtful=tuple(doubtful),
        training_images=len(fingerprints),
    )
