"""Candidates: artifacts in 8 bits that keep some layers in float, written, run and compared with the float artifact."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.artifact.formats import Format, Writing
from zygal.bench.measure import Effort, measure_whole, paired
from zygal.classifier.metadata import Metadata
from zygal.classifier.scores import INDEPENDENT, INDEPENDENT_LOGITS, PROBABILITIES, as_two_classes, to_probabilities
from zygal.engines import run_in_batches
from zygal.engines.artifact import open_engine
from zygal.graph import Graph
from zygal.shrink.calibrate import Calibration
from zygal.shrink.damage import score_error
from zygal.statistics.intervals import Estimate, Z, mean_with_error, share_of
from zygal.statistics.quantiles import Ratio, ratio_of

FOLLOWING = 5
SMALLEST = 1e-7
"""Probabilities below this are rounding errors of float32."""
SECONDS = 0.8
"""How long the speed of a candidate is measured."""


@dataclass(frozen=True)
class Judged:
    """Images that candidates are judged on. tensors: [N, ...]. float_scores: [N, classes], of the float artifact.
    labels: the true classes of the images, if they are known."""

    tensors: np.ndarray
    float_scores: np.ndarray
    labels: np.ndarray | None = None


@dataclass(frozen=True)
class Point:
    """One candidate. kept: the operators in float, by the names of their layers. name: in words. agreement: the share
    of the images with the same answer as the float artifact's. expected: the share that is to be expected of images
    like these; see `expected_agreement`. error: of the scores; see `damage.score_error`. lost: accuracy of the float
    artifact minus its own, on labelled images. speed: how many times as fast as the float artifact. size_bytes: of the
    file."""

    kept: tuple[str, ...]
    name: str
    agreement: Estimate
    expected: Estimate
    error: float
    lost: float | None
    speed: Ratio | None
    size_bytes: int

    @property
    def expected_at_least(self) -> float:
        """The expected share less one standard error."""
        return self.expected.value - (self.expected.value - self.expected.low) / Z


def answers(scores: np.ndarray, kind: str) -> np.ndarray:
    """What a classifier says of each image: its top-1 class, or which labels it assigns where an image can have
    several."""
    if scores.shape[1] == 1:
        scores = as_two_classes(scores, kind)[0]
    if kind in (INDEPENDENT, INDEPENDENT_LOGITS):
        return to_probabilities(scores, kind) >= 0.5
    return scores.argmax(axis=1)[:, None]


def expected_agreement(scores: np.ndarray, float_scores: np.ndarray, kind: str) -> Estimate:
    """The share of images that is expected to keep its top-1 class, if the change of a margin (the best score minus
    another one, of probabilities their logarithms) is normal and as large for every image: the mean over the images of
    the probability that no change is as large as its margin, for the FOLLOWING next classes, taken as independent. It
    says more than the count where few images change; its interval is that of a mean over images. 1 where an image can
    have several labels.
    """
    if kind in (INDEPENDENT, INDEPENDENT_LOGITS):
        return Estimate(1.0, 1.0, 1.0)
    ours, usual = (_logarithms(each, kind).astype(np.float64) for each in (scores, float_scores))
    order = np.argsort(-usual, axis=1, kind="stable")[:, : FOLLOWING + 1]
    ours, usual = (np.take_along_axis(each, order, axis=1) for each in (ours, usual))
    margins = usual[:, :1] - usual[:, 1:]
    changes = (ours[:, :1] - ours[:, 1:] - margins)[:, 0]
    deviation = float(np.sqrt(np.mean(changes**2)))
    if deviation == 0:
        return Estimate(1.0, 1.0, 1.0)
    keeps = np.vectorize(lambda margin: 0.5 * math.erfc(-margin / deviation / math.sqrt(2)))(margins)
    kept = keeps.prod(axis=1)
    found = mean_with_error(float(kept.mean()), float(kept.std(ddof=1)) if len(kept) > 1 else 0.0, len(kept))
    return Estimate(found.value, max(found.low, 0.0), min(found.high, 1.0))


def _logarithms(scores: np.ndarray, kind: str) -> np.ndarray:
    """Scores whose differences mean the same for sure and for unsure images, [N, at least 2]."""
    if scores.shape[1] == 1:
        scores = as_two_classes(scores, kind)[0]
    return np.log(np.maximum(scores, SMALLEST)) if kind == PROBABILITIES else scores


class Trials:
    """Makes and judges candidates. Each is tried once.

    format, writing: of the files. float_file: the float artifact in the same format. judged: the images for agreement;
    labelled: for accuracy. batch: at which the speed is measured.
    """

    def __init__(
        self,
        calibration: Calibration,
        format: Format,
        writing: Writing,
        folder: Path,
        float_file: Path,
        kind: str,
        judged: Judged,
        labelled: Judged | None,
        threads: int | None,
        batch: int,
    ):
        self.calibration, self.format, self.writing, self.folder, self.float_file = (
            calibration,
            format,
            writing,
            folder,
            float_file,
        )
        self.kind, self.judged, self.labelled, self.threads, self.batch = kind, judged, labelled, threads, batch
        self.points: dict[frozenset[str], Point] = {}
        self.float_bytes = float_file.stat().st_size

    def graph(self, kept: Collection[str]) -> Graph:
        """The graph with all units in 8 bits but those."""
        return self.calibration.graph(
            self.calibration.network.possible(set(self.calibration.network.units) - set(kept))
        )

    def point(self, kept: Sequence[str], name: str) -> Point:
        """Judges the candidate that keeps those units in float."""
        key = frozenset(kept)
        if key not in self.points:
            self.points[key] = self._tried(tuple(kept), name)
        return self.points[key]

    def tried(self, kept: Sequence[str]) -> Point | None:
        """The candidate that keeps those units in float, if it was judged."""
        return self.points.get(frozenset(kept))

    def _tried(self, kept: tuple[str, ...], name: str) -> Point:
        path = self.folder / f"candidate{len(self.points)}{self.format.ending}"
        self.format.write(self.graph(kept), path, Metadata(), self.writing)
        engine = open_engine(path, self.threads)
        scores = np.concatenate(list(run_in_batches(engine, self.judged.tensors)))
        same = (answers(scores, self.kind) == answers(self.judged.float_scores, self.kind)).all(axis=1)
        expected = expected_agreement(scores, self.judged.float_scores, self.kind)
        units = self.calibration.network.units
        listed = tuple(f"{units[result].layer} ({units[result].node.operator})" for result in kept)
        point = Point(
            listed,
            name,
            share_of(int(same.sum()), len(same)),
            expected,
            score_error(scores, self.judged.float_scores, self.kind),
            self._lost(engine),
            self._speed(engine),
            path.stat().st_size,
        )
        path.unlink()
        return point

    def _lost(self, engine) -> float | None:
        if self.labelled is None:
            return None
        scores = np.concatenate(list(run_in_batches(engine, self.labelled.tensors)))
        right = [
            (answers(each, self.kind) == self.labelled.labels).all(axis=1).mean()
            for each in (self.labelled.float_scores, scores)
        ]
        return float(right[0] - right[1])

    def _speed(self, engine) -> Ratio | None:
        size = engine.batch_size or self.batch
        batch = np.resize(self.judged.tensors[:size], (size, *self.judged.tensors.shape[1:]))
        other = open_engine(self.float_file, self.threads)
        found = measure_whole(
            {0: {"float": lambda: other.run(batch), "eight": lambda: engine.run(batch)}}, Effort(SECONDS)
        )
        return ratio_of(*paired(found.readings[0, "eight"], found.readings[0, "float"]))
