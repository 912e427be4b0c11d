"""Images taken apart into windows."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zygal.graph import Batch
from zygal.sources.emitter import Emitter
from zygal.sources.recipes.arranging import by_matrices


def columns(emit: Emitter, x: str, kernel, dilation, pads, stride) -> tuple[str, list[int]]:
    """Every window's pixels [N, C, *kernel, *counts], and the counts of windows along both axes."""
    if any(pads):
        x = emit.step("Pad", x, pads=[0, 0, *pads[:2], 0, 0, *pads[2:]])
    counts = []
    for axis in (0, 1):
        size = emit.type_of(x).shape[2 + 2 * axis]
        count = (size - dilation[axis] * (kernel[axis] - 1) - 1) // stride[axis] + 1
        places = np.arange(kernel[axis])[:, None] * dilation[axis] + np.arange(count) * stride[axis]
        x = emit.step("Gather", x, emit.constant(places, f"windows{axis}"), axis=2 + 2 * axis)
        counts.append(count)
    return emit.step("Transpose", x, perm=[0, 1, 2, 4, 3, 5]), counts


def each_image_its_own(
    emit: Emitter, inputs: Sequence[str], groups: Batch, strides: list[int], pads: list[int], dilations: list[int]
) -> str:
    """Images side by side as groups of channels, each with kernels of its own: one matrix product an image.

    x [1, C N, H, W], weight [M N, C / groups, *kernel]; dynamic convolutions are written like this
    (Yang et al., 2019).
    """
    x, weight = inputs[:2]
    (single, channels, height, width), (out, own, *kernel) = (emit.type_of(each).shape for each in (x, weight))
    if single != 1 or len(kernel) != 2 or not isinstance(out, Batch) or channels.times != groups.times * own:
        emit.refuse("mixes the images of a batch")
    images = emit.reshaped(x, [Batch(), channels.times, height, width])
    windows, counts = columns(emit, images, kernel, dilations, pads, strides)
    taps, spots = own * kernel[0] * kernel[1], counts[0] * counts[1]
    windows = emit.reshaped(windows, [Batch(), groups.times, taps, spots])
    kernels = emit.reshaped(weight, [Batch(), groups.times, out.times // groups.times, taps])
    made = emit.step("MatMul", kernels, windows)
    if len(inputs) > 2:
        shift = emit.reshaped(inputs[2], [Batch(), groups.times, out.times // groups.times, 1])
        made = emit.step("Add", made, shift)
    return emit.reshaped(made, [1, out, *counts])


def pooled_to(emit: Emitter, x: str, wanted: Sequence[int]) -> str:
    """The means of as many windows as are wanted along each of the last axes, which cover x [N, C, ...]: an ordinary
    pooling where they are alike, else two matrices."""
    spatial = emit.type_of(x).shape[2:]
    if all(size == 1 for size in wanted):
        return emit.step("GlobalAveragePool", x)
    if tuple(wanted) == spatial:
        return emit.step("Identity", x)
    if not any(size % parts for size, parts in zip(spatial, wanted)):
        kernel = [size // parts for size, parts in zip(spatial, wanted)]
        return emit.step("AveragePool", x, kernel_shape=kernel, strides=kernel, pads=[0] * 2 * len(kernel))
    if len(spatial) > 2:
        emit.refuse(f"pools {list(spatial)} to {list(wanted)} with windows of unequal size, which is not supported")
    return by_matrices(emit, x, [window_means(size, parts) for size, parts in zip(spatial, wanted)])


def window_means(size: int, parts: int) -> np.ndarray:
    """The weights [parts, size] of windows that cover an axis: window i is from floor(i n / m) up to
    ceil((i + 1) n / m)."""
    matrix = np.zeros((parts, size))
    for part in range(parts):
        start, end = part * size // parts, -(-(part + 1) * size // parts)
        matrix[part, start:end] = 1 / (end - start)
    return matrix
