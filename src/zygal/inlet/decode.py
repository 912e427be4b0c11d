"""The decode stage: an image file as pixels of 0 to 255, upright, in colour or grey."""

from __future__ import annotations

import struct
import warnings
from functools import lru_cache
from pathlib import Path

import numpy as np
from PIL import Image, ImageChops, ImageOps, UnidentifiedImageError

from zygal.errors import ImageError
from zygal.inlet.resampling import to_8_bits
from zygal.inlet.specification import GREY_WEIGHTS, Decode

Picture = Image.Image | np.ndarray
"""A picture on its way: Pillow's (mode RGB or L) as long as that serves, else [H, W, C] uint8 or float32."""

# Pillow warns from half the size on at which it refuses; refusing is enough. (For the whole process: to change the
# filters around each file would not be safe with threads.)
warnings.filterwarnings("ignore", category=Image.DecompressionBombWarning)

_ORIENTATION = 0x0112
_PLAIN_MODES = ("1", "L", "LA", "P", "PA", "RGB", "RGBA", "RGBX", "CMYK", "YCbCr")
_SIXTEEN_BIT_MODES = ("I;16", "I;16L", "I;16B", "I;16N", "I")
_TURNS = {
    "horizontal": Image.Transpose.FLIP_LEFT_RIGHT,
    "vertical": Image.Transpose.FLIP_TOP_BOTTOM,
    "both": Image.Transpose.ROTATE_180,
}
# Pillow's decoders raise any of these on damaged files.
_DAMAGE = (OSError, ValueError, SyntaxError, EOFError, IndexError, TypeError, KeyError, struct.error)


def decode_image(path: str | Path, decode: Decode) -> Picture:
    """The file as the decode stage leaves it; of an animation the first frame; "bgr" still in the order RGB.

    Raises ImageError.
    """
    return decoded(open_image(path), decode, path)


def open_image(path: str | Path) -> Image.Image:
    """The file's pixels as they are stored, loaded. Raises ImageError; the size is checked before memory is taken."""
    try:
        with Image.open(path) as file:
            file.load()
            return file
    except UnidentifiedImageError as fault:
        raise ImageError(f"{path} is not an image that can be decoded.") from fault
    except Image.DecompressionBombError as fault:
        raise ImageError(f"{path} has more pixels than any photograph, so it is not decoded ({fault}).") from fault
    except (FileNotFoundError, PermissionError, IsADirectoryError) as fault:
        raise ImageError(f"{path} cannot be read: {fault.strerror.lower()}.") from fault
    except _DAMAGE as fault:
        raise ImageError(f"{path} cannot be decoded: {fault}.") from fault


def decoded(file: Image.Image, decode: Decode, path: str | Path) -> Picture:
    """The decode stage of an opened file; `path` names it in messages. Raises ImageError."""
    try:
        turned = decode.exif == "apply" and file.getexif().get(_ORIENTATION, 1) != 1
        upright = ImageOps.exif_transpose(file) if turned else file
    except _DAMAGE as fault:
        raise ImageError(f"{path} cannot be turned upright: {fault}.") from fault
    picture = _to_colour(_laid_over(_to_8_bits(upright, decode, path), decode), decode)
    if decode.polarity == "inverted":
        picture = 255 - picture if isinstance(picture, np.ndarray) else ImageChops.invert(picture)
    return turn(picture, decode.mirror)


def turn(picture: Picture, mirror: str) -> Picture:
    """The picture mirrored: "none", "horizontal", "vertical" or "both"."""
    if mirror == "none":
        return picture
    if isinstance(picture, np.ndarray):
        rows, columns = (slice(None, None, -1 if mirror in (way, "both") else 1) for way in ("vertical", "horizontal"))
        return picture[rows, columns]
    return picture.transpose(_TURNS[mirror])


def has_transparency(picture: Image.Image) -> bool:
    return "transparency" in picture.info or "A" in picture.getbands()


def has_sixteen_bits(picture: Image.Image) -> bool:
    return picture.mode in _SIXTEEN_BIT_MODES


def _to_8_bits(picture: Image.Image, decode: Decode, path: str | Path) -> Image.Image:
    if picture.mode in _PLAIN_MODES:
        return picture
    if not has_sixteen_bits(picture):
        raise ImageError(
            f"{path} has pixels of the kind {picture.mode}, not 8 or 16 bits a channel; convert it to 8 bits first."
        )
    numbers = np.asarray(picture).astype(np.int64)
    if decode.sixteen_bit == "refuse" or numbers.min() < 0 or numbers.max() > 65535:
        raise ImageError(
            f"{path} has 16-bit pixels; say in the inlet how training made 8 bits of them "
            '([decode] sixteen_bit = "high-byte", "clip" or "scale"), or convert it to 8 bits first.'
        )
    if decode.sixteen_bit == "clip":
        return Image.fromarray(np.minimum(numbers, 255).astype(np.uint8))
    return Image.fromarray(
        (numbers >> 8 if decode.sixteen_bit == "high-byte" else (numbers + 128) // 257).astype(np.uint8)
    )


def _laid_over(picture: Image.Image, decode: Decode) -> Image.Image:
    if decode.transparency == "drop" or not has_transparency(picture):
        return picture
    ground = Image.new("RGBA", picture.size, decode.transparency)
    return Image.alpha_composite(ground, picture.convert("RGBA")).convert("RGB")


def _to_colour(picture: Image.Image, decode: Decode) -> Picture:
    if decode.colour != "grey":
        return picture if picture.mode == "RGB" else picture.convert("RGB")
    if decode.grey_weights == GREY_WEIGHTS and decode.grey_rounding == "nearest":
        return picture.convert("L")
    grey = grey_of(np.asarray(picture.convert("RGB")), decode.grey_weights, decode.grey_rounding)
    return grey if decode.grey_rounding == "none" else Image.fromarray(grey[:, :, 0])


def grey_of(pixels: np.ndarray, weights: tuple[float, ...], rounding: str) -> np.ndarray:
    """Grey of RGB pixels [H, W, 3]: uint8 [H, W, 1], or float32 if not rounded."""
    if rounding.startswith("nearest"):
        bits = 16 if rounding == "nearest" else 15
        whole = whole_weights(weights, bits)
        return ((pixels @ whole + (1 << (bits - 1))) >> bits).clip(0, 255).astype(np.uint8)[:, :, None]
    grey = (pixels.astype(np.float32) @ np.array(weights, np.float32))[:, :, None]
    return to_8_bits(grey, "down") if rounding == "down" else grey


@lru_cache
def whole_weights(weights: tuple[float, ...], bits: int) -> np.ndarray:
    """Weights as multiples of 2**-bits with the sum kept, so that white stays white: the last one takes what is left."""
    red, green = (round(weight * (1 << bits)) for weight in weights[:2])
    return np.array([red, green, round(sum(weights) * (1 << bits)) - red - green], np.int32)
