"""Resizing as two small matrices: each output row is a weighted sum of a few neighbouring input rows, each column
likewise.

Every convention in use is a way to fill the matrix. What differs beyond that is when the sums are
rounded to 8 bits, and with weights of how many bits; see `rounding`.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from zygal.inlet.sizes import Axis
from zygal.inlet.specification import KERNELS, Resize


@dataclass(frozen=True)
class Windows:
    """A matrix [outputs, inputs] with few entries a row: output i is weights[i] @ inputs[first[i] : first[i] + taps].

    first: int64 [outputs]. weights: float64 [outputs, taps]; each row sums to 1.
    """

    first: np.ndarray
    weights: np.ndarray


def _cubic(coefficient: float) -> Callable[[np.ndarray], np.ndarray]:
    """Keys, "Cubic convolution interpolation for digital image processing", 1981, eq. 4."""
    a = coefficient

    def kernel(x: np.ndarray) -> np.ndarray:
        near = ((a + 2) * x - (a + 3)) * x * x + 1
        far = (((x - 5) * x + 8) * x - 4) * a
        return np.where(x < 1, near, np.where(x < 2, far, 0.0))

    return kernel


def _mitchell(x: np.ndarray) -> np.ndarray:
    """Mitchell and Netravali, "Reconstruction filters in computer graphics", 1988, eq. 8 with B = C = 1/3."""
    near = ((7 / 6 * x - 2) * x) * x + 8 / 9
    far = ((-7 / 18 * x + 2) * x - 10 / 3) * x + 16 / 9
    return np.where(x < 1, near, np.where(x < 2, far, 0.0))


def _lanczos(lobes: int) -> Callable[[np.ndarray], np.ndarray]:
    """Duchon, "Lanczos filtering in one and two dimensions", 1979."""
    return lambda x: np.where(x < lobes, np.sinc(x) * np.sinc(x / lobes), 0.0)


HAMMING = float(np.float32(0.54)), float(np.float32(0.46))
"""The two terms of the Hamming window, in float32 as Pillow has them: they differ from 0.54 by 2e-8, which moves
pixels."""
RADIUS = {
    "bilinear": 1,
    "hamming": 1,
    "bicubic": 2,
    "mitchell": 2,
    "gaussian": 1.5,
    "lanczos": 3,
    "lanczos4": 4,
    "lanczos5": 5,
}
GAUSSIAN = 0.5
"""Standard deviation of the filter "gaussian", a third of its radius."""


def _kernel(step: Resize) -> Callable[[np.ndarray], np.ndarray]:
    if step.filter == "bicubic":
        return _cubic(step.cubic)
    if step.filter == "bilinear":
        return lambda x: np.maximum(0.0, 1 - x)
    if step.filter == "mitchell":
        return _mitchell
    if step.filter == "gaussian":
        return lambda x: np.where(x < 1.5, np.exp(-0.5 * (x / GAUSSIAN) ** 2), 0.0)
    if step.filter == "hamming":
        level, swing = HAMMING
        return lambda x: np.where(x < 1, np.sinc(x) * (level + swing * np.cos(np.pi * x)), 0.0)
    return _lanczos(RADIUS[step.filter])


@lru_cache(maxsize=4096)
def windows(axis: Axis, step: Resize) -> Windows:
    """The matrix that resizes one axis by the convention of `step`."""
    sized = replace(
        step, short_side=None, within=None, cover=None, factor=None, size=(1, 1), long_side="down", enlarge=True
    )
    return _windows(axis, replace(sized, grid_scale="sizes", box="whole", order="by-shrinkage", reduce_above=None))


@lru_cache(maxsize=2048)
def _windows(axis: Axis, step: Resize) -> Windows:
    if step.prefilter == "gaussian" and axis.scale > 1:
        plain = _windows(axis, replace(step, prefilter="none"))
        edges = step.edges if step.edges in ("zero", "repeat") else "reflect"
        return _after(gaussian_taps((axis.scale - 1) / 2, None), plain, axis.inputs, edges)
    index = np.arange(axis.outputs)
    if step.filter == "nearest":
        return Windows(_nearest(index, axis, step), np.ones((axis.outputs, 1)))
    if step.filter in ("area", "adaptive"):
        return _covered(index, axis, step)
    centre = centres(axis, step.grid) if step.scale != "float32" else _float32_centres(axis, step.grid)
    if step.filter == "area-linear":
        return _between(*_area_positions(index, axis), axis.inputs)
    if step.filter in KERNELS and step.rounding.startswith("fixed"):
        return _as_opencv(axis, step)
    if step.filter == "box":
        return _boxes(index, centre, axis, step)
    if step.filter == "spline":
        # A spline through the pixels has no weights to leave out: it is mirrored unless it is told otherwise.
        edges = step.edges if step.edges in ("zero", "repeat") else "reflect"
        weights = _folded(*_tapped(centre, 2.0, 1.0, _b_spline), axis.inputs, edges, normal=False)
        return _after(_spline_taps(), weights, axis.inputs, "reflect")
    widened = max(axis.scale, 1.0) if step.antialias else 1.0
    return _folded(*_tapped(centre, RADIUS[step.filter], widened, _kernel(step)), axis.inputs, step.edges)


def _tapped(centre: np.ndarray, radius: float, widened: float, kernel) -> tuple[np.ndarray, np.ndarray]:
    reach = radius * widened
    first = np.floor(centre - reach).astype(np.int64) + 1
    distance = np.abs(first[:, None] + np.arange(int(np.ceil(2 * reach)) + 1) - centre[:, None])
    return first, kernel(distance / widened)


def centres(axis: Axis, grid: str) -> np.ndarray:
    """Where the centres of the output pixels lie on the input, the centre of its first pixel being 0."""
    index = np.arange(axis.outputs)
    if grid == "corners":
        return index * ((axis.inputs - 1) / (axis.outputs - 1) if axis.outputs > 1 else 0.0)
    if grid == "asymmetric":
        return axis.start + index * axis.scale
    return axis.start + (index + 0.5) * axis.scale - 0.5


def _float32_centres(axis: Axis, grid: str) -> np.ndarray:
    """The same in float32, operation by operation, as tensor libraries compute them."""
    one = np.float32
    index = np.arange(axis.outputs, dtype=one)
    if grid == "corners":
        return index * (one(axis.inputs - 1) / one(axis.outputs - 1) if axis.outputs > 1 else one(0))
    if grid == "asymmetric":
        return one(axis.start) + index * one(axis.scale)
    return one(axis.start) + (one(axis.scale) * (index + one(0.5)) - one(0.5))


def _covered(index: np.ndarray, axis: Axis, step: Resize) -> Windows:
    """Each output pixel is the mean of what it covers: parts of pixels by their part, or every pixel touched alike."""
    inputs, outputs, scale = axis.inputs, axis.outputs, axis.scale
    if step.filter == "adaptive":
        first = index * inputs // outputs
        count = -(-(index + 1) * inputs // outputs) - first
        return _folded(first, (np.arange(count.max()) < count[:, None]).astype(float), inputs, "inside")
    low = axis.start + index * (inputs / outputs if scale == inputs / outputs else scale)
    high = np.minimum(low + scale, inputs)
    first = np.minimum(np.floor(low + 1e-9).astype(np.int64), inputs - 1)
    taps = first[:, None] + np.arange(int(np.ceil(scale)) + 1)
    covered = np.clip(np.minimum(taps + 1, high[:, None]) - np.maximum(taps, low[:, None]), 0, None)
    if step.rounding == "fixed":
        # OpenCV leaves out parts of up to a thousandth of a pixel.
        covered[covered <= 1e-3] = 0.0
        covered /= np.minimum(scale, inputs - low)[:, None]
        return _folded(first, covered, inputs, "inside", normal=False)
    return _folded(first, covered, inputs, "inside")


def _boxes(index: np.ndarray, centre: np.ndarray, axis: Axis, step: Resize) -> Windows:
    """Whole pixels whose centres lie within half a step of the output's, the later edge included."""
    widened = max(axis.scale, 1.0)
    # The edges are where float64 puts them, so the sums are done in Pillow's order.
    middle = axis.start + (index + 0.5) * axis.scale if step.grid == "half-pixel" else centre + 0.5
    first = np.trunc(np.maximum(middle - widened / 2 + 0.5, 0)).astype(np.int64)
    end = np.trunc(middle + widened / 2 + 0.5).astype(np.int64)
    taps = first[:, None] + np.arange(int(widened) + 2)
    off = (taps - middle[:, None] + 0.5) * (1 / widened)
    inside = (off > -0.5) & (off <= 0.5) & (taps < end[:, None])
    return _folded(first, inside.astype(float), axis.inputs, "inside")


