"""Ranges of activations, and the scale and zero point with which they are quantized.

The range is the one that minimises the expected squared error over the values' histogram, not the one from the smallest
to the largest: what is rarely reached is clipped, so that everything else has a finer scale (Banner et al., "Post
training 4-bit quantization of convolutional networks", 2019, in its form for a measured distribution). Zero is always
quantized exactly (Jacob et al., 2018).
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
    """Counts of values in BINS equal bins from -reach to reach; the reach doubles when larger values come. Zeros are
    counted apart, because they are quantized without an error. low, high: the extremes of all values, counted or
    not."""

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
        result.low, result.high, result.zeros = (
            min(self.low, other.low),
            max(self.high, other.high),
            self.zeros + other.zeros,
        )
        result.reach = max(self.reach, other.reach)
        for each in (self, other):
            if each.reach:
                places = ((each.centres + result.reach) * (BINS / (2 * result.reach))).astype(np.int64)
                result.counts += np.bincount(np.clip(places, 0, BINS - 1), each.counts, BINS).astype(np.int64)
        return result

    @property
    def centres(self) -> np.ndarray:
        """The middle of each bin."""
        return (np.arange(BINS) + 0.5) * (2 * self.reach / BINS) - self.reach

    @property
    def total(self) -> int:
        """How many values were counted."""
        return int(self.counts.sum()) + self.zeros


@dataclass(frozen=True)
class Quantization:
    """real = scale * (quantized - zero_point). clipped: the share of the values beyond what can be quantized. error:
    the expected squared error."""

    scale: np.float32
    zero_point: int
    clipped: float
    error: float


def best_quantization(
    histogram: Histogram, form: Form, function: Callable[[np.ndarray], np.ndarray] | None = None
) -> Quantization:
    """The quantization with the least expected squared error: rounding adds scale**2 / 12 inside the range, clipping
    the squared distance from its end outside. function: what alone reads the values, on each by itself; then the error
    of its results counts."""
    low, high = histogram.low, histogram.high
    if low == high:
        return Quantization(np.float32(1.0), form.limits[0], 0.0, 0.0)
    function = function or (lambda values: values)
    sums = _Sums(histogram, function)
    lows, highs = (np.array([0.0]) if end == 0 else end * _SHARES for end in (low, high))
    scales, zeros = _scales_and_zeros(lows[:, None], highs[None, :], form)
    errors = sums.errors(scales, zeros, form)
    # Of equal ones the widest range.
    best = np.unravel_index(errors.size - 1 - np.argmin(errors.ravel()[::-1]), errors.shape)
    return Quantization(
        np.float32(scales[best]), int(zeros[best]), sums.clipped(scales[best], zeros[best], form), float(errors[best])
    )


def _scales_and_zeros(low: np.ndarray, high: np.ndarray, form: Form) -> tuple[np.ndarray, np.ndarray]:
    first, last = form.limits
    scales = np.maximum((high - low) / (last - first), 1e-30).astype(np.float32).astype(np.float64)
    return scales, np.clip(np.rint(first - low / scales), first, last)


class _Sums:
    """Running sums over a histogram, from which the error of any range follows at once."""

    def __init__(self, histogram: Histogram, function: Callable[[np.ndarray], np.ndarray]):
        filled = histogram.counts > 0
        low, high = histogram.low, histogram.high
        self.centres = np.clip(histogram.centres[filled], low, high)
        self.function = function
        weights = histogram.counts[filled] / max(histogram.total, 1)
        images = function(self.centres)
        reach = (high - low) / BINS
        slopes = (function(self.centres + reach) - function(self.centres - reach)) / (2 * reach)
        self.tolerance = 1e-3 * max(float(np.ptp(images)), 1e-30)
        self.rounded, self.mass, self.first, self.second = (
            np.concatenate([[0.0], np.cumsum(weights * each)]) for each in (slopes**2, 1.0, images, images**2)
        )
        self.weights, self.images = weights, images

    def errors(self, scales: np.ndarray, zeros: np.ndarray, form: Form) -> np.ndarray:
        first, last = (scales * (limit - zeros) for limit in form.limits)
        below, above = np.searchsorted(self.centres, first), np.searchsorted(self.centres, last, "right")
        inside = scales**2 / 12 * (self.rounded[above] - self.rounded[below])
        return inside + self._clipped_to(first, 0, below) + self._clipped_to(last, above, -1)

    def _clipped_to(self, end: np.ndarray, start, stop) -> np.ndarray:
        """The squared distance of the images between two places from that of the end."""
        image = self.function(end)
        mass, first, second = (each[stop] - each[start] for each in (self.mass, self.first, self.second))
        return np.maximum(second - 2 * image * first + image**2 * mass, 0.0)

    def clipped(self, scale: float, zero: float, form: Form) -> float:
        """The share of the values that being held within the range changes."""
        ends = [scale * (limit - zero) for limit in form.limits]
        held = np.clip(self.centres, *ends)
        beyond = (np.abs(self.centres - held) > scale / 2) & (
            np.abs(self.images - self.function(held)) > self.tolerance
        )
        return float(self.weights[beyond].sum())


def quantized_and_back(values: np.ndarray, quantization: Quantization, form: Form) -> np.ndarray:
    """Values as they come back from being quantized, float32."""
    first, last = form.limits
    quantized = np.rint(values / quantization.scale)
    np.clip(quantized, first - quantization.zero_point, last - quantization.zero_point, out=quantized)
    return quantized * quantization.scale
