"""Whether the confidence of a classifier is its accuracy: bins of confidence, and the expected calibration error."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.tally.intervals import Estimate, share_of

BINS = 15


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
    """expected_error: the mean over images of |confidence - accuracy| of their bin (expected calibration error; Naeini, Cooper
    and Hauskrecht, "Obtaining well calibrated probabilities using Bayesian binning", AAAI 2015). confidence, accuracy: over
    all images."""

    expected_error: float
    confidence: float
    accuracy: Estimate
    bins: tuple[Bin, ...]


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
    return Calibration(float(error), float(probability.mean()), accuracy, tuple(bins))
