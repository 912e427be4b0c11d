"""Which parts of an image support a prediction: each is covered in turn, and the change of the probability is
measured."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np

from zygal.prediction.classifier import BATCH, Classifier

PATCH_PART, STEPS_A_PATCH = 6, 3
_SMALLEST = 1e-9


@dataclass(frozen=True)
class RegionMap:
    """predicted: the class that is examined. weight: [height, width], by how much the log-odds of the class fall, on
    average over the patches that cover a pixel; negative where the image opposes the class. probability: with nothing
    covered. patch: [height, width] in pixels. lowest: the lowest probability with one patch covered."""

    predicted: str
    probability: float
    weight: np.ndarray
    patch: tuple[int, int]
    lowest: float


def region_map(classifier: Classifier, pixels: np.ndarray, class_index: int) -> RegionMap:
    """Covers pixels [H, W, C] of 0 to 255 with patches of their mean colour, a sixth of each side long, a third of a
    patch apart.

    Method: Zeiler and Fergus, "Visualizing and understanding convolutional networks", ECCV 2014. Log-odds are used
    because probabilities hardly change near 0 and 1.
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
    whole = classifier.predict([classifier.tensor(pixels)])[0, class_index]
    fall, covers, lowest = np.zeros((height, width)), np.zeros((height, width)), float(whole)
    positions = list(product(tops, lefts))
    for start in range(0, len(positions), BATCH):
        block = positions[start : start + BATCH]
        covered = [classifier.tensor(_covered(pixels, position, patch, ground)) for position in block]
        for (top, left), remaining in zip(block, classifier.predict(covered)[:, class_index]):
            under = slice(top, top + patch[0]), slice(left, left + patch[1])
            fall[under] += _log_odds(whole) - _log_odds(remaining)
            covers[under] += 1
            lowest = min(lowest, float(remaining))
    return RegionMap(classifier.labels[class_index], float(whole), fall / covers, patch, lowest)


def _covered(pixels: np.ndarray, position: tuple[int, int], patch: tuple[int, int], ground: np.ndarray) -> np.ndarray:
    covered = pixels.copy()
    top, left = position
    covered[top : top + patch[0], left : left + patch[1]] = np.rint(ground) if pixels.dtype == np.uint8 else ground
    return covered


def _log_odds(probability: float) -> float:
    inside = min(max(float(probability), _SMALLEST), 1 - _SMALLEST)
    return float(np.log(inside / (1 - inside)))
