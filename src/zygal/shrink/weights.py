"""Weights in 8 bits: symmetric, one scale for each output channel, with the shift of the mean that they cause taken out
of the bias."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.graph.passes.rules import attribute
from zygal.shrink.network import Unit

LARGEST_BIAS = 2**30
"""A bias is held in 32 bits together with the sum of the products."""


@dataclass(frozen=True)
class QuantizedWeight:
    """array: int8, in the shape of the weight. scales: of each output channel, float32."""

    array: np.ndarray
    scales: np.ndarray

    def real(self, axis: int) -> np.ndarray:
        """The numbers that the quantized ones stand for."""
        return self.array.astype(np.float32) * along(self.scales, self.array.ndim, axis)


def quantized_weight(
    weight: np.ndarray, axis: int, limit: int, bias: np.ndarray | None = None, given: float | None = None
) -> QuantizedWeight:
    """The weight, scaled by its largest number in each output channel; Jacob et al., 2018, and Krishnamoorthi, 2018,
    for one scale a channel. Of a few smaller ranges the one with the least squared error is taken, as for activations.
    bias, given: the bias and the scale of what is multiplied: a channel's scale is kept so large that its bias fits
    into 32 bits."""
    rows = np.moveaxis(weight, axis, 0).reshape(weight.shape[axis], -1)
    largest = np.abs(rows).max(axis=1)
    least = np.full(largest.shape, np.inf)
    scales = np.ones(largest.shape, np.float32)
    for share in (1.0, 0.95, 0.9, 0.85, 0.8):
        tried = (np.maximum(largest * share, 1e-30) / limit).astype(np.float32)
        back = np.clip(np.rint(rows / tried[:, None]), -limit, limit) * tried[:, None]
        error = np.square(rows - back).sum(axis=1, dtype=np.float64)
        better = error < least
        least, scales = np.where(better, error, least), np.where(better, tried, scales)
    scales = np.where(largest > 0, scales, np.float32(1.0))
    if bias is not None and given is not None:
        scales = np.maximum(scales, np.abs(bias) / (np.float32(given) * LARGEST_BIAS)).astype(np.float32)
    quantized = np.clip(np.rint(weight / along(scales, weight.ndim, axis)), -limit, limit).astype(np.int8)
    return QuantizedWeight(quantized, scales)


def mean_shift(
    unit: Unit, weight: np.ndarray, kept: QuantizedWeight, mean: np.ndarray, quantized_mean: np.ndarray
) -> np.ndarray:
    """By how much the mean of each output channel grows when the weight and what it is multiplied with are quantized:
    the difference of the products with the means of the input channels (Nagel et al., "Data-free quantization through
    weight equalization and bias correction", ICCV 2019, section 4.2, with measured means).

    mean, quantized_mean: of each input channel, before and after it is quantized. Returns float64 [output channels].
    """
    return product_of_means(unit, kept.real(unit.axis), quantized_mean) - product_of_means(unit, weight, mean)


def product_of_means(unit: Unit, weight: np.ndarray, mean: np.ndarray) -> np.ndarray:
    """What a weight makes of the means of its input channels."""
    weight = weight.astype(np.float64)
    if unit.node.operator != "Conv":
        return mean @ (weight.T if unit.axis == 0 else weight)
    taps = weight.reshape(*weight.shape[:2], -1).sum(axis=2)
    groups = attribute(unit.node, "group")
    parts = mean.reshape(groups, -1)
    return np.einsum("goc,gc->go", taps.reshape(groups, -1, taps.shape[1]), parts).ravel()


def along(array: np.ndarray, rank: int, axis: int) -> np.ndarray:
    """One number for each place of an axis, as it broadcasts."""
    return array.reshape([-1 if place == axis else 1 for place in range(rank)])
