"""The frame stage: resize, crop and pad, in the inlet's order. Pillow serves where the convention is Pillow's."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import PIL
from PIL import Image, ImageColor

from zygal.errors import ImageError
from zygal.inlet.decode import Picture, grey_of
from zygal.inlet.resampling import resize_array, rows_first, uses_pillow
from zygal.inlet.specification import Crop, Decode, Pad, Resize, Step, margin, size_after

_LARGEST_SIDE = 65536
_BY_SHRINKAGE = int(PIL.__version__.partition(".")[0]) >= 13
_PILLOW_FILTERS = {
    name: Image.Resampling[name.upper()] for name in ("nearest", "box", "bilinear", "hamming", "bicubic", "lanczos")
}


def run_step(picture: Picture, step: Step, decode: Decode, path: str | Path) -> Picture:
    """One step of the frame; `path` names the image in messages. Raises ImageError."""
    if isinstance(step, Resize):
        return resized(picture, step)
    now = picture_size(picture)
    size = size_after(now, step)
    if isinstance(step, Crop):
        if size[0] > now[0] or size[1] > now[1]:
            raise ImageError(
                f"{path} is {now[0]} x {now[1]} (height x width) before the crop to {size[0]} x {size[1]}; "
                "resize or pad it first."
            )
        top, left = (margin(before - after, step.centring) for before, after in zip(now, size))
        return cropped(picture, top, left, size)
    return _padded(picture, step, size, decode, path)


def picture_size(picture: Picture) -> tuple[int, int]:
    return picture.shape[:2] if isinstance(picture, np.ndarray) else (picture.height, picture.width)


def as_array(picture: Picture) -> np.ndarray:
    """[H, W, C]."""
    pixels = np.asarray(picture)
    return pixels[:, :, None] if pixels.ndim == 2 else pixels


def as_image(picture: Picture) -> Image.Image:
    if isinstance(picture, Image.Image):
        return picture
    return Image.fromarray(np.ascontiguousarray(picture[:, :, 0] if picture.shape[2] == 1 else picture))


def resized(picture: Picture, step: Resize) -> Picture:
    """Raises ImageError if the result would be implausibly large."""
    height, width = size_after(picture_size(picture), step)
    if max(height, width) > _LARGEST_SIDE:
        now = picture_size(picture)
        raise ImageError(f"a picture of {now[1]} x {now[0]} would become {width} x {height} by the resize.")
    whole = isinstance(picture, Image.Image) or picture.dtype == np.uint8
    if whole and uses_pillow(step):
        return _by_pillow(as_image(picture), (height, width), step)
    return resize_array(as_array(picture), (height, width), step)


def _by_pillow(picture: Image.Image, size: tuple[int, int], step: Resize) -> Image.Image:
    """By Pillow; one pass after the other where this release of it would do the other one first."""
    (height, width), method = size, _PILLOW_FILTERS[step.filter]
    before = picture.height, picture.width
    by_rows = rows_first(before, size, step)
    if step.filter == "nearest" or by_rows == (_BY_SHRINKAGE and rows_first(before, size, Resize())):
        return picture.resize((width, height), method)
    first = (picture.width, height) if by_rows else (width, picture.height)
    return picture.resize(first, method).resize((width, height), method)


def cropped(picture: Picture, top: int, left: int, size: tuple[int, int]) -> Picture:
    if isinstance(picture, np.ndarray):
        return picture[top : top + size[0], left : left + size[1]]
    return picture.crop((left, top, left + size[1], top + size[0]))


def _padded(picture: Picture, step: Pad, size: tuple[int, int], decode: Decode, path: str | Path) -> Picture:
    now = picture_size(picture)
    if size[0] < now[0] or size[1] < now[1]:
        raise ImageError(
            f"{path} is {now[0]} x {now[1]} (height x width) before it is padded to {size[0]} x {size[1]}; "
            "resize or crop it first."
        )
    top, left = (margin(after - before, step.centring) for before, after in zip(now, size))
    colour = fill_colour(step, decode)
    if isinstance(picture, Image.Image):
        fill = tuple(map(int, colour)) if picture.mode == "RGB" else int(colour[0])
        ground = Image.new(picture.mode, (size[1], size[0]), fill)
        ground.paste(picture, (left, top))
        return ground
    ground = np.empty((*size, picture.shape[2]), picture.dtype)
    ground[:] = colour
    ground[top : top + now[0], left : left + now[1]] = picture
    return ground


def fill_colour(step: Pad, decode: Decode) -> np.ndarray:
    """What a pad fills with, [channels] in the order of the decoded picture."""
    colour = np.array(ImageColor.getrgb(step.colour), np.uint8)
    if decode.colour == "grey":
        colour = grey_of(colour[None, None], decode.grey_weights, decode.grey_rounding)[0, 0]
    return colour
