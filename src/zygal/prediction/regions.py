"""Which parts of a picture carry an answer: each is covered in turn, and what that does to the answer is watched."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np

from zygal.prediction.classifier import BATCH, Classifier

PATCH_PART, STEPS_A_PATCH = 6, 3
_SMALLEST = 1e-9


@dataclass(frozen=True)
class RegionMap:
    """weight: [height, width], by how much the log-odds of the class fall in the mean where a patch covers a pixel; negative
    where what is covered spoke against it. probability: of the whole picture. patch: [height, width] in pixels. lowest: the
    probability that the worst patch leaves."""

    said: str
    probability: float
    weight: np.ndarray
    patch: tuple[int, int]
    lowest: float


def region_map(classifier: Classifier, pixels: np.ndarray, said: int) -> RegionMap:
    """Covers pixels [H, W, C] of 0 to 255 by patches of their mean colour, about a sixth of each side and a third of a patch apart.

    said: the class watched. The way is that of Zeiler and Fergus, "Visualizing and understanding convolutional networks", ECCV 2014; log-odds do not flatten out near 0 and 1.
    """
    height, width = pixels.shape[:2]
    # A patch is so many steps long, so that all pixels are covered equally often.
    steps = tuple(max(1, round(side / PATCH_PART / STEPS_A_PATCH)) for side in (height, width))
    patch = tuple(min(side, STEPS_A_PATCH * step) for side, step in zip((height, width), steps))
    tops, lefts = (
        sorted({*range(0, side - length + 1, step), side - length})
        for side, length, step in zip((height, width), patch, steps)
    )
    ground = pixels.reshape(-1, pixels.shape[2]).mean(axis=0)
    whole = classifier.answer([classifier.tensor(pixels)])[0, said]
    fallen, times, lowest = np.zeros((height, width)), np.zeros((height, width)), float(whole)
    places = list(product(tops, lefts))
    for start in range(0, len(places), BATCH):
        some = places[start : start + BATCH]
        covered = [classifier.tensor(_covered(pixels, place, patch, ground)) for place in some]
        for (top, left), left_over in zip(some, classifier.answer(covered)[:, said]):
            under = slice(top, top + patch[0]), slice(left, left + patch[1])
            fallen[under] += _log_odds(whole) - _log_odds(left_over)
            times[under] += 1
            lowest = min(lowest, float(left_over))
    return RegionMap(classifier.labels[said], float(whole), fallen / times, patch, lowest)


def _covered(pixels: np.ndarray, place: tuple[int, int], patch: tuple[int, int], ground: np.ndarray) -> np.ndarray:
    covered = pixels.copy()
    top, left = place
    covered[top : top + patch[0], left : left + patch[1]] = np.rint(ground) if pixels.dtype == np.uint8 else ground
    return covered


def _log_odds(probability: float) -> float:
    inside = min(max(float(probability), _SMALLEST), 1 - _SMALLEST)
    return float(np.log(inside / (1 - inside)))
