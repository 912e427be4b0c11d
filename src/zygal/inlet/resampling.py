"""Resizing as two small matrices: each output row is a weighted sum of a few neighbouring input rows, each column likewise.

Every convention in use is a way to fill the matrix. What differs beyond that is when the sums are
rounded to 8 bits, and with weights of how many bits.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

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


def _lanczos(lobes: int) -> Callable[[np.ndarray], np.ndarray]:
    """Duchon, "Lanczos filtering in one and two dimensions", 1979."""
    return lambda x: np.where(x < lobes, np.sinc(x) * np.sinc(x / lobes), 0.0)


HAMMING = float(np.float32(0.54)), float(np.float32(0.46))
"""The two terms of the Hamming window, in float32 as Pillow has them: they differ from 0.54 by 2e-8, which moves pixels."""
RADIUS = {"bilinear": 1, "hamming": 1, "bicubic": 2, "lanczos": 3, "lanczos4": 4, "lanczos5": 5}


def _kernel(step: Resize) -> Callable[[np.ndarray], np.ndarray]:
    if step.filter == "bicubic":
        return _cubic(step.cubic)
    if step.filter == "bilinear":
        return lambda x: np.maximum(0.0, 1 - x)
    if step.filter == "hamming":
        level, swing = HAMMING
        return lambda x: np.where(x < 1, np.sinc(x) * (level + swing * np.cos(np.pi * x)), 0.0)
    return _lanczos(RADIUS[step.filter])


@lru_cache(maxsize=64)
def windows(inputs: int, outputs: int, step: Resize) -> Windows:
    """The matrix that resizes one axis from `inputs` to `outputs` pixels by the convention of `step`."""
    index = np.arange(outputs)
    if step.filter == "nearest":
        return Windows(_nearest(index, inputs, outputs, step), np.ones((outputs, 1)))
    if step.filter == "area":
        # Each output pixel is the mean of what it covers, parts of pixels by their part.
        low, high = index * inputs / outputs, (index + 1) * inputs / outputs
        first = np.minimum(np.floor(low + 1e-9).astype(np.int64), inputs - 1)
        taps = first[:, None] + np.arange(int(np.ceil(inputs / outputs)) + 1)
        covered = np.clip(np.minimum(taps + 1, high[:, None]) - np.maximum(taps, low[:, None]), 0, None)
        return _folded(first, covered, inputs, "inside")
    if step.filter == "adaptive":
        first = index * inputs // outputs
        count = -(-(index + 1) * inputs // outputs) - first
        return _folded(first, (np.arange(count.max()) < count[:, None]).astype(float), inputs, "inside")
    scale = inputs / outputs
    centre = _centres(inputs, outputs, step.grid)
    if step.filter == "box":
        # Whole pixels whose centres lie within half a step of the output's, the later edge included.
        widened = max(scale, 1.0)
        # The edges are where float64 puts them, so the sums are done in Pillow's order.
        middle = (index + 0.5) * scale if step.grid == "half-pixel" else centre + 0.5
        first = np.trunc(np.maximum(middle - widened / 2 + 0.5, 0)).astype(np.int64)
        end = np.trunc(middle + widened / 2 + 0.5).astype(np.int64)
        taps = first[:, None] + np.arange(int(widened) + 2)
        off = (taps - middle[:, None] + 0.5) * (1 / widened)
        return _folded(first, ((off > -0.5) & (off <= 0.5) & (taps < end[:, None])).astype(float), inputs, "inside")
    widened = max(scale, 1.0) if step.antialias else 1.0
    reach = RADIUS[step.filter] * widened
    first = np.floor(centre - reach).astype(np.int64) + 1
    distance = np.abs(first[:, None] + np.arange(int(np.ceil(2 * reach)) + 1) - centre[:, None])
    return _folded(first, _kernel(step)(distance / widened), inputs, step.edges)


def _centres(inputs: int, outputs: int, grid: str) -> np.ndarray:
    """Where the centres of the output pixels lie on the input, the centre of its first pixel being 0."""
    index = np.arange(outputs)
    if grid == "corners":
        return index * ((inputs - 1) / (outputs - 1) if outputs > 1 else 0.0)
    return index * (inputs / outputs) if grid == "asymmetric" else (index + 0.5) * (inputs / outputs) - 0.5


def _nearest(index: np.ndarray, inputs: int, outputs: int, step: Resize) -> np.ndarray:
    """The pixel that each output pixel copies: in whole numbers, or with the scale rounded as libraries have it.

    Where an output's place is exactly between two pixels, the rounding of the scale decides.
    """
    if step.grid == "corners":
        return (2 * index * (inputs - 1) + outputs - 1) // (2 * max(outputs - 1, 1))
    twice = 2 * index + (step.grid == "half-pixel")
    if step.scale == "exact":
        return twice * inputs // (2 * outputs)
    if step.scale == "float32":
        reached = twice.astype(np.float32) / 2 * np.float32(inputs / outputs)
    else:
        reached = twice / 2 * (1 / (outputs / inputs))
    return np.minimum(np.floor(reached), inputs - 1).astype(np.int64)


def _folded(first: np.ndarray, weights: np.ndarray, inputs: int, edges: str) -> Windows:
    """Windows that stay inside: weights beyond the picture are dropped, or given to its border pixels; rows sum to 1."""
    width = min(weights.shape[1], inputs)
    start = np.clip(first, 0, inputs - width)
    taps = first[:, None] + np.arange(weights.shape[1])
    inside = (taps >= 0) & (taps < inputs)
    kept = weights if edges == "repeat" else weights * inside
    moved = np.zeros((len(first), width))
    rows = np.broadcast_to(np.arange(len(first))[:, None], taps.shape)
    column = np.clip(taps, 0, inputs - 1) - start[:, None]
    within = (column >= 0) & (column < width)
    np.add.at(moved, (rows[within], column[within]), kept[within])
    return Windows(start, moved / moved.sum(axis=1, keepdims=True))


def resize_array(pixels: np.ndarray, size: tuple[int, int], step: Resize) -> np.ndarray:
    """[H, W, C] resized to (height, width): float32 without rounding or where `step` says none, else uint8."""
    rows = windows(pixels.shape[0], size[0], step)
    columns = windows(pixels.shape[1], size[1], step)
    if step.filter == "nearest":
        return pixels[rows.first][:, columns.first]
    if pixels.dtype == np.uint8 and step.rounding in ("passes", "passes-16bit"):
        return _in_passes(pixels, rows, columns, step)
    if pixels.dtype == np.uint8 and step.rounding == "fixed":
        return _fixed_point(pixels, size, step)
    sums = across_columns(across_rows(pixels, rows), columns)
    if step.rounding == "none":
        return sums
    return to_8_bits(sums, step.rounding)


WHOLE = 1e-4
"""What is so little below a whole level is that level: a sum of weights in float32 that make 1."""


def to_8_bits(numbers: np.ndarray, rounding: str) -> np.ndarray:
    rounded = np.floor(numbers + np.float32(WHOLE)) if rounding == "down" else np.rint(numbers)
    return np.clip(rounded, 0, 255).astype(np.uint8)


def across_rows(pixels: np.ndarray, by: Windows) -> np.ndarray:
    """[H, W, C] to float32 [outputs, W, C]; only the rows that are needed are read, and few at a time."""
    weights = by.weights.astype(np.float32)
    out = np.empty((len(by.first), *pixels.shape[1:]), np.float32)
    flat, into = pixels.reshape(len(pixels), -1), out.reshape(len(out), -1)
    taps = weights.shape[1]
    for row, first in enumerate(by.first):
        np.matmul(weights[row], flat[first : first + taps].astype(np.float32, copy=False), out=into[row])
    return out


def across_columns(pixels: np.ndarray, by: Windows) -> np.ndarray:
    return across_rows(pixels.swapaxes(0, 1).copy(), by).swapaxes(0, 1)


def _in_passes(pixels: np.ndarray, rows: Windows, columns: Windows, step: Resize) -> np.ndarray:
    """Two passes, each rounded to 8 bits, with weights in whole multiples of a power of two."""
    bits = 22 if step.rounding == "passes" else None
    size = len(rows.first), len(columns.first)
    for along_rows in (True, False) if rows_first(pixels.shape[:2], size, step) else (False, True):
        if along_rows and pixels.shape[0] != size[0]:
            pixels = _whole_pass(pixels, rows, bits)
        elif not along_rows and pixels.shape[1] != size[1]:
            pixels = _whole_pass(pixels.swapaxes(0, 1), columns, bits).swapaxes(0, 1)
    return pixels


def rows_first(before: tuple[int, int], after: tuple[int, int], step: Resize) -> bool:
    """Whether the pass over rows comes first, of a resize between two (height, width)."""
    lost, lost_across = (was - is_now for was, is_now in zip(before, after))
    return step.rounding == "passes" and step.order == "by-shrinkage" and lost > 0 and lost > 2 * lost_across


def _whole_pass(pixels: np.ndarray, by: Windows, bits: int | None) -> np.ndarray:
    if bits is None:
        # As many bits as let the largest weight fit into 16 with its sign.
        bits = int(np.floor(np.log2((2**15 - 1) / by.weights.max())))
        bits = min(bits, 22)
    whole = np.trunc(by.weights * 2.0**bits + np.copysign(0.5, by.weights))
    flat = np.ascontiguousarray(pixels).reshape(len(pixels), -1)
    sums = np.empty((len(by.first), flat.shape[1]))
    taps = whole.shape[1]
    for row, first in enumerate(by.first):
        np.matmul(whole[row], flat[first : first + taps].astype(np.float64), out=sums[row])
    sums += 2.0 ** (bits - 1)
    sums /= 2.0**bits
    levels = np.floor(sums, out=sums).clip(0, 255, out=sums).astype(np.uint8)
    return levels.reshape(len(by.first), *pixels.shape[1:])


def _fixed_point(pixels: np.ndarray, size: tuple[int, int], step: Resize) -> np.ndarray:
    """Weights as multiples of 2**-11, the second pass on sums cut to 16 bits; areas of whole pixels as whole sums."""
    if step.filter == "area":
        return _whole_areas(pixels, size)
    bits = 11
    lower, upper, part = _neighbours(pixels.shape[1], size[1], step.grid)
    part = np.rint(part * 2**bits).astype(np.int32)[:, None]
    numbers = pixels.astype(np.int32)
    across = numbers[:, lower] * (2**bits - part) + numbers[:, upper] * part
    lower, upper, part = _neighbours(pixels.shape[0], size[0], step.grid)
    part = np.rint(part * 2**bits).astype(np.int32)[:, None, None]
    above, below = across[lower] >> 4, across[upper] >> 4
    return ((((2**bits - part) * above >> 16) + (part * below >> 16) + 2) >> 2).astype(np.uint8)


def _neighbours(inputs: int, outputs: int, grid: str) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """For each output pixel the two inputs that it lies between, and how far it is from the first, in float32."""
    centre = _centres(inputs, outputs, grid).astype(np.float32)
    lower = np.floor(centre)
    return *(np.clip(lower + k, 0, inputs - 1).astype(np.int64) for k in (0, 1)), centre - lower


def _whole_areas(pixels: np.ndarray, size: tuple[int, int]) -> np.ndarray:
    """The means of blocks of whole pixels; of 2 x 2 with halves up, of others as a product in float32, halves to even."""
    (height, width, channels), (rows, columns) = pixels.shape, size
    if height % rows or width % columns:
        by_row, by_column = (
            windows(inputs, outputs, Resize(filter="area")) for inputs, outputs in ((height, rows), (width, columns))
        )
        return to_8_bits(across_columns(across_rows(pixels, by_row), by_column), "end")
    blocks = pixels.reshape(rows, height // rows, columns, width // columns, channels).astype(np.int64)
    sums, count = blocks.sum(axis=(1, 3)), height // rows * (width // columns)
    if (height, width) == (2 * rows, 2 * columns):
        return ((sums + 2) >> 2).astype(np.uint8)
    return np.rint(sums.astype(np.float32) * np.float32(1 / count)).astype(np.uint8)


def uses_pillow(step: Resize) -> bool:
    """Whether the convention is Pillow's own, so that Pillow itself serves."""
    if step.grid != "half-pixel" or step.filter in ("area", "adaptive", "lanczos4", "lanczos5"):
        return False
    if step.filter == "nearest":
        return step.scale == "exact"
    if step.filter == "box":
        return step.rounding == "passes"
    same = step.antialias and step.edges == "inside" and step.rounding == "passes"
    return same and (step.filter != "bicubic" or step.cubic == -0.5) and step.filter in KERNELS
