"""When and how the sums of a resize are rounded to 8 bits: a convention of each library beside its matrices."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.inlet.resampling import Windows, linear_places, windows
from zygal.inlet.sizes import Axis
from zygal.inlet.specification import Resize


@dataclass(frozen=True)
class Grid:
    """Both axes of a resize, and of each the outputs that are wanted (None: all) with the first tap of each on the
    pixels that are handed over, which may be a part of the picture. span: smallest and largest number of the whole
    picture, if not all of it is."""

    axes: tuple[Axis, Axis]
    outputs: tuple[np.ndarray | None, np.ndarray | None] = (None, None)
    first: tuple[np.ndarray | None, np.ndarray | None] = (None, None)
    span: tuple[float, float] | None = None

    def windows(self, axis: int, step: Resize) -> Windows:
        """The windows of the wanted outputs along an axis."""
        return self.of(axis, windows(self.axes[axis], step))

    def of(self, axis: int, found: Windows) -> Windows:
        """Those windows that the wanted outputs have."""
        if self.outputs[axis] is None:
            return found
        first = found.first[self.outputs[axis]] if self.first[axis] is None else self.first[axis]
        return Windows(first, found.weights[self.outputs[axis]])


def resize_array(pixels: np.ndarray, size: tuple[int, int], step: Resize) -> np.ndarray:
    """[H, W, C] resized to (height, width), all of the picture; see `resample`."""
    return resample(pixels, Grid(tuple(Axis.between(*sides) for sides in zip(pixels.shape, size))), step)


def resample(pixels: np.ndarray, grid: Grid, step: Resize) -> np.ndarray:
    """[H, W, C] resized: float32 without rounding or where `step` says none, else uint8."""
    rows, columns = (grid.windows(axis, step) for axis in (0, 1))
    if step.filter == "nearest":
        if rows.weights.shape[1] == columns.weights.shape[1] == 1:
            return pixels[rows.first][:, columns.first]
        return _rounded(across_columns(across_rows(pixels, rows), columns), step)
    if pixels.dtype == np.uint8 and step.rounding in ("passes", "passes-16bit"):
        return _in_passes(pixels, rows, columns, grid, step)
    if pixels.dtype == np.uint8 and step.rounding == "fixed":
        return _fixed_point(pixels, rows, columns, grid, step)
    if pixels.dtype == np.uint8 and step.rounding == "fixed-8bit":
        return _fixed_8_bits(pixels, rows, columns, grid)
    sums = across_columns(across_rows(pixels, rows), columns)
    if step.filter == "spline":
        # What a spline overshoots is cut off, by the picture's own extremes.
        sums = sums.clip(*(grid.span or (pixels.min(), pixels.max())))
    return _rounded(sums, step)


def _rounded(sums: np.ndarray, step: Resize) -> np.ndarray:
    return sums if step.rounding == "none" else to_8_bits(sums, step.rounding)


WHOLE = 1e-4
"""What is so little below a whole level is that level: a sum of weights in float32 that make 1."""


def to_8_bits(numbers: np.ndarray, rounding: str) -> np.ndarray:
    """Numbers rounded to 0 to 255."""
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
    """Sums along the second axis."""
    return across_rows(pixels.swapaxes(0, 1).copy(), by).swapaxes(0, 1)


def _in_passes(pixels: np.ndarray, rows: Windows, columns: Windows, grid: Grid, step: Resize) -> np.ndarray:
    """Two passes, each rounded to 8 bits, with weights in whole multiples of a power of two."""
    bits = [22 if step.rounding == "passes" else _bits(windows(axis, step)) for axis in grid.axes]
    before, after = (tuple(getattr(axis, name) for axis in grid.axes) for name in ("inputs", "outputs"))
    idle = [axis.inputs == axis.outputs and axis.scale == 1 and axis.start == 0 for axis in grid.axes]
    for along_rows in (True, False) if rows_first(before, after, step) else (False, True):
        if along_rows:
            pixels = pixels[rows.first] if idle[0] and _single(rows) else _whole_pass(pixels, rows, bits[0])
        elif idle[1] and _single(columns):
            pixels = pixels[:, columns.first]
        else:
            pixels = _whole_pass(pixels.swapaxes(0, 1), columns, bits[1]).swapaxes(0, 1)
    return pixels


def _single(by: Windows) -> bool:
    return by.weights.shape[1] == 1


def _bits(by: Windows) -> int:
    """As many bits as let the largest weight fit into 16 with its sign."""
    return min(int(np.floor(np.log2((2**15 - 1) / by.weights.max()))), 22)


def rows_first(before: tuple[int, int], after: tuple[int, int], step: Resize) -> bool:
    """Whether the pass over rows comes first, of a resize between two (height, width)."""
    lost, lost_across = (was - is_now for was, is_now in zip(before, after))
    return step.rounding == "passes" and step.order == "by-shrinkage" and lost > 0 and lost > 2 * lost_across


def _whole_pass(pixels: np.ndarray, by: Windows, bits: int) -> np.ndarray:
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


def _fixed_point(pixels: np.ndarray, rows: Windows, columns: Windows, grid: Grid, step: Resize) -> np.ndarray:
    """OpenCV's resizes of 8-bit images: weights as multiples of 2**-11, sums as the filter has them."""
    halved = all(axis.scale == 2 and axis.inputs == 2 * axis.outputs for axis in grid.axes)
    if step.filter == "area" or step.filter == "bilinear" and step.grid == "half-pixel" and halved:
        if step.filter == "bilinear":
            step = Resize(size=(1, 1), filter="area", rounding="fixed")
            rows, columns = (grid.windows(axis, step) for axis in (0, 1))
        return _areas(pixels, rows, columns, grid)
    if step.filter in ("bilinear", "area-linear"):
        return _linear_11_bits(pixels, rows, columns, grid, step)
    # Sums over columns are whole numbers; over rows, of bicubic in float32, eight numbers at a time, the rest in whole
    # ones.
    across = _taps_summed(
        pixels.swapaxes(0, 1).astype(np.int64), columns.first, np.rint(columns.weights * 2048).astype(np.int64)
    )
    down = np.rint(rows.weights * 2048).astype(np.int64)
    across = across.swapaxes(0, 1)
    whole = (_taps_summed(across, rows.first, down) + (1 << 21) >> 22).clip(0, 255).astype(np.uint8)
    if step.filter != "bicubic":
        return whole
    weights = down.astype(np.float32) * np.float32(2.0**-22)
    taken = [across[rows.first + tap].astype(np.float32) for tap in range(weights.shape[1])]
    sums = taken[-1] * weights[:, -1, None, None]
    for tap in range(len(taken) - 2, -1, -1):
        sums = taken[tap] * weights[:, tap, None, None] + sums
    vectored = np.rint(sums).clip(0, 255).astype(np.uint8)
    outputs = grid.axes[1].outputs
    places = np.arange(outputs) if grid.outputs[1] is None else grid.outputs[1]
    channels = pixels.shape[2]
    in_vector = places[:, None] * channels + np.arange(channels) < outputs * channels // 8 * 8
    return np.where(in_vector, vectored, whole)


