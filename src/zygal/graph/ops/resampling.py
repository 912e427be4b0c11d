"""Resampling to another size. A separable resize is two small matrices, one for the rows and one for the columns."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import ANYTHING, Operator, Parameter, register
from zygal.graph.shapes import TensorType


def resampling_matrix(
    size: int,
    wanted: int,
    mode: str,
    grid: str,
    scale: float | None = None,
    antialias: bool = False,
    widening: float | None = None,
) -> np.ndarray:
    """The weights [wanted, size] with which each new sample is made of the old ones, float64.

    mode: linear or cubic (coefficient -0.75; Keys, 1981). grid: where sample i lies in the old
    numbering: "asymmetric" i / scale, "half_pixel" (i + 1/2) / scale - 1/2, "align_corners"
    i (size - 1) / (wanted - 1). `scale` is wanted / size unless given. Beyond the border the border's sample
    counts. With antialias the filter (cubic: coefficient -0.5) is widened when shrinking, and what lies beyond the
    border is left out and the rest scaled up; `widening` 1 keeps the filter as narrow as for enlarging.
    """
    scale = wanted / size if scale is None else scale
    places = np.arange(wanted, dtype=np.float64)
    if grid == "align_corners":
        places = places * ((size - 1) / (wanted - 1) if wanted > 1 else 0.0)
    else:
        places = places / scale if grid == "asymmetric" else (places + 0.5) / scale - 0.5
    if antialias:
        return _widened(size, places, mode, min(scale, 1.0) if widening is None else widening)
    if mode == "linear":
        places = np.maximum(places, 0)
    reach = {"linear": 1, "cubic": 2}[mode]
    first = np.floor(places).astype(int)
    matrix = np.zeros((wanted, size))
    for offset in range(1 - reach, reach + 1):
        taken = first + offset
        weight = filter_kernel(mode, -0.75)(places - taken)
        np.add.at(matrix, (np.arange(wanted), np.clip(taken, 0, size - 1)), weight)
    return matrix


ROUNDED = {
    "round_prefer_floor": lambda twice, below: (twice + below - 1) // (2 * below),
    "round_prefer_ceil": lambda twice, below: (twice + below) // (2 * below),
    "floor": lambda twice, below: twice // (2 * below),
    "ceil": lambda twice, below: -(-twice // (2 * below)),
}
"""How the standard takes one sample for a place between two, by its names: of the place as twice / (2 below), in whole
numbers."""
GRIDS = {
    "half_pixel": lambda index, factor, size: (2 * index + 1 - factor, factor),
    "asymmetric": lambda index, factor, size: (2 * index, factor),
    "pytorch_half_pixel": lambda index, factor, size: (
        (2 * index + 1 - factor, factor) if size * factor > 1 else (0 * index, 1)
    ),
    "align_corners": lambda index, factor, size: (
        (2 * index * (size - 1), size * factor - 1) if size * factor > 1 else (0 * index, 1)
    ),
}
"""Where sample `index` of an image enlarged by a whole factor lies in the old numbering: twice the numerator, and the
denominator."""


def nearest_samples(size: int, factor: int, grid: str, rounding: str) -> np.ndarray:
    """Which of `size` samples is taken for each of size * factor, exactly."""
    twice, below = GRIDS[grid](np.arange(size * factor), factor, size)
    return np.clip(ROUNDED[rounding](twice, below), 0, size - 1)


def _widened(size: int, places: np.ndarray, mode: str, scale: float) -> np.ndarray:
    samples = np.arange(size)
    matrix = filter_kernel(mode, -0.5)((places[:, None] - samples) * scale)
    return matrix / matrix.sum(1, keepdims=True)


def filter_kernel(mode: str, a: float):
    """The weight of a sample by its distance; `a` is the coefficient of the cubic filter."""

    def linear(x):
        return np.maximum(1 - np.abs(x), 0)

    def cubic(x):
        x = np.abs(x)
        near = ((a + 2) * x - (a + 3)) * x * x + 1
        far = ((x - 5) * x + 8) * x * a - 4 * a
        return np.where(x <= 1, near, np.where(x < 2, far, 0))

    return linear if mode == "linear" else cubic


@register
class Resize(Operator):
    """Enlarges the last two axes of x [N, C, H, W] by whole factors.

    Other ratios are better stated as matrix products: the standard hands ratios over as float32, which is
    too coarse to say every size exactly.
    """

    name = "Resize"
    accepts = (ANYTHING,)
    parameters = (
        Parameter("scales"),
        Parameter("mode", "nearest"),
        Parameter("coordinate_transformation_mode", "half_pixel"),
        Parameter("nearest_mode", "round_prefer_floor"),
    )

    def infer(self, inputs, attributes):
        (x,) = inputs
        scales = attributes["scales"]
        if len(scales) != 4 or x.rank != 4 or list(scales[:2]) != [1, 1] or any(s != int(s) for s in scales):
            raise ValueError(f"only images enlarged by whole factors are resized like this, not {list(scales)}")
        if (
            attributes["mode"] not in ("nearest", "linear", "cubic")
            or attributes["coordinate_transformation_mode"] not in GRIDS
            or attributes["nearest_mode"] not in ROUNDED
        ):
            raise ValueError(
                f"it resizes by {attributes['mode']} on the grid "
                f"{attributes['coordinate_transformation_mode']}, rounding by {attributes['nearest_mode']}"
            )
        return [TensorType(x.dtype, (*x.shape[:2], *(size * int(s) for size, s in zip(x.shape[2:], scales[2:]))))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        grid = attributes["coordinate_transformation_mode"]
        factors = [int(each) for each in attributes["scales"][2:]]
        if attributes["mode"] == "nearest":
            rows, columns = (
                nearest_samples(size, factor, grid, attributes["nearest_mode"])
                for size, factor in zip(x.shape[2:], factors)
            )
            return [x[:, :, rows][:, :, :, columns]]
        rows, columns = (
            resampling_matrix(
                size, size * factor, attributes["mode"], "half_pixel" if grid == "pytorch_half_pixel" else grid
            )
            for size, factor in zip(x.shape[2:], factors)
        )
        return [np.einsum("ih,nchw,jw->ncij", rows, x, columns, optimize=True).astype(x.dtype)]
