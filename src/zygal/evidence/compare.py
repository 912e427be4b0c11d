"""The numbers behind the gates: differences in units that mean something."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.inlet import InletTensor


@dataclass(frozen=True)
class ScoreComparison:
    """Scores of one side against the recorded ones, image by image.

    differences: largest absolute difference of an image's scores, as a fraction of the spread. moved:
    images whose top class is another one. ties: those of them whose two best recorded scores are
    closer than twice the limit, so that the order of the two is chance.
    """

    scores: np.ndarray
    differences: np.ndarray
    moved: np.ndarray
    ties: np.ndarray


def compare_scores(scores: np.ndarray, recorded: np.ndarray, spread: float, limit: float) -> ScoreComparison:
    """Compares scores [N, classes]; `limit` is a fraction of `spread`."""
    differences = _measurable(np.abs(scores.astype(np.float64) - recorded)).max(axis=1) / spread
    ordered = np.sort(recorded, axis=1)
    margins = ordered[:, -1] - ordered[:, -2] if recorded.shape[1] > 1 else np.full(len(recorded), np.inf)
    other = scores.argmax(axis=1) != recorded.argmax(axis=1)
    close = margins < 2 * limit * spread
    return ScoreComparison(scores, differences, other & ~close, other & close)


def tensor_differences(ours: InletTensor, recorded: np.ndarray, layout: str) -> np.ndarray:
    """Absolute differences of one image's tensors in grey levels: 1/255 of the range before mean and std."""
    level = ours.grey_level[:, None, None] if layout == "NCHW" else ours.grey_level
    return _measurable(np.abs(ours.tensor.astype(np.float64) - recorded) / np.abs(level))


def _measurable(differences: np.ndarray) -> np.ndarray:
    """What is not a number on either side is infinitely far away: it must not pass as no difference."""
    return np.where(np.isnan(differences), np.inf, differences)
