"""Whether the confidence of a classifier is its accuracy: bins of confidence, and the expected calibration error."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.statistics.intervals import Estimate, Z, share_of

BINS = 15
DRAWS, SIMULATED_BIN = 4000, 400
"""Draws of a perfectly calibrated model; bins of more images are drawn from the normal distribution."""
DETECTED = 0.02
"""Of so many perfectly calibrated models, at the most, it is said that they are not."""
FEWEST = 100
"""Of fewer images nothing is concluded from not finding a difference."""


@dataclass(frozen=True)
class Bin:
    """Images with low < confidence <= high (the first bin includes 0). confidence: their mean. accuracy: their share of
    correct predictions."""

    low: float
    high: float
    images: int
    confidence: float | None
    accuracy: Estimate | None


@dataclass(frozen=True)
class Calibration:
    """expected_error: the mean over images of |confidence - accuracy| of their bin (expected calibration error; Naeini,
    Cooper and Hauskrecht, "Obtaining well calibrated probabilities using Bayesian binning", AAAI 2015). It is above 0
    for a perfectly calibrated model too, in three of four cases by no more than `by_chance`: `corrected_error` is
    without that; the error lies between `low` and `high` with 95 %. p_value: the chance that a perfectly calibrated
    model with these confidences is as far off in that error, or in mean confidence against accuracy, twice the smaller
    of both. confidence, accuracy: over all images."""

    expected_error: float
    corrected_error: float
    low: float
    high: float
    by_chance: float
    p_value: float
    images: int
    confidence: float
    accuracy: Estimate
    bins: tuple[Bin, ...]

    @property
    def fits(self) -> bool:
        """Whether enough images show no difference from a perfectly calibrated model."""
        return self.images >= FEWEST and self.p_value >= DETECTED


def calibration_of(probability: np.ndarray, correct: np.ndarray) -> Calibration:
    """probability: [n] of the predictions; correct: [n], whether they are correct."""
    indices = np.clip(np.ceil(probability * BINS).astype(int) - 1, 0, BINS - 1)
    bins, error = [], 0.0
    for index in range(BINS):
        inside = indices == index
        count = int(inside.sum())
        confidence = float(probability[inside].mean()) if count else None
        share = share_of(int(correct[inside].sum()), count) if count else None
        bins.append(Bin(index / BINS, (index + 1) / BINS, count, confidence, share))
        if count:
            error += count / len(probability) * abs(share.value - confidence)
    accuracy = share_of(int(correct.sum()), len(correct))
    inside = [probability[indices == index] for index in range(BINS)]
    by_chance, mean_off = _perfectly_calibrated(inside)
    deviation = float(np.sqrt((probability * (1 - probability)).sum())) / len(probability)
    mean = float(probability.mean())
    p_value = min(
        1.0, 2 * min(_share_above(by_chance, float(error)), _share_above(mean_off, abs(mean - accuracy.value)))
    )
    # What chance adds lies between nothing, where all bins are far off, and what it is where none is.
    usual = float(np.quantile(by_chance, 0.75))
    low, high = max(0.0, error - float(by_chance.mean()) - Z * deviation), min(1.0, error + Z * deviation)
    return Calibration(
        float(error),
        max(0.0, float(error) - usual),
        float(low),
        float(high),
        usual,
        p_value,
        len(probability),
        mean,
        accuracy,
        tuple(bins),
    )


def _share_above(drawn: np.ndarray, found: float) -> float:
    # The found one counts as a draw, so that the share is never 0.
    return (1 + int((drawn >= found - 1e-12).sum())) / (1 + len(drawn))


def _perfectly_calibrated(bins: list[np.ndarray]) -> tuple[np.ndarray, np.ndarray]:
    """Of DRAWS perfectly calibrated models with these confidences in the bins: the expected calibration error, and
    |mean confidence - accuracy|."""
    random = np.random.default_rng(0)
    off = np.zeros(DRAWS)
    error = np.zeros(DRAWS)
    for confidence in bins:
        if len(confidence) > SIMULATED_BIN:
            drawn = random.normal(0.0, np.sqrt((confidence * (1 - confidence)).sum()), DRAWS)
        else:
            drawn = (random.random((DRAWS, len(confidence))) < confidence).sum(axis=1) - confidence.sum()
        off += drawn
        error += np.abs(drawn)
    total = sum(map(len, bins))
    return error / total, np.abs(off) / total
