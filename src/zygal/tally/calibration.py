"""Whether a classifier is right as often as it says: bins of probabilities and the expected calibration error."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.tally.intervals import Estimate, share_of

BINS = 15


@dataclass(frozen=True)
class Bin:
    """Images whose probability is above low and not above high (the first bin holds 0 too). said: their mean probability.
    right: the share of them that is right."""

    low: float
    high: float
    images: int
    said: float | None
    right: Estimate | None


@dataclass(frozen=True)
class Calibration:
    """error: the mean over images of the distance between what was said and what was right in their bin (expected calibration
    error; Naeini, Cooper and Hauskrecht, "Obtaining well calibrated probabilities using Bayesian binning", AAAI 2015).
    said, right: over all images; overall: that share with its interval."""

    error: float
    said: float
    right: float
    overall: Estimate
    bins: tuple[Bin, ...]


def calibration_of(probability: np.ndarray, right: np.ndarray) -> Calibration:
    """probability: [n] of what was said; right: [n], whether it was so."""
    places = np.clip(np.ceil(probability * BINS).astype(int) - 1, 0, BINS - 1)
    bins, error = [], 0.0
    for place in range(BINS):
        inside = places == place
        count = int(inside.sum())
        said = float(probability[inside].mean()) if count else None
        share = share_of(int(right[inside].sum()), count) if count else None
        bins.append(Bin(place / BINS, (place + 1) / BINS, count, said, share))
        if count:
            error += count / len(probability) * abs(share.value - said)
    overall = share_of(int(right.sum()), len(right))
    return Calibration(float(error), float(probability.mean()), float(right.mean()), overall, tuple(bins))
