"""Medians, quantiles and ratios, and how far they can be trusted."""

from __future__ import annotations

import math
from collections.abc import Sequence
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

    @property
    def vagueness(self) -> float:
        """The longer side of the interval, as a part of the median."""
        return max(self.high - self.value, self.value - self.low) / self.value


@dataclass(frozen=True)
class Ratio:
    """How many times as long the second takes as the first, with its 95 % interval, from `count` blocks."""

    value: float
    low: float
    high: float
    count: int

    @property
    def vagueness(self) -> float:
        """The longer side of the interval on the logarithmic scale: about a part of the ratio."""
        return math.log(max(self.high / self.value, self.value / self.low))


def median_of(groups: Sequence[Sequence[float]], resamples: int = 400, seed: int = 0) -> Median:
    """The median of all readings. The interval comes from resampling whole groups.

    Readings taken in one visit share what the machine did at that moment, so groups are resampled
    and not readings: the block bootstrap (Efron and Tibshirani, An Introduction to the Bootstrap,
    1993, chapter 8).
    """
    arrays = [np.asarray(group) for group in groups if len(group)]
    everything = np.concatenate(arrays)
    chance = np.random.default_rng(seed)
    draws = chance.integers(len(arrays), size=(resamples, len(arrays)))
    medians = [np.median(np.concatenate([arrays[i] for i in draw])) for draw in draws]
    low, high = np.percentile(medians, [2.5, 97.5])
    quarter, three_quarters = np.percentile(everything, [25, 75])
    return Median(
        float(np.median(everything)), float(low), float(high), float(quarter), float(three_quarters), everything.size
    )


def quantile_of(readings: Sequence[float], part: float) -> float | None:
    """The quantile `part` (0.5 or more) of the readings, or None where they are too few to carry it.

    They carry it if the largest of them is above the true quantile with a chance of 97.5 %, so that an
    interval for it has an end: 36 readings for 0.9 and 368 for 0.99 (David and Nagaraja, Order Statistics,
    2003, section 7.1).
    """
    if part ** len(readings) > 0.025:
        return None
    return float(np.percentile(readings, 100 * part, method="higher"))


def readings_for(part: float) -> int:
    """How many readings carry a quantile; see `quantile_of`."""
    return math.ceil(math.log(0.025) / math.log(part))


def ratio_of(first: Sequence[float], second: Sequence[float], epochs: Sequence[int] | None = None) -> Ratio | None:
    """second / first, of figures taken in the same blocks of a run; None of fewer than two blocks.

    What the machine does at a moment is in both sides of a block's ratio and cancels. epochs: of each block; blocks of one
    epoch share more than the moment, so where there are six epochs or more each of them counts once, with its median. The
    value is the median of the ratios. The interval is the one between order statistics that holds the true median with
    95 % whatever the distribution is (David and Nagaraja, section 7.1); of fewer than six ratios none is so wide, and
    theirs is widened by Student's factor for the range of a few.
    """
    logs, blocks = np.log(np.asarray(second) / np.asarray(first)), len(first)
    if epochs is not None and len(set(epochs)) >= 6:
        marks = np.asarray(epochs)
        logs = np.array([np.median(logs[marks == epoch]) for epoch in sorted(set(epochs))])
    logs, count = np.sort(logs), len(logs)
    if count < 2:
        return None
    middle = float(np.median(logs))
    rank = _rank_of_interval(count)
    if rank is None:
        reach = _FEW[count] * float(np.ptp(logs)) / 2
        low, high = middle - reach, middle + reach
    else:
        low, high = float(logs[rank]), float(logs[count - 1 - rank])
    return Ratio(math.exp(middle), math.exp(low), math.exp(high), blocks)


_FEW = {2: 12.8, 3: 2.69, 4: 1.49, 5: 1.13}
"""By how much half the range of so many normal numbers is to be stretched to hold their centre with 95 %: as in Lord,
"The use of range in place of standard deviation in the t-test", Biometrika 34, 1947, but around the median, from two
million draws each."""


def _rank_of_interval(count: int) -> int | None:
    """The largest rank r for which the interval from the r-th (from 0) smallest to the r-th largest holds the median."""
    below, rank = 0.0, None
    for r in range(count // 2):
        ways = math.lgamma(count + 1) - math.lgamma(r + 1) - math.lgamma(count - r + 1)
        below += math.exp(ways - count * math.log(2))
        if 2 * below > 0.05:
            break
        rank = r
    return rank
