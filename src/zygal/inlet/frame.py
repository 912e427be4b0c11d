"""The frame stage: resize, crop, pad and blur, in the inlet's order. Pillow serves where the convention is Pillow's."""

from __future__ import annotations

from collections.abc import Iterator
from math import comb
from pathlib import Path

import numpy as np
import PIL
from PIL import Image, ImageColor, ImageFilter

from zygal.errors import ImageError
from zygal.inlet.decode import Picture, grey_of
from zygal.inlet.resampling import gaussian_taps, uses_pillow
from zygal.inlet.rounding import Grid, resample, rows_first, to_8_bits
from zygal.inlet.sizes import Placed, place
from zygal.inlet.specification import Blur, Crop, Decode, Pad, Resize, Step

_LARGEST_SIDE = 65536
_BY_SHRINKAGE = int(PIL.__version__.partition(".")[0]) >= 13
_PILLOW_FILTERS = {
    name: Image.Resampling[name.upper()] for name in ("nearest", "box", "bilinear", "hamming", "bicubic", "lanczos")
}


def run_frame(
    picture: Picture, frame: tuple[Step, ...], decode: Decode, path: str | Path, unreduced=None
) -> Iterator[Picture]:
    """The picture after each step; `path` names the image in messages, unreduced: its (height, width) before the
    decoder reduced it. Raises ImageError."""
    try:
        placed = place(picture_size(picture), frame, unreduced)
    except ValueError as fault:
        raise ImageError(f"{path} {fault}.") from fault
    for each in placed:
        if isinstance(each.step, Resize):
            picture = resized(picture, each)
        elif isinstance(each.step, Blur):
            picture = blurred(picture, each.step)
        else:
            picture = _windowed(picture, each, decode)
        yield picture


def picture_size(picture: Picture) -> tuple[int, int]:
    """Height and width in pixels."""
    return picture.shape[:2] if isinstance(picture, np.ndarray) else (picture.height, picture.width)


def as_array(picture: Picture) -> np.ndarray:
    """[H, W, C]."""
    pixels = np.asarray(picture)
    return pixels[:, :, None] if pixels.ndim == 2 else pixels


def as_image(picture: Picture) -> Image.Image:
    """A picture as an image of Pillow."""
    if isinstance(picture, Image.Image):
        return picture
    return Image.fromarray(np.ascontiguousarray(picture[:, :, 0] if picture.shape[2] == 1 else picture))


def resized(picture: Picture, placed: Placed) -> Picture:
    """Raises ImageError if the result would be implausibly large."""
    (height, width), step = placed.after, placed.step
    if max(height, width) > _LARGEST_SIDE:
        now = placed.before
        raise ImageError(f"a picture of {now[1]} x {now[0]} would become {width} x {height} by the resize.")
    if placed.leaves_as_is:
        return picture
    whole = isinstance(picture, Image.Image) or picture.dtype == np.uint8
    if whole and uses_pillow(step):
        return _by_pillow(as_image(picture), placed)
    return resample(as_array(picture), Grid(placed.axes), step)


def _by_pillow(picture: Image.Image, placed: Placed) -> Image.Image:
    """By Pillow; one pass after the other where this release of it would do the other one first."""
    (height, width), step = placed.after, placed.step
    method = _PILLOW_FILTERS[step.filter]
    before = picture.height, picture.width
    rows, columns = placed.axes
    box = (columns.start, rows.start, columns.start + columns.scale * width, rows.start + rows.scale * height)
    box = tuple(min(edge, limit) for edge, limit in zip(box, (picture.width, picture.height) * 2))
    if box == (0, 0, picture.width, picture.height):
        box = None
    by_rows = rows_first(before, placed.after, step)
    ours = by_rows == (_BY_SHRINKAGE and rows_first(before, placed.after, Resize()))
    if step.filter == "nearest" or ours or step.reduce_above or box or picture.mode in ("P", "1"):
        return picture.resize((width, height), method, box, step.reduce_above)
    first = (picture.width, height) if by_rows else (width, picture.height)
    return picture.resize(first, method).resize((width, height), method)


