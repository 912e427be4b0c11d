"""Two classifiers on the same images: what changed, and whether the one is as good as the other."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.tally.intervals import Estimate, difference_of_paired, exact_paired_test

SAME, AS_GOOD, WORSE, BETTER, OPEN = "same", "as good", "worse", "better", "open"
CHANCE = 0.05


@dataclass(frozen=True)
class Paired:
    """gained: images that only the first has right. lost: that only the other has right. differing: that are answered
    otherwise. difference: of the shares that are right, the first less the other. chance: the exact test's. margin: the loss
    that still counts as equally good. other_right: how many images the other has right."""

    images: int
    gained: int
    lost: int
    differing: int
    difference: Estimate
    chance: float
    margin: float
    other_right: int

    @property
    def verdict(self) -> str:
        """ "same": every answer is. "worse" and "better": the exact test says so. "as good": the loss is below the margin with
        97.5 %. "open": the images are too few to say."""
        if not self.differing:
            return SAME
        if self.chance < CHANCE and self.lost != self.gained:
            if self.lost > self.gained and self.difference.low >= -self.margin:
                return AS_GOOD
            return WORSE if self.lost > self.gained else BETTER
        return AS_GOOD if self.difference.low >= -self.margin else OPEN


def paired(right: Sequence[bool], other_right: Sequence[bool], differing: int, margin: float) -> Paired:
    """right, other_right: whether each image is answered rightly by the first and by the other."""
    mine, theirs = np.asarray(right, bool), np.asarray(other_right, bool)
    gained, lost = int((mine & ~theirs).sum()), int((theirs & ~mine).sum())
    return Paired(len(mine), gained, lost, differing, difference_of_paired(gained, lost, len(mine)),
                  exact_paired_test(gained, lost), margin, int(theirs.sum()))  # fmt: skip