def _taps_summed(pixels: np.ndarray, first: np.ndarray, weights: np.ndarray) -> np.ndarray:
    """One tap after the other, in the numbers' own type."""
    total = pixels[first] * weights[:, 0, None, None]
    for tap in range(1, weights.shape[1]):
        total += pixels[first + tap] * weights[:, tap, None, None]
    return total


def _linear_11_bits(pixels: np.ndarray, rows: Windows, columns: Windows, grid: Grid, step: Resize) -> np.ndarray:
    """Between two pixels, the second pass on sums cut to 16 bits. At the upper and lower border both are the border
    pixel: their products are cut one by one all the same."""
    part = np.rint(columns.weights * 2048).astype(np.int32)
    part[:, :-1] = 2048 - part[:, -1:]
    across = _taps_summed(pixels.swapaxes(0, 1).astype(np.int32), columns.first, part).swapaxes(0, 1) >> 4
    first, down = linear_places(grid.axes[0], step)
    down = np.rint(down * 2048).astype(np.int32)
    whole = windows(grid.axes[0], step).first
    some = slice(None) if grid.outputs[0] is None else grid.outputs[0]
    last = grid.axes[0].inputs - 1
    upper, lower = (rows.first + (np.clip(first + k, 0, last) - whole)[some] for k in (0, 1))
    down = down[some][:, None, None]
    return ((across[upper] * (2048 - down) >> 16) + (across[lower] * down >> 16) + 2 >> 2).astype(np.uint8)


def _areas(pixels: np.ndarray, rows: Windows, columns: Windows, grid: Grid) -> np.ndarray:
    """Means of what is covered; of blocks of whole pixels by whole sums, of 2 x 2 with halves up, else to the even
    level."""
    scales = [axis.scale for axis in grid.axes]
    blocks = all(abs(scale - round(scale)) < 2.3e-16 for scale in scales) and min(scales) >= 1
    if not blocks:
        down, across = (by.weights.astype(np.float32) for by in (rows, columns))
        numbers = _taps_summed(pixels.swapaxes(0, 1).astype(np.float32), columns.first, across).swapaxes(0, 1)
        return np.rint(_taps_summed(numbers, rows.first, down)).clip(0, 255).astype(np.uint8)
    ones = [(by.weights > 0).astype(np.int64) for by in (rows, columns)]
    sums = _taps_summed(pixels.swapaxes(0, 1).astype(np.int64), columns.first, ones[1]).swapaxes(0, 1)
    sums = _taps_summed(sums, rows.first, ones[0])
    count = round(scales[0]) * round(scales[1])
    if scales == [2.0, 2.0]:
        return (sums + 2 >> 2).astype(np.uint8)
    return np.rint(sums.astype(np.float32) * np.float32(1 / count)).astype(np.uint8)


def _fixed_8_bits(pixels: np.ndarray, rows: Windows, columns: Windows, grid: Grid) -> np.ndarray:  # noqa: ARG001
    """Weights as multiples of 2**-8, sums exact, one rounding."""
    down, across = (
        np.stack([256 - part, part], axis=1)
        for part in (np.rint(by.weights[:, -1] * 256).astype(np.int64) for by in (rows, columns))
    )
    down, across = (each[:, -by.weights.shape[1] :] for each, by in ((down, rows), (across, columns)))
    sums = _taps_summed(pixels.swapaxes(0, 1).astype(np.int64), columns.first, across).swapaxes(0, 1)
    return (_taps_summed(sums, rows.first, down) + (1 << 15) >> 16).clip(0, 255).astype(np.uint8)
