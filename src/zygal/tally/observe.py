"""Runs a classifier over labelled images and keeps what the metrics need, not the scores."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, fields, replace

import numpy as np

from zygal.errors import ImageError
from zygal.machine.pool import Pool
from zygal.prediction.blocks import Block, OfBlock, blocks_of, map_blocks
from zygal.prediction.classifier import Classifier
from zygal.prediction.labelled import Joined
from zygal.prediction.stream import ScoreBlock, missing_of
from zygal.tally.duplicates import Fingerprint, fingerprint


@dataclass
class Observed:
    """What one classifier predicts, one entry for each image that could be read.

    predicted: the class with the highest score. confidence: its probability. truth_probability, rank: of the true
    class, rank 0 the highest score. probabilities: [images, classes], kept only for multi-label models.
    """

    predicted: list[int] = field(default_factory=list)
    confidence: list[float] = field(default_factory=list)
    truth_probability: list[float] = field(default_factory=list)
    rank: list[int] = field(default_factory=list)
    probabilities: list[np.ndarray] = field(default_factory=list)

    def add(self, more: Observed) -> None:
        """Adds what was observed of more images."""
        for each in fields(self):
            getattr(self, each.name).extend(getattr(more, each.name))


@dataclass
class Observation:
    """indices: of the images that could be read, in the joined list; first and other are in the same order. unreadable:
    (path, reason)."""

    indices: list[int]
    first: Observed
    other: Observed | None
    fingerprints: list[Fingerprint]
    unreadable: list[tuple[str, str]]


@dataclass
class Part(OfBlock):
    """What one block gives. places: of its images that could be read, in the block. unreadable: (place, reason)."""

    size: int
    places: list[int]
    first: Observed
    other: Observed | None
    fingerprints: list[Fingerprint]
    unreadable: list[tuple[int, str]]
    missing: Sequence[str] = ()


@dataclass(frozen=True)
class ObserveBlock:
    """Work for a pool: a block with its true classes to what the metrics need of it, so that no scores travel."""

    classifier: Classifier
    other: Classifier | None = None

    def __call__(self, block: Block) -> Part:
        """What is observed of a block's images."""
        part = Part(len(block), [], Observed(), Observed() if self.other else None, [], [])
        several = self.classifier.multi_label
        images = ScoreBlock(self.classifier, self.other, list).score(block)
        part.missing = missing_of(images)
        for place, image in enumerate(images):
            if image.error is not None:
                part.unreadable.append((place, image.error))
                continue
            part.places.append(place)
            part.fingerprints.append(fingerprint(image.tensor.pixels))
            _keep(part.first, image.scores, image.probabilities, block.truth[place], several)
            if part.other is not None:
                _keep(part.other, image.other_scores, image.other_probabilities, block.truth[place], several)
        return part


@dataclass(frozen=True)
class FingerprintBlock:
    """Work for a pool: a block to the fingerprints of its images, None for each that cannot be read."""

    classifier: Classifier

    def __call__(self, block: Block) -> list[Fingerprint | None]:
        """The fingerprints of a block's images; None for what cannot be read."""
        return [self._fingerprint(block, place) for place in range(len(block))]

    def _fingerprint(self, block: Block, place: int) -> Fingerprint | None:
        try:
            return fingerprint(block.read(place, self.classifier).pixels)
        except ImageError:
            return None


def observe(
    classifier: Classifier,
    joined: Joined,
    other_classifier: Classifier | None = None,
    pool: Pool | None = None,
    advance: Callable[[int], None] = lambda more: None,
) -> Observation:
    """Runs all images. The parts are put together in the order of the images, so the observation is the same to the
    last digit whoever made them. Raises EngineError."""
    found = Observation([], Observed(), Observed() if other_classifier else None, [], [])
    start = 0
    for part in map_blocks(pool, ObserveBlock(classifier, other_classifier), _labelled_blocks(joined)):
        found.indices += [start + place for place in part.places]
        found.unreadable += [(joined.images[start + place].path, why) for place, why in part.unreadable]
        found.fingerprints += part.fingerprints
        found.first.add(part.first)
        if found.other is not None:
            found.other.add(part.other)
        start += part.size
        advance(part.size)
    return found


def _labelled_blocks(joined: Joined) -> Iterator[Block]:
    start = 0
    for block in blocks_of(image.path for image in joined.images):
        yield replace(block, truth=joined.truth[start : start + len(block)])
        start += len(block)


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
