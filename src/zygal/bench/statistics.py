"""Medians and how far they can be trusted."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class Median:
    """A median with the 95 % interval of the bootstrap, and the middle half of the readings."""

    value: float
    low: float
    high: float
    quarter: float
    three_quarters: float
    count: int


def median_of(groups: list[list[float]], resamples: int = 400, seed: int = 0) -> Median:
    """The median of all readings. The interval comes from resampling whole groups.

    Readings taken in one visit share what the machine did at that moment, so groups are resampled
    and not readings: the block bootstrap (Efron and Tibshirani, An Introduction to the Bootstrap,
    1993, chapter 8).
    """
    arrays = [np.asarray(group) for group in groups if group]
    everything = np.concatenate(arrays)
    chance = np.random.default_rng(seed)
    draws = chance.integers(len(arrays), size=(resamples, len(arrays)))
    medians = [np.median(np.concatenate([arrays[i] for i in draw])) for draw in draws]
    low, high = np.percentile(medians, [2.5, 97.5])
    quarter, three_quarters = np.percentile(everything, [25, 75])
    return Median(
        float(np.median(everything)), float(low), float(high), float(quarter), float(three_quarters), everything.size
    )
