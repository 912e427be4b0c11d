"""Medians, quantiles and ratios, and how far they can be trusted."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from statistics import NormalDist

import numpy as np

LEVEL = 0.95


@dataclass(frozen=True)
class Median:
    """A median with its 95 % interval, and the middle half of the readings."""

    value: float
    low: float
    high: float
    quarter: float
    three_quarters: float
    count: int

    @property
    def relative_error(self) -> float:
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
    def relative_error(self) -> float:
        """The longer side of the interval on the logarithmic scale: about a part of the ratio."""
        return math.log(max(self.high / self.value, self.value / self.low))


def median_of(groups: Sequence[Sequence[float]], epochs: Sequence[int] | None = None) -> Median:
    """The median of all readings, with an interval for the median that other runs like this one would find.

    groups: the readings of each block; epochs: of each block. Blocks of one epoch share where things lie in memory, and
    readings of one block what the machine did at that moment, so neither are independent: the interval is that of the
    epochs' medians where there are two epochs or more, and that of the blocks' else.
    """
    sustained = [(np.asarray(group), epoch) for group, epoch in zip(groups, epochs or [0] * len(groups)) if len(group)]
    all_changes = np.concatenate([group for group, _ in sustained])
    middle = float(np.median(all_changes))
    apart = _by_epoch([group for group, _ in sustained], [epoch for _, epoch in sustained])
    if apart is None:
        apart = [group for group, _ in sustained]
    low, high = middle, middle
    if len(apart) > 1:
        ends = interval_of_centre(np.log([np.median(each) for each in apart]))
        low, high = (float(each) for each in np.exp(ends))
    quarter, three_quarters = np.percentile(all_changes, [25, 75])
    # The median of all lies among those of the parts, though not always between the ends of their interval.
    return Median(middle, min(low, middle), max(high, middle), float(quarter), float(three_quarters), all_changes.size)


def _by_epoch(groups: Sequence[np.ndarray], epochs: Sequence[int]) -> list[np.ndarray] | None:
    """The readings of each epoch together; None if there is only one."""
    marks = sorted(set(epochs))
    if len(marks) < 2:
        return None
    return [np.concatenate([group for group, epoch in zip(groups, epochs) if epoch == mark]) for mark in marks]


def interval_of_centre(values: np.ndarray, level: float = LEVEL) -> tuple[float, float]:
    """The interval that holds the median of what independent values are drawn from, with the chance `level`.

    Between order statistics, interpolated between those that hold it with a higher and with a lower chance, whatever
    the distribution is (Hettmansperger and Sheather, "Confidence intervals based on interpolated order statistics",
    Statistics and Probability Letters 4, 1986). Of fewer than six values no order statistics are so wide, and the
    interval is the range, stretched as far as normal numbers need it.
    """
    ordered, count = np.sort(np.asarray(values, float)), len(values)
    if count < 2:
        raise ValueError("one value has no interval")
    if count < 6:
        middle, reach = float(np.median(ordered)), _FEW[count] * float(np.ptp(ordered)) / 2
        return middle - reach, middle + reach
    outside = np.cumsum([math.comb(count, below) for below in range(count // 2)]) / 2.0**count
    coverage = 1 - 2 * outside  # By the interval from the (place + 1)-th smallest to the (place + 1)-th largest.
    index = int(np.flatnonzero(coverage >= level)[-1]) if coverage[0] >= level else 0
    outer = ordered[index], ordered[count - 1 - index]
    if coverage[0] < level or index + 1 >= len(coverage):
        return float(outer[0]), float(outer[1])
    inner, rank = (ordered[index + 1], ordered[count - 2 - index]), index + 1
    part = (coverage[index] - level) / (coverage[index] - coverage[index + 1])
    share = (count - rank) * part / (rank + (count - 2 * rank) * part)
    low, high = (float((1 - share) * wide + share * narrow) for wide, narrow in zip(outer, inner))
    return low, high


def for_many(count: int) -> float:
    """By how much a 95 % interval is to be stretched so that `count` of them together are wrong in 5 % of cases only
    (Bonferroni's inequality, on the normal distribution)."""
    normal = NormalDist()
    return normal.inv_cdf(1 - (1 - LEVEL) / 2 / max(count, 1)) / normal.inv_cdf((1 + LEVEL) / 2)


def quantile_of(readings: Sequence[float], part: float) -> float | None:
    """The quantile `part` (0.5 or more) of the readings, or None where they are too few to carry it.

    They carry it if the largest of them is above the true quantile with a chance of 97.5 %, so that an
    interval for it has an end: 36 readings for 0.9 and 368 for 0.99 (David and Nagaraja, Order Statistics,
    2003, section 7.1).
    """
    if part ** len(readings) > 0.025:
        return None
    return float(np.percentile(readings, 100 * part, method="higher"))


def interval_of_quantile(readings: Sequence[float], part: float) -> tuple[float, float] | None:
    """The 95 % interval of the quantile `part`, between order statistics (David and Nagaraja, as below); None where too
    few readings carry it."""
    if quantile_of(readings, part) is None:
        return None
    from scipy.stats import binom

    ordered, count = np.sort(np.asarray(readings, float)), len(readings)
    low, high = (int(binom.ppf(chance, count, part)) for chance in ((1 - LEVEL) / 2, (1 + LEVEL) / 2))
    return float(ordered[max(low - 1, 0)]), float(ordered[min(high, count - 1)])


def readings_for(part: float) -> int:
    """How many readings carry a quantile; see `quantile_of`."""
    return math.ceil(math.log(0.025) / math.log(part))


def ratio_of(first: Sequence[float], second: Sequence[float], epochs: Sequence[int] | None = None) -> Ratio | None:
    """second / first, of figures taken in the same blocks of a run; None of fewer than two blocks.

    What the machine does at a moment is in both sides of a block's ratio and cancels. epochs: of each block; blocks of
    one epoch share more than the moment, so where there are several epochs each of them counts once, with its median.
    The value is the median of the ratios, the interval that of `interval_of_centre`.
    """
    logs, blocks = np.log(np.asarray(second) / np.asarray(first)), len(first)
    if epochs is not None and len(set(epochs)) > 1:
        marks = np.asarray(epochs)
        logs = np.array([np.median(logs[marks == epoch]) for epoch in sorted(set(epochs))])
    if len(logs) < 2:
        return None
    low, high = interval_of_centre(logs)
    middle = min(max(float(np.median(logs)), low), high)
    return Ratio(math.exp(middle), math.exp(low), math.exp(high), blocks)


_FEW = {2: 12.8, 3: 2.69, 4: 1.49, 5: 1.13}
"""By how much half the range of so many normal numbers is to be stretched to hold their centre with 95 %: as in Lord,
"The use of range in place of standard deviation in the t-test", Biometrika 34, 1947, but around the median, from two
million draws each."""
