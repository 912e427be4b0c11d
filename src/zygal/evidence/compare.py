"""The numbers behind the gates: differences in units that mean something."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.inlet import Inlet


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
    differences = np.abs(scores.astype(np.float64) - recorded).max(axis=1) / spread
    ordered = np.sort(recorded, axis=1)
    margins = ordered[:, -1] - ordered[:, -2] if recorded.shape[1] > 1 else np.full(len(recorded), np.inf)
    other = scores.argmax(axis=1) != recorded.argmax(axis=1)
    close = margins < 2 * limit * spread
    return ScoreComparison(scores, differences, other & ~close, other & close)


def tensor_differences(ours: np.ndarray, recorded: np.ndarray, inlet: Inlet) -> np.ndarray:
    """Absolute differences of one image's tensors in grey levels: 1/255 of the range before mean and std."""
    difference = np.abs(ours.astype(np.float64) - recorded)
    if inlet.tensor.dtype == "uint8":
        return difference
    std = np.array(inlet.values.std or (1.0,))
    if inlet.tensor.layout == "NCHW":
        std = std[:, None, None]
    return difference * np.abs(std) / abs(inlet.values.grey_level)