def blurred(picture: Picture, step: Blur) -> Picture:
    """A picture after a blur."""
    if step.kind == "three-boxes":
        return as_image(picture).filter(ImageFilter.GaussianBlur(step.sigma))
    pixels = as_array(picture)
    reach = (step.taps or 0) // 2
    weights = blur_taps(step)
    if step.rounding == "fixed-8bit" and pixels.dtype == np.uint8:
        weights = fixed_taps(weights)
    numbers = np.pad(
        pixels.astype(np.float64 if step.rounding == "fixed-8bit" else np.float32),
        ((reach,) * 2, (reach,) * 2, (0, 0)),
        "reflect",
    )
    for axis in (0, 1):
        length = pixels.shape[axis]
        parts = (
            numbers[(slice(None),) * axis + (slice(tap, tap + length),)] * weight for tap, weight in enumerate(weights)
        )
        numbers = sum(parts)
    if step.rounding == "none":
        return numbers.astype(np.float32)
    return to_8_bits(np.floor(numbers + 0.5) if step.rounding == "fixed-8bit" else numbers, "end")


def blur_taps(step: Blur) -> np.ndarray:
    """The weights of a blur along one axis; they sum to 1."""
    if step.kind == "gaussian":
        return gaussian_taps(step.sigma, step.taps)
    return np.array([comb(step.taps - 1, tap) for tap in range(step.taps)]) / 2.0 ** (step.taps - 1)


def fixed_taps(weights: np.ndarray) -> np.ndarray:
    """Weights in whole multiples of 2**-8 that sum to 1: what each rounding leaves goes to the next, and the middle one
    takes the rest, as OpenCV has them."""
    whole, left = np.zeros(len(weights)), 0.0
    half = len(weights) // 2
    for tap in range(half):
        exact = weights[tap] * 256 + left
        whole[tap] = np.rint(exact)
        left = exact - whole[tap]
    whole[half + 1 :] = whole[:half][::-1]
    whole[half] = 256 - whole.sum()
    return whole / 256


def _windowed(picture: Picture, placed: Placed, decode: Decode) -> Picture:
    """The picture cropped or padded, each axis on its own."""
    step, (top, left), (height, width) = placed.step, placed.start, placed.after
    now = placed.before
    inside = top >= 0 and left >= 0 and top + height <= now[0] and left + width <= now[1]
    if inside:
        return cropped(picture, top, left, placed.after)
    if isinstance(step, Pad) and step.border != "colour":
        mode = {"repeat": "edge", "reflect": "reflect", "symmetric": "symmetric"}[step.border]
        return np.pad(as_array(picture), ((-top, height - now[0] + top), (-left, width - now[1] + left), (0, 0)), mode)
    colour = fill_colour(step, decode)
    if isinstance(picture, Image.Image):
        fill = tuple(map(int, colour)) if picture.mode == "RGB" else int(colour[0])
        ground = Image.new(picture.mode, (width, height), fill)
        ground.paste(picture, (-left, -top))
        return ground
    ground = np.empty((height, width, picture.shape[2]), picture.dtype)
    ground[:] = colour
    y0, x0 = max(0, -top), max(0, -left)
    seen = picture[max(0, top) : top + height, max(0, left) : left + width]
    ground[y0 : y0 + seen.shape[0], x0 : x0 + seen.shape[1]] = seen
    return ground


def cropped(picture: Picture, top: int, left: int, size: tuple[int, int]) -> Picture:
    """The part of a picture that begins there and has that size."""
    if isinstance(picture, np.ndarray):
        return picture[top : top + size[0], left : left + size[1]]
    return picture.crop((left, top, left + size[1], top + size[0]))


def fill_colour(step: Pad | Crop, decode: Decode) -> np.ndarray:
    """What a pad fills with, [channels] in the order of the decoded picture."""
    colour = np.array(ImageColor.getrgb(step.missing if isinstance(step, Crop) else step.colour), np.uint8)
    if decode.colour == "grey":
        colour = grey_of(colour[None, None], decode.grey_weights, decode.grey_rounding)[0, 0]
    return colour
