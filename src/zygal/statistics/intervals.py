"""95 % confidence intervals of shares, and tests of paired predictions."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

Z = 1.959963984540054
"""The 97.5 % point of the normal distribution."""


@dataclass(frozen=True)
class Estimate:
    """A figure with its 95 % confidence interval."""

    value: float
    low: float
    high: float

    def negated(self) -> Estimate:
        """Of a loss, the gain; a zero stays without a sign."""
        return Estimate(0.0 - self.value, 0.0 - self.high, 0.0 - self.low)


def share_of(count: int, total: int) -> Estimate:
    """count / total with the score interval (Wilson, "Probable inference, the law of succession, and statistical
    inference", JASA 22, 1927)."""
    share = count / total
    middle = (share + Z * Z / (2 * total)) / (1 + Z * Z / total)
    reach = Z / (1 + Z * Z / total) * math.sqrt(share * (1 - share) / total + Z * Z / (4 * total * total))
    # Rounding must not put an end on the wrong side.
    return Estimate(share, max(0.0, min(share, middle - reach)), min(1.0, max(share, middle + reach)))


def images_to_decide(share: float, limit: float) -> int | None:
    """How many images in all would put the score interval of the same share on one side of a limit; None if no number
    would.

    The limit lies outside the interval if it is more than Z standard errors, at the limit, away from the share (Wilson,
    as above)."""
    if share == limit:
        return None
    variance = limit * (1 - limit)
    return math.floor(Z * Z * variance / (share - limit) ** 2) + 1 if variance else None


def images_in_words(needed: int | None, now: int) -> str:
    """What would decide a gate of a share, for people."""
    if needed is None:
        return "no number of images would decide it: the figure is the limit, or the limit is all or nothing"
    return f"about {rounded_up(max(needed, now + 1))} images in all would decide it, if the figure stays"


def rounded_up(number: int) -> int:
    """With two digits, not below the number."""
    step = 10 ** max(len(str(number)) - 2, 0)
    return -(-number // step) * step


def mean_of_shares(shares: Sequence[Estimate], value: float) -> Estimate:
    """The mean of independent shares, which is `value`, its interval recovered from theirs (Zou, Huang and Zhang, "A
    note on confidence interval estimation for a linear function of binomial proportions", Computational Statistics and
    Data Analysis 53, 2009)."""
    below = math.sqrt(sum((each.value - each.low) ** 2 for each in shares)) / len(shares)
    above = math.sqrt(sum((each.high - each.value) ** 2 for each in shares)) / len(shares)
    return Estimate(value, max(0.0, value - below), min(1.0, value + above))


def mean_with_error(mean: float, deviation: float, total: int, least: float = -math.inf) -> Estimate:
    """A mean of many numbers with the normal interval; deviation: theirs, with n - 1. least: what no number is below,
    and so no mean."""
    reach = Z * deviation / math.sqrt(total)
    low = mean - reach
    return Estimate(mean, low if math.isnan(low) else max(least, low), mean + reach)


def difference_of_paired(only_first: int, only_other: int, total: int) -> Estimate:
    """(only_first - only_other) / total, where only_first images are correct in the first of two classifiers alone,
    with the adjusted Wald interval (Bonett and Price, "Adjusted Wald confidence interval for a difference of binomial
    proportions based on paired data", Journal of Educational and Behavioral Statistics 37, 2012)."""
    for_it, against = (only_first + 1) / (total + 2), (only_other + 1) / (total + 2)
    middle = for_it - against
    reach = Z * math.sqrt((for_it + against - middle * middle) / (total + 2))
    value = (only_first - only_other) / total
    return Estimate(value, max(-1.0, min(value, middle - reach)), min(1.0, max(value, middle + reach)))


def exact_paired_test(only_first: int, only_other: int) -> float:
    """The two-sided p-value of the images that only one of two classifiers predicts correctly, against a fair coin
    (McNemar, "Note on the sampling error of the difference between correlated proportions or percentages",
    Psychometrika 12, 1947, exact binomial form). 1 if there are none."""
    total, fewer = only_first + only_other, min(only_first, only_other)
    if 2 * fewer >= total:
        return 1.0
    logs = [
        math.lgamma(total + 1) - math.lgamma(k + 1) - math.lgamma(total - k + 1) - total * math.log(2)
        for k in range(fewer + 1)
    ]
    return min(1.0, 2 * math.fsum(map(math.exp, logs)))
