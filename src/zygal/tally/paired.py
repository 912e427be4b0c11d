"""Two classifiers on the same images: which predictions differ, and whether the first is worse than the other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.statistics.intervals import Estimate, difference_of_paired, exact_paired_test

SAME, NOT_WORSE, WORSE, BETTER, UNDECIDED = "same predictions", "not worse", "worse", "better", "undecided"
SIGNIFICANCE = 0.05


@dataclass(frozen=True)
class Paired:
    """only_first, only_other: images that only this one predicts correctly. disagreements: images with different
    predictions. difference: accuracy of the first minus that of the other. p_value: of the exact paired test. margin:
    the loss of accuracy that still counts as not worse. other_correct: images that the other predicts correctly."""

    images: int
    only_first: int
    only_other: int
    disagreements: int
    difference: Estimate
    p_value: float
    margin: float
    other_correct: int

    @property
    def verdict(self) -> str:
        """Worse, not worse: the whole 95 % interval of the difference is below, or not below, minus the margin.

        Undecided: it covers it, so the images are too few. Not worse and even better: by the exact test at 5 %. Same
        predictions: on every image.
        """
        if self.difference.high < -self.margin:
            return WORSE
        if self.difference.low < -self.margin:
            return UNDECIDED
        if not self.disagreements:
            return SAME
        return BETTER if self.p_value < SIGNIFICANCE and self.only_first > self.only_other else NOT_WORSE

    @property
    def lost(self) -> Estimate:
        """The accuracy that the first loses to the other."""
        return self.difference.negated()


def paired(correct: Sequence[bool], other_correct: Sequence[bool], disagreements: int, margin: float) -> Paired:
    """correct, other_correct: for each image whether the first and the other predict it correctly."""
    first, other = np.asarray(correct, bool), np.asarray(other_correct, bool)
    only_first, only_other = int((first & ~other).sum()), int((other & ~first).sum())
    return Paired(
        len(first),
        only_first,
        only_other,
        disagreements,
        difference_of_paired(only_first, only_other, len(first)),
        exact_paired_test(only_first, only_other),
        margin,
        int(other.sum()),
    )
