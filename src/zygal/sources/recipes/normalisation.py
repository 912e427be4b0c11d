"""Normalisations, and the statistics that they take."""

from __future__ import annotations

from collections.abc import Sequence
from math import prod

import numpy as np

from zygal.graph import Batch
from zygal.sources.emitter import Emitter


def variance(emit: Emitter, x: str, axes: Sequence[int], keep: bool, correction: float = 0) -> str:
    """The mean squared distance from the mean, times n / (n - correction)."""
    shape = emit.type_of(x).shape
    if any(isinstance(shape[axis], Batch) for axis in axes):
        emit.refuse("takes statistics over the batch")
    count = prod(shape[axis] for axis in axes)
    if not count:
        emit.refuse("takes statistics of nothing")
    centred = emit.step("Sub", x, emit.step("ReduceMean", x, axes=list(axes), keepdims=1))
    square = emit.step("Mul", centred, centred)
    if correction == 0:
        return emit.step("ReduceMean", square, axes=list(axes), keepdims=int(keep))
    total = emit.step("ReduceSum", square, axes=list(axes), keepdims=int(keep))
    return emit.step("Div", total, emit.number(float(max(count - correction, 0)), x))


def standardised(emit: Emitter, x: str, axes: Sequence[int], epsilon: float) -> str:
    """(x - mean) / sqrt(variance + epsilon), both over some axes."""
    centred = emit.step("Sub", x, emit.step("ReduceMean", x, axes=list(axes), keepdims=1))
    spread = emit.step("ReduceMean", emit.step("Mul", centred, centred), axes=list(axes), keepdims=1)
    return emit.step("Div", centred, emit.step("Sqrt", emit.step("Add", spread, emit.number(float(epsilon), x))))


def layer_normalisation(emit: Emitter, x: str, count: int, scale: str | None, shift: str | None, epsilon: float) -> str:
    """Zero mean and unit variance over the last `count` axes, then scale and shift of their shape; Ba et al., 2016."""
    sizes = emit.type_of(x).shape[-count:]
    scale = scale or emit.constant(np.ones(sizes, np.float32), "scale")
    inputs = (x, scale, shift) if shift else (x, scale)
    return emit.step("LayerNormalization", *inputs, axis=-count, epsilon=float(epsilon))


def by_mean_square(emit: Emitter, x: str, axes: Sequence[int], epsilon: float) -> str:
    """x / sqrt(mean(x^2) + epsilon); Zhang and Sennrich, 2019."""
    square = emit.step("ReduceMean", emit.step("Mul", x, x), axes=list(axes), keepdims=1)
    return emit.step("Div", x, emit.step("Sqrt", emit.step("Add", square, emit.number(float(epsilon), x))))


def group_normalisation(emit: Emitter, x: str, groups: int, epsilon: float) -> str:
    """Each group of channels of x [N, C, ...] as one instance; scale and shift are left to the caller. Wu and He,
    2018."""
    shape = emit.type_of(x).shape
    if shape[1] % groups:
        emit.refuse(f"cannot put {shape[1]} channels into {groups} groups")
    ones = emit.constant(np.ones(groups, np.float32), "ones")
    zeros = emit.constant(np.zeros(groups, np.float32), "zeros")
    split = emit.reshaped(x, [shape[0], groups, -1])
    return emit.reshaped(emit.step("InstanceNormalization", split, ones, zeros, epsilon=float(epsilon)), shape)


def unit_length(emit: Emitter, x: str, axes: Sequence[int], least: float, order: int = 2) -> str:
    """x divided by its length over some axes, which is taken for at least `least`."""
    length = emit.step(f"ReduceL{order}", x, axes=list(axes), keepdims=1)
    return emit.step("Div", x, emit.step("Max", length, emit.number(float(least), x)))


def local_response(emit: Emitter, x: str, around: tuple[int, int], alpha: float, beta: float, bias: float) -> str:
    """x / (bias + alpha * the mean of the squares of neighbouring channels) ^ beta, for x [N, C, ...]; around: how many
    channels before and behind count, those beyond the border as zeros. Krizhevsky et al., 2012."""
    shape, (before, behind) = emit.type_of(x).shape, around
    squares = emit.reshaped(emit.step("Mul", x, x), [shape[0], 1, shape[1], prod(shape[2:])])
    windows = {"kernel_shape": [before + 1 + behind, 1], "pads": [before, 0, behind, 0]}
    mean = emit.reshaped(emit.step("AveragePool", squares, count_include_pad=1, **windows), shape)
    base = emit.step("Add", emit.step("Mul", mean, emit.number(alpha, x)), emit.number(bias, x))
    return emit.step("Div", x, emit.step("Pow", base, emit.number(beta, x)))
