"""Sliding windows: the geometry that convolutions and poolings share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from zygal.graph.shapes import OPEN, Open


def output_size(size: int, kernel: int, stride: int, pads: tuple[int, int], dilation: int, ceil: bool = False) -> int:
    """The number of window positions along one axis, by the formula of the ONNX operators.

    With `ceil` a last window that begins inside the input or its leading pad is added. Raises ValueError.
    """
    if isinstance(size, Open):
        return OPEN
    if not isinstance(size, int):
        raise ValueError("windows do not slide along the batch")
    span = size + sum(pads) - dilation * (kernel - 1) - 1
    # A single window that stands out behind the end is one that `ceil` asks for, if it begins early enough.
    if span < 0 and not (ceil and span + stride > 0):
        raise ValueError(
            f"a window of {dilation * (kernel - 1) + 1} is larger than the padded input of {size + sum(pads)}"
        )
    count = (span + stride - 1 if ceil else span) // stride + 1
    if ceil and (count - 1) * stride >= size + pads[0]:
        count -= 1
    return count


def same_pads(
    sizes: Sequence[int], kernel: Sequence[int], strides: Sequence[int], dilations: Sequence[int]
) -> list[int]:
    """Begins and ends that make ceil(size / stride) windows, an odd pad lying at the end."""
    totals = [
        max((-(-n // s) - 1) * s + d * (k - 1) + 1 - n, 0) for n, k, s, d in zip(sizes, kernel, strides, dilations)
    ]
    return [total // 2 for total in totals] + [total - total // 2 for total in totals]


@dataclass(frozen=True)
class Geometry:
    """How windows slide over the spatial axes; `pads` is one pair an axis."""

    kernel: tuple[int, ...]
    strides: tuple[int, ...]
    pads: tuple[tuple[int, int], ...]
    dilations: tuple[int, ...]
    ceil: bool = False

    @staticmethod
    def of(attributes: Mapping[str, Any], kernel: Sequence[int]) -> Geometry:
        """From the standard's attributes; what is left out is 1, or 0 for pads. Raises ValueError."""
        axes = len(kernel)
        pads = attributes.get("pads") or (0,) * (2 * axes)
        strides = attributes.get("strides") or (1,) * axes
        dilations = attributes.get("dilations") or (1,) * axes
        if len(pads) != 2 * axes or len(strides) != axes or len(dilations) != axes:
            raise ValueError(f"its strides, pads or dilations are not for {axes} axes")
        # The standard lists all begins and then all ends.
        pairs = tuple(zip(pads[:axes], pads[axes:]))
        return Geometry(tuple(kernel), tuple(strides), pairs, tuple(dilations), bool(attributes.get("ceil_mode", 0)))

    def counts(self, spatial: Sequence[int]) -> tuple[int, ...]:
        """The number of window positions along each axis. Raises ValueError."""
        each = zip(spatial, self.kernel, self.strides, self.pads, self.dilations, strict=True)
        return tuple(output_size(*axis, self.ceil) for axis in each)


def windows(x: np.ndarray, geometry: Geometry, fill: float, counts: Sequence[int] | None = None) -> np.ndarray:
    """Views of all windows of x [N, C, *spatial]: [N, C, *counts, *kernel].

    The input is padded with `fill`, also behind the end where a last window needs it.
    """
    g = geometry
    counts = g.counts(x.shape[2:]) if counts is None else counts
    reach = [d * (k - 1) + 1 for d, k in zip(g.dilations, g.kernel)]
    padding = [(0, 0), (0, 0)]
    for axis, (before, after) in enumerate(g.pads):
        needed = (counts[axis] - 1) * g.strides[axis] + reach[axis]
        padding.append((before, max(after, needed - x.shape[axis + 2] - before)))
    x = np.pad(x, padding, constant_values=fill)
    spatial = tuple(range(2, x.ndim))
    views = np.lib.stride_tricks.sliding_window_view(x, reach, axis=spatial)
    steps = tuple(slice(0, (c - 1) * s + 1, s) for c, s in zip(counts, g.strides))
    holes = tuple(slice(None, None, d) for d in g.dilations)
    return views[(slice(None), slice(None), *steps, *holes)]
