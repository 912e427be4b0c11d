"""Ranges of activations, and the steps in which they are stored.

The range is the one that minimises the expected squared error over the values' histogram, not the one from the smallest to the
largest: what is rarely reached is clipped, so that everything else has finer steps (Banner et al., "Post training 4-bit quantization of
convolutional networks", 2019, in its form for a measured distribution). Zero is always stored exactly (Jacob et al., 2018).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygal.shrink.form import Form

BINS = 4096
_SHARES = np.concatenate([np.geomspace(0.02, 0.5, 24, endpoint=False), np.linspace(0.5, 1.0, 41)])
"""The parts of the full range that are tried."""


class Histogram:
    """Counts of values in BINS equal bins from -reach to reach; the reach doubles when larger values come. Zeros are counted apart,
    because they are stored without an error. low, high: the extremes of all values, counted or not."""

    def __init__(self) -> None:
        self.counts, self.reach, self.zeros = np.zeros(BINS, np.int64), 0.0, 0
        self.low, self.high = 0.0, 0.0

    def add(self, values: np.ndarray, low: float, high: float) -> None:
        """values: finite, float32. low, high: extremes of what they are a sample of."""
        self.low, self.high = min(self.low, low), max(self.high, high)
        self._reach_to(max(-low, high))
        if self.reach == 0:
            self.zeros += values.size
            return
        values = values.ravel()
        filled = values[values != 0]
        self.zeros += values.size - filled.size
        places = ((filled + np.float32(self.reach)) * np.float32(BINS / (2 * self.reach))).astype(np.int32)
        self.counts += np.bincount(np.clip(places, 0, BINS - 1, out=places), minlength=BINS)

    def _reach_to(self, largest: float) -> None:
        if largest > 0 and self.reach == 0:
            self.reach = largest
        while largest > self.reach:
            halved = self.counts.reshape(-1, 2).sum(1)
            self.counts = np.concatenate([np.zeros(BINS // 4, np.int64), halved, np.zeros(BINS // 4, np.int64)])
            self.reach *= 2

    def joined(self, other: Histogram) -> Histogram:
        """Both together."""
        result = Histogram()
        result.low, result.high, result.zeros = min(self.low, other.low), max(self.high, other.high), self.zeros + other.zeros
        result.reach = max(self.reach, other.reach)
        for each in (self, other):
            if each.reach:
                places = ((each.centres + result.reach) * (BINS / (2 * result.reach))).astype(np.int64)
                result.counts += np.bincount(np.clip(places, 0, BINS - 1), each.counts, BINS).astype(np.int64)
        return result

    @property
    def centres(self) -> np.ndarray:
        return (np.arange(BINS) + 0.5) * (2 * self.reach / BINS) - self.reach

    @property
    def total(self) -> int:
        return int(self.counts.sum()) + self.zeros


@dataclass(frozen=True)
class Steps:
    """real = scale * (stored - zero). clipped: the share of the values beyond what can be stored. error: the expected squared error."""

    scale: np.float32
    zero: int
    clipped: float
    error: float

    def ends(self, form: Form) -> tuple[float, float]:
        """The smallest and the largest number that can be stored."""
        return tuple(float(self.scale) * (limit - self.zero) for limit in form.limits)


def best_steps(histogram: Histogram, form: Form, function: Callable[[np.ndarray], np.ndarray] | None = None) -> Steps:
    """The steps with the least expected squared error: rounding adds scale**2 / 12 inside the range, clipping the squared distance
    from its end outside. function: what alone reads the values, on each by itself; then the error of its results counts."""
    low, high = histogram.low, histogram.high
    if low == high:
        return Steps(np.float32(1.0), form.limits[0], 0.0, 0.0)
    filled = histogram.counts > 0
    centres, weights = np.clip(histogram.centres[filled], low, high), histogram.counts[filled] / max(histogram.total, 1)
    images = centres if function is None else function(centres)
    slopes = np.ones_like(centres) if function is None else np.gradient(function(np.linspace(low, high, BINS)), (high - low) / (BINS - 1))[
        np.clip(((centres - low) * ((BINS - 1) / (high - low))).astype(int), 0, BINS - 1)]  # fmt: skip
    best = None
    lows = [0.0] if low == 0 else low * _SHARES
    highs = [0.0] if high == 0 else high * _SHARES
    # One end after the other, twice: the ends hardly depend on each other.
    ends = [float(lows[-1]), float(highs[-1])]
    for place, candidates in ((0, lows), (1, highs), (0, lows), (1, highs)):
        tried = [_error((end, ends[1]) if place == 0 else (ends[0], end), centres, weights, images, slopes, function, form) for end in candidates]
        chosen = int(np.argmin(tried))
        ends[place], best = float(candidates[chosen]), tried[chosen]
    scale, zero = _scale_and_zero(*ends, form)
    first, last = (scale * (limit - zero) for limit in form.limits)
    clipped = float(weights[(centres < first - scale / 2) | (centres > last + scale / 2)].sum())
    return Steps(np.float32(scale), zero, clipped, float(best))


def _scale_and_zero(low: float, high: float, form: Form) -> tuple[float, int]:
    first, last = form.limits
    scale = float(np.float32(max((high - low) / (last - first), 1e-30)))
    return scale, int(np.clip(round(first - low / scale), first, last))


def _error(ends, centres, weights, images, slopes, function, form: Form) -> float:
    scale, zero = _scale_and_zero(*ends, form)
    first, last = (scale * (limit - zero) for limit in form.limits)
    inside = (centres >= first) & (centres <= last)
    rounded = scale * scale / 12 * float((weights * slopes**2)[inside].sum())
    if function is None:
        beyond = centres - np.clip(centres, first, last)
    else:
        beyond = np.where(inside, 0.0, images - function(np.clip(centres, first, last)))
    return rounded + float((weights * beyond**2).sum())


def stored_as(values: np.ndarray, steps: Steps, form: Form) -> np.ndarray:
    """Values as they come back from being stored, float32."""
    first, last = form.limits
    stored = np.rint(values / steps.scale)
    np.clip(stored, first - steps.zero, last - steps.zero, out=stored)
    return stored * steps.scale
