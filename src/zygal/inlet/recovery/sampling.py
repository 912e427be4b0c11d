"""Frames run exactly, but for some rows and columns of the tensor only: a hundredth of the work of a whole image.

Each axis is followed back from the rows (or columns) that are wanted to those of the picture that they need; then the
steps are run on that part of the picture, with every rounding.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from zygal.inlet.frame import fill_colour
from zygal.inlet.resampling import uses_pillow, windows
from zygal.inlet.rounding import Grid, resample
from zygal.inlet.sizes import Axis, Placed
from zygal.inlet.specification import Crop, Decode, Pad, Resize, Step

Indices = tuple[np.ndarray, np.ndarray]


def run_sampled(picture: np.ndarray, placed: list[Placed], wanted: Indices, decode: Decode) -> np.ndarray:
    """[rows, columns, C] of the frame's result for a picture [H, W, C]; placed: its steps, without a blur."""
    needs = [wanted]
    for each in reversed(placed):
        needs.append(tuple(_needed(each, axis, needs[-1][axis]) for axis in (0, 1)))
    needs.reverse()
    pixels = picture[needs[0][0]][:, needs[0][1]]
    for each, have, want in zip(placed, needs, needs[1:]):
        if isinstance(each.step, Resize):
            pixels = _resized(picture, pixels, each, have, want)
        else:
            pixels = _windowed(pixels, each, have, want, decode)
    return pixels


def _resized(picture: np.ndarray, pixels: np.ndarray, each: Placed, have: Indices, want: Indices) -> np.ndarray:
    step = each.step
    if each.leaves_as_is:
        return pixels[np.searchsorted(have[0], want[0])][:, np.searchsorted(have[1], want[1])]
    found = [windows(axis, step) for axis in each.axes]
    first = tuple(np.searchsorted(have[axis], found[axis].first[want[axis]]) for axis in (0, 1))
    span = (picture.min(), picture.max()) if step.filter == "spline" else None
    return resample(pixels, Grid(each.axes, want, first, span), step)


def _needed(each: Placed, axis: int, wanted: np.ndarray) -> np.ndarray:
    """The rows or columns before a step that those after it are made of, sorted; at least one."""
    step = each.step
    if isinstance(step, Resize):
        if each.leaves_as_is:
            return wanted
        by = windows(each.axes[axis], step)
        used = np.zeros(each.before[axis] + 1, np.int32)
        first = by.first[wanted]
        np.add.at(used, first, 1)
        np.add.at(used, np.minimum(first + by.weights.shape[1], each.before[axis]), -1)
        return np.flatnonzero(used.cumsum()[:-1])
    places = _places(each, axis)[wanted]
    inside = places[places >= 0]
    return np.unique(inside) if len(inside) else np.zeros(1, np.int64)


def _places(each: Placed, axis: int) -> np.ndarray:
    """For each row or column after a crop or pad the one before; -1 where there is a colour instead."""
    return _window_places(each.before[axis], each.after[axis], each.start[axis], getattr(each.step, "border", "colour"))


@lru_cache(maxsize=512)
def _window_places(before: int, after: int, start: int, border: str) -> np.ndarray:
    places = np.arange(after) + start
    if border == "colour":
        return np.where((places >= 0) & (places < before), places, -1)
    if border == "repeat":
        return places.clip(0, before - 1)
    around = max(1, 2 * before - (2 if border == "reflect" else 0))
    places = places % around
    return np.where(places >= before, around - places - (border == "symmetric"), places)


def _windowed(pixels: np.ndarray, each: Placed, have: Indices, want: Indices, decode: Decode) -> np.ndarray:
    rows, columns = (_places(each, axis)[want[axis]] for axis in (0, 1))
    if np.array_equal(rows, have[0]) and np.array_equal(columns, have[1]):
        return pixels
    taken = pixels[np.searchsorted(have[0], rows.clip(0)).clip(0, len(have[0]) - 1)][
        :, np.searchsorted(have[1], columns.clip(0)).clip(0, len(have[1]) - 1)
    ]
    outside = (rows < 0)[:, None] | (columns < 0)[None]
    if outside.any():
        taken[outside] = fill_colour(each.step, decode) if has_colour(each.step) else 0
    return taken


def has_colour(step: Step) -> bool:
    """Whether a step puts a colour around the picture."""
    return isinstance(step, Pad) and step.border == "colour" or isinstance(step, Crop) and step.missing is not None


def reduction(each: Placed) -> tuple[int, int] | None:
    """By how much a resize first reduces rows and columns to means of whole pixels, or None."""
    step = each.step
    if not isinstance(step, Resize) or not step.reduce_above or not uses_pillow(step) or step.filter == "nearest":
        return None
    by = tuple(int(axis.scale / step.reduce_above) or 1 for axis in each.axes)
    return by if max(by) > 1 else None


def after_reduction(each: Placed, by: tuple[int, int]) -> Placed:
    """The resize of a picture that was reduced already."""
    axes = tuple(
        Axis(-(-axis.inputs // part), axis.outputs, axis.scale / part, axis.start / part)
        for axis, part in zip(each.axes, by)
    )
    return Placed(each.step, tuple(axis.inputs for axis in axes), each.after, axes)


def seen(placed: list[Placed], wanted: Indices) -> np.ndarray:
    """[rows, columns]: whether all of a result comes from the picture, none of it from a colour around it."""
    found = []
    for axis in (0, 1):
        inside = np.ones(placed[0].before[axis], bool)
        for each in placed:
            if isinstance(each.step, Resize):
                by = windows(each.axes[axis], each.step)
                missed = np.r_[0, np.cumsum(~inside)]
                inside = missed[by.first + by.weights.shape[1]] == missed[by.first]
            else:
                places = _places(each, axis)
                inside = (places >= 0) & inside[places.clip(0)]
        found.append(inside[wanted[axis]])
    return found[0][:, None] & found[1][None]
