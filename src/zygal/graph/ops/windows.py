"""Sliding windows: the geometry that convolutions and poolings share."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np


def output_size(size: int, kernel: int, stride: int, pads: tuple[int, int], dilation: int, ceil: bool = False) -> int:
    """The number of window positions along one axis, by the formula of the ONNX operators.

    With `ceil` a last window that begins inside the input or its leading pad is added. Raises ValueError.
    """
    if not isinstance(size, int):
        raise ValueError("windows do not slide along the batch")
    room = size + sum(pads) - dilation * (kernel - 1) - 1
    if room < 0:
        raise ValueError(
            f"a window of {dilation * (kernel - 1) + 1} is larger than the padded input of {size + sum(pads)}"
        )
    count = (room + stride - 1 if ceil else room) // stride + 1
    if ceil and (count - 1) * stride >= size + pads[0]:
        count -= 1
    return count


def axis_pads(pads: Sequence[int]) -> list[tuple[int, int]]:
    """The standard's list of all begins and then all ends, as one pair an axis."""
    half = len(pads) // 2
    return list(zip(pads[:half], pads[half:]))


def windows(
    x: np.ndarray,
    kernel: Sequence[int],
    strides: Sequence[int],
    pads: Sequence[tuple[int, int]],
    dilations: Sequence[int],
    counts: Sequence[int],
    fill: float,
) -> np.ndarray:
    """Views of all windows of x [N, C, *spatial]: [N, C, *counts, *kernel].

    The input is padded with `fill`, also behind the end where a last window needs it.
    """
    padding = [(0, 0), (0, 0)]
    for axis, (before, after) in enumerate(pads):
        needed = (counts[axis] - 1) * strides[axis] + dilations[axis] * (kernel[axis] - 1) + 1
        padding.append((before, max(after, needed - x.shape[axis + 2] - before)))
    x = np.pad(x, padding, constant_values=fill)
    reach = [d * (k - 1) + 1 for d, k in zip(dilations, kernel)]
    spatial = tuple(range(2, x.ndim))
    views = np.lib.stride_tricks.sliding_window_view(x, reach, axis=spatial)
    steps = tuple(slice(0, (c - 1) * s + 1, s) for c, s in zip(counts, strides))
    holes = tuple(slice(None, None, d) for d in dilations)
    return views[(slice(None), slice(None), *steps, *holes)]
