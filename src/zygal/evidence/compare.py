"""The numbers behind the gates: differences in units that mean something."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from zygal.inlet import InletTensor
from zygal.inlet.values import level_differences

ROUNDING = 2.0**-17
"""What float32 arithmetic leaves of a score, as a part of the image's largest score: 64 units in the last place (IEEE
754 binary32 has 24 bits), which sums of thousands of products in another order reach."""
TOP, APART = 5, 0.05


@dataclass(frozen=True)
class ScoreComparison:
    """Scores of one side against the recorded ones, image by image.

    differences: [images], largest absolute difference of an image's scores, as a fraction of the spread; infinite where
    a score is NaN. changed: [images], whether the top-1 class is another one, or a score is NaN. ties: [images], those
    of `changed` where on either side the scores of the two classes differ by no more than the rounding of float32.
    """

    scores: np.ndarray
    differences: np.ndarray
    changed: np.ndarray
    ties: np.ndarray


def compare_scores(scores: np.ndarray, recorded: np.ndarray, spread: float) -> ScoreComparison:
    """Compares scores [N, classes]. What counts as a tie depends on the scores alone, not on a limit."""
    scores, recorded = np.asarray(scores), np.asarray(recorded)
    ours, wanted = scores.astype(np.float64), recorded.astype(np.float64)
    invalid = np.isnan(ours) | np.isnan(wanted)
    # Two equal infinities differ by NaN too, and are no evidence of anything.
    with np.errstate(invalid="ignore"):
        differences = np.abs(ours - wanted)
    differences = np.where(np.isnan(differences), np.inf, differences).max(axis=1) / spread
    rows, our_top, recorded_top = np.arange(len(ours)), ours.argmax(axis=1), wanted.argmax(axis=1)
    changed = (our_top != recorded_top) | invalid.any(axis=1)
    with np.errstate(invalid="ignore"):
        our_margin = ours[rows, our_top] - ours[rows, recorded_top]
        recorded_margin = wanted[rows, recorded_top] - wanted[rows, our_top]
        close = our_margin <= ROUNDING * np.abs(ours).max(axis=1)
        close &= recorded_margin <= ROUNDING * np.abs(wanted).max(axis=1)
    finite = np.isfinite(ours).all(axis=1) & np.isfinite(wanted).all(axis=1)
    return ScoreComparison(scores, differences, changed, changed & close & finite)


def order_kept(scores: np.ndarray, recorded: np.ndarray, spread: float) -> float:
    """The share of pairs of classes whose scores are in the recorded order: pairs of one of an image's recorded top TOP
    classes and any other, whose recorded scores are more than APART of the spread apart. 1 if there are none; scores
    that are NaN are in no order."""
    kept = total = 0
    for ours, wanted in zip(np.asarray(scores, np.float64), np.asarray(recorded, np.float64)):
        top = np.argsort(-wanted, kind="stable")[:TOP]
        apart = wanted[top, None] - wanted[None, :] > APART * spread
        kept += int((apart & (ours[top, None] > ours[None, :])).sum())
        total += int(apart.sum())
    return kept / total if total else 1.0


def tensor_differences(ours: InletTensor, recorded: np.ndarray, layout: str) -> np.ndarray:
    """Absolute differences of one image's tensors in grey levels, in the shape of the tensor."""
    return level_differences(ours.tensor, recorded, ours.grey_level, layout)


def largest_of(numbers: Iterable[float]) -> float:
    """The largest number; NaN if one of them is, so that no gate passes on it. `max` would depend on their order."""
    return float(np.max(np.fromiter(numbers, float)))