def _area_positions(index: np.ndarray, axis: Axis) -> tuple[np.ndarray, np.ndarray]:
    """OpenCV's area where a side grows: between two pixels, by the part of the output pixel that the second covers."""
    scale = _inverse_scale(axis)
    ratio = axis.outputs / axis.inputs if axis.scale == axis.inputs / axis.outputs else 1 / axis.scale
    first = np.floor(index * scale)
    part = ((index + 1) - (first + 1) * ratio).astype(np.float32)
    return first.astype(np.int64), np.where(part <= 0, np.float32(0), part - np.floor(part))


def _inverse_scale(axis: Axis) -> float:
    """The scale as OpenCV has it: the inverse of the ratio of outputs to inputs."""
    return 1 / (axis.outputs / axis.inputs) if axis.scale == axis.inputs / axis.outputs else axis.scale


def _as_opencv(axis: Axis, step: Resize) -> Windows:
    """OpenCV's windows: places in float32 (float64 for 8 bits), in fixed point the weights in multiples of 2**-11."""
    scale = axis.scale if step.filter == "bilinear" else _inverse_scale(axis)
    centre = centres(replace(axis, scale=scale), step.grid)
    if step.rounding == "fixed-8bit":
        return _between(np.floor(centre).astype(np.int64), centre - np.floor(centre), axis.inputs)
    if step.filter == "bilinear":
        return _between(*linear_places(axis, step), axis.inputs)
    centre = centre.astype(np.float32)
    first = np.floor(centre).astype(np.int64)
    part = centre - first.astype(np.float32)
    weights = _cubic_taps(part, step.cubic) if step.filter == "bicubic" else _lanczos4_taps(part)
    weights = np.rint(weights * np.float32(2048)).astype(np.float64) / 2048
    return _folded(first - weights.shape[1] // 2 + 1, weights, axis.inputs, step.edges, normal=False)


def linear_places(axis: Axis, step: Resize) -> tuple[np.ndarray, np.ndarray]:
    """The pixel, possibly beyond the border, that each output of a resize in fixed point follows, and how far, in
    float32."""
    if step.filter == "area-linear":
        return _area_positions(np.arange(axis.outputs), axis)
    centre = centres(axis, step.grid).astype(np.float32)
    first = np.floor(centre)
    return first.astype(np.int64), centre - first


def _cubic_taps(part: np.ndarray, coefficient: float) -> np.ndarray:
    """The four weights of the bicubic kernel in float32, the last one by the others."""
    a, one, x = np.float32(coefficient), np.float32(1), part
    first = ((a * (x + one) - 5 * a) * (x + one) + 8 * a) * (x + one) - 4 * a
    second = ((a + 2) * x - (a + 3)) * x * x + one
    third = ((a + 2) * (one - x) - (a + 3)) * (one - x) * (one - x) + one
    return np.stack([first, second, third, one - first - second - third], axis=1)


def _lanczos4_taps(part: np.ndarray) -> np.ndarray:
    """The eight weights of the Lanczos kernel of four lobes, made to sum to 1."""
    distance = part.astype(np.float64)[:, None] + 3 - np.arange(8)
    weights = (np.sinc(distance) * np.sinc(distance / 4)).astype(np.float32)
    return weights / weights.sum(axis=1, keepdims=True)


def _between(first: np.ndarray, part: np.ndarray, inputs: int) -> Windows:
    """Two taps: 1 - part of one pixel and part of the next; beyond the last there is only that."""
    part = np.where(first < 0, 0.0, part.astype(np.float64))
    outside = first >= inputs - 1
    first, part = np.where(outside, max(inputs - 2, 0), first.clip(0)), np.where(outside, float(inputs > 1), part)
    return Windows(first, np.stack([1 - part, part], axis=1)[:, : min(2, inputs)])


def _nearest(index: np.ndarray, axis: Axis, step: Resize) -> np.ndarray:
    """The pixel that each output pixel copies: in whole numbers, or with the scale rounded as libraries have it.

    Where an output's place is exactly between two pixels, the rounding of the scale decides.
    """
    inputs, outputs = axis.inputs, axis.outputs
    whole = axis.scale == inputs / outputs and axis.start == 0
    if step.grid == "corners":
        return (2 * index * (inputs - 1) + outputs - 1) // (2 * max(outputs - 1, 1))
    half = 0.5 * (step.grid == "half-pixel")
    if step.scale == "float32":
        reached = np.float32(axis.start) + (index + half).astype(np.float32) * np.float32(axis.scale)
    elif step.scale == "float64":
        reached = axis.start + (index + half) * (1 / (outputs / inputs) if whole else axis.scale)
    elif half:
        # Pillow adds the scale up from place to place.
        reached = np.cumsum(np.r_[axis.start + axis.scale * 0.5, np.full(outputs - 1, axis.scale)])
    else:
        reached = index * inputs // outputs if whole else axis.start + index * axis.scale
    return np.clip(np.floor(reached), 0, inputs - 1).astype(np.int64)


def _b_spline(x: np.ndarray) -> np.ndarray:
    """The cubic B-spline; Unser, "Splines: a perfect fit for signal and image processing", 1999, eq. 7."""
    return np.where(x < 1, 2 / 3 - x * x * (1 - x / 2), np.where(x < 2, (2 - x) ** 3 / 6, 0.0))


@lru_cache
def _spline_taps() -> np.ndarray:
    """Pixels to the coefficients of the cubic B-spline through them (Unser, 1999, box 2), as far as they exceed
    1e-12."""
    pole = np.sqrt(3) - 2
    return np.sqrt(3) * pole ** np.abs(np.arange(-21, 22))


def gaussian_taps(sigma: float, taps: int | None) -> np.ndarray:
    """Weights that sum to 1, as many as `taps` or as reach 4 deviations to both sides."""
    reach = int(4 * sigma + 0.5) if taps is None else taps // 2
    weights = np.exp(-0.5 * (np.arange(-reach, reach + 1) / sigma) ** 2)
    return weights / weights.sum()


def _after(taps: np.ndarray, by: Windows, inputs: int, edges: str) -> Windows:
    """The windows of a filter of so many taps along the pixels, and then of others."""
    reach, count = len(taps) // 2, by.weights.shape[1]
    joined = np.zeros((len(by.first), count + 2 * reach))
    for tap in range(count):
        joined[:, tap : tap + len(taps)] += by.weights[:, tap, None] * taps
    joined[np.abs(joined) < 1e-9] = 0.0
    return _folded(by.first - reach, joined, inputs, edges, normal=False)


def _folded(first: np.ndarray, weights: np.ndarray, inputs: int, edges: str, normal: bool = True) -> Windows:
    """Windows that stay inside: weights beyond the picture are dropped, or given to the pixels seen there; rows sum to
    1."""
    taps = first[:, None] + np.arange(weights.shape[1])
    kept = weights if edges in ("repeat", "reflect") else weights * ((taps >= 0) & (taps < inputs))
    if normal and edges == "zero":
        kept = kept / weights.sum(axis=1, keepdims=True)
    if edges == "reflect" and inputs > 1:
        around = 2 * inputs - 2
        taps = np.abs(taps) % around
        taps = np.where(taps >= inputs, around - taps, taps)
    taps = np.clip(taps, 0, inputs - 1)
    used = kept != 0
    lowest = np.where(used, taps, inputs).min(axis=1)
    highest = np.where(used, taps, -1).max(axis=1)
    width = int(min(max((highest - lowest).max() + 1, 1), inputs))
    start = np.clip(lowest, 0, inputs - width)
    moved = np.zeros((len(first), width))
    rows = np.broadcast_to(np.arange(len(first))[:, None], taps.shape)
    np.add.at(moved, (rows[used], (taps - start[:, None])[used]), kept[used])
    if not normal or edges == "zero":
        return Windows(start, moved)
    # An output that lies wholly beyond the picture, as a factor can have it, is the border pixel.
    beyond = np.flatnonzero(moved.sum(axis=1) == 0)
    moved[beyond, (first[beyond] - start[beyond]).clip(0, width - 1)] = 1.0
    return Windows(start, moved / moved.sum(axis=1, keepdims=True))


def uses_pillow(step: Resize) -> bool:
    """Whether the convention is Pillow's own, so that Pillow itself serves."""
    if step.grid != "half-pixel" or step.grid_scale != "sizes" or step.prefilter != "none":
        return False
    if step.filter == "nearest":
        return step.scale == "exact"
    if step.filter == "box":
        return step.rounding == "passes"
    known = step.filter in ("bilinear", "hamming", "bicubic", "lanczos")
    same = step.antialias and step.edges == "inside" and step.rounding == "passes"
    return known and same and (step.filter != "bicubic" or step.cubic == -0.5)
