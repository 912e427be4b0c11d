"""The numbers behind the gates: differences in units that mean something."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.inlet import InletTensor
from zygal.inlet.values import level_differences


@dataclass(frozen=True)
class ScoreComparison:
    """Scores of one side against the recorded ones, image by image.

    differences: [images], largest absolute difference of an image's scores, as a fraction of the spread. changed: [images],
    whether the top-1 class is another one. ties: [images], changed top-1 classes whose two highest recorded scores are closer
    than twice the limit; they are not in `changed`.
    """

    scores: np.ndarray
    differences: np.ndarray
    changed: np.ndarray
    ties: np.ndarray


def compare_scores(scores: np.ndarray, recorded: np.ndarray, spread: float, limit: float) -> ScoreComparison:
    """Compares scores [N, classes]; `limit` is a fraction of `spread`."""
    differences = np.abs(scores.astype(np.float64) - recorded)
    # NaN on either side must not pass as no difference.
    differences = np.where(np.isnan(differences), np.inf, differences).max(axis=1) / spread
    ordered = np.sort(recorded, axis=1)
    margins = ordered[:, -1] - ordered[:, -2] if recorded.shape[1] > 1 else np.full(len(recorded), np.inf)
    other = scores.argmax(axis=1) != recorded.argmax(axis=1)
    close = margins < 2 * limit * spread
    return ScoreComparison(scores, differences, other & ~close, other & close)


def tensor_differences(ours: InletTensor, recorded: np.ndarray, layout: str) -> np.ndarray:
    """Absolute differences of one image's tensors in grey levels, in the shape of the tensor."""
    return level_differences(ours.tensor, recorded, ours.grey_level, layout)
