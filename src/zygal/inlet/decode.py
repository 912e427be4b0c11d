"""The decode stage: an image file as pixels of 0 to 255, upright, in colour or grey."""

from __future__ import annotations

import warnings
from dataclasses import replace
from functools import lru_cache
from io import BytesIO
from pathlib import Path

import numpy as np
from PIL import Image, ImageChops, ImageOps, UnidentifiedImageError

from zygal.errors import FileError, ImageError, one_line
from zygal.files.locations import StorageOutage, open_location
from zygal.inlet.jpeg import decoded_otherwise
from zygal.inlet.specification import GREY_WEIGHTS, Decode

USUAL = Decode()
Picture = Image.Image | np.ndarray
"""A picture on its way: Pillow's (mode RGB or L) as long as that serves, else [H, W, C] uint8 or float32."""

# Pillow warns from half the size on at which it refuses; refusing is enough. (For the whole process: to change the
# filters around each file would not be safe with threads.)
warnings.filterwarnings("ignore", category=Image.DecompressionBombWarning)
# What is odd about a file that can be decoded all the same is nobody's business but the decoder's.
warnings.filterwarnings("ignore", module=r"PIL\..*")

_ORIENTATION = 0x0112
_PLAIN_MODES = ("1", "L", "LA", "P", "PA", "RGB", "RGBA", "RGBX", "CMYK", "YCbCr")
_SIXTEEN_BIT_MODES = ("I;16", "I;16L", "I;16B", "I;16N", "I")
_TURNS = {
    "horizontal": Image.Transpose.FLIP_LEFT_RIGHT,
    "vertical": Image.Transpose.FLIP_TOP_BOTTOM,
    "both": Image.Transpose.ROTATE_180,
}
FORMATS = ("BMP", "GIF", "JPEG", "PNG", "PPM", "TGA", "TIFF", "WEBP")
"""Files of these forms are opened, whatever they are named: other decoders of the library start programs or are
untried."""
MOST_PIXELS = 105_000_000
"""More than any camera that classifiers are fed from; with it decoding takes less than 1 GB."""
_BAND = 1024
"""Rows of a large picture that are worked on at a time, so that no second copy of it is held in a wider form."""


def decode_image(path: str | Path, decode: Decode, data: bytes | None = None) -> Picture:
    """The file as the decode stage leaves it; of an animation the first frame; "bgr" still in the order RGB.

    Raises ImageError.
    """
    return converted(decoded(open_image(path, decode, data), decode, path), decode, path)


def open_image(path: str | Path, decode: Decode = USUAL, data: bytes | None = None) -> Image.Image:
    """The pixels of a file or a URL as they are stored, loaded; of `decode` only what concerns JPEG files counts. data:
    the file's bytes, if they were read already.

    Raises ImageError, and StorageOutage for a URL whose storage does not answer; the size is checked before memory is
    taken.
    """
    try:
        with (
            open_location(path) if data is None else BytesIO(data) as stream,
            Image.open(stream, formats=FORMATS) as file,
        ):
            if file.size[0] * file.size[1] > MOST_PIXELS:
                raise ImageError(
                    f"{path} has {file.size[0]} x {file.size[1]} pixels, more than the {MOST_PIXELS // 10**6} million "
                    "that are decoded; make it smaller."
                )
            if file.mode not in _PLAIN_MODES and not has_sixteen_bits(file):
                raise ImageError(
                    f"{path} has pixels of the kind {file.mode}, not 8 or 16 bits a channel; convert it to 8 "
                    f"bits first."
                )
            if file.format == "JPEG" and decoding_of_jpeg(decode) != decoding_of_jpeg(USUAL):
                return decoded_otherwise(file, decode)
            file.load()
            return file
    except (ImageError, StorageOutage):
        raise
    except FileError as fault:
        raise ImageError(str(fault).partition("; check the ")[0].rstrip(".") + ".") from fault
    except UnidentifiedImageError as fault:
        raise ImageError(f"{path} is not an image that can be decoded ({', '.join(FORMATS)}).") from fault
    except Image.DecompressionBombError as fault:
        raise ImageError(f"{path} has too many pixels, so it is not decoded.") from fault
    except Exception as fault:  # Decoders raise whatever comes of the damage, memory that they do not get included.
        raise ImageError(f"{path} cannot be decoded: {fault_text(fault)}.") from fault


def decoding_of_jpeg(decode: Decode) -> tuple:
    """The part of a decode stage that decides how a JPEG file is opened."""
    luma = decode.jpeg_grey == "luma" and decode.colour == "grey"
    return decode.jpeg, decode.jpeg_reduction, luma


def decoded(file: Image.Image, decode: Decode, path: str | Path) -> Picture:
    """An opened file, upright; in the colour that the inlet asks for, unless that is made after a resize (see
    `converted`). `path` names it in messages. Raises ImageError."""
    picture = _guarded(lambda: _upright(file, decode), path)
    if decode.conversion == "after-resize":
        return _guarded(lambda: turn(picture, decode.mirror), path)
    colour = "rgb" if decode.conversion == "grey-after-resize" else decode.colour
    return _guarded(lambda: turn(_to_pixels(picture, replace(decode, colour=colour), path), decode.mirror), path)


def unreduced_size(file: Image.Image, decode: Decode) -> tuple[int, int] | None:
    """The (height, width) of the upright picture before the decoder reduced it, or None if it did not."""
    size = file.info.get("unreduced")
    if size is None or size == file.size:
        return None
    sideways = decode.exif == "apply" and file.getexif().get(_ORIENTATION, 1) in (5, 6, 7, 8)
    return size if sideways else size[::-1]


def converted(picture: Picture, decode: Decode, path: str | Path) -> Picture:
    """The conversion that was left for after the last resize, if any. Raises ImageError."""
    if decode.conversion == "first":
        return picture
    if decode.conversion == "after-resize":
        return _guarded(lambda: _to_pixels(picture, decode, path), path)
    if decode.colour != "grey":
        return picture
    return _guarded(lambda: _to_colour(picture, decode), path)


def _guarded(work, path: str | Path):
    try:
        return work()
    except ImageError:
        raise
    except Exception as fault:  # As above: a broken palette or orientation shows only here.
        raise ImageError(f"{path} cannot be decoded: {fault_text(fault)}.") from fault


def _upright(file: Image.Image, decode: Decode) -> Image.Image:
    turned = decode.exif == "apply" and file.getexif().get(_ORIENTATION, 1) != 1
    return ImageOps.exif_transpose(file) if turned else file


def _to_pixels(upright: Image.Image, decode: Decode, path: str | Path) -> Picture:
    picture = _to_colour(_laid_over(_to_8_bits(upright, decode, path), decode), decode)
    if decode.polarity == "as-is" or decode.polarity == "dark-ground" and border_mean(picture) <= 127.5:
        return picture
    return 255 - picture if isinstance(picture, np.ndarray) else ImageChops.invert(picture)


def border_mean(picture: Picture) -> float:
    """The mean of the outermost rows and columns, corners twice."""
    pixels = np.asarray(picture, np.float64)
    edges = (pixels[0], pixels[-1], pixels[:, 0], pixels[:, -1])
    return float(sum(edge.sum() for edge in edges) / sum(edge.size for edge in edges))


def fault_text(fault: Exception) -> str:
    """What a library's exception says, in one short line."""
    return one_line(str(fault), 160).rstrip(".") or type(fault).__name__


def turn(picture: Picture, mirror: str) -> Picture:
    """The picture mirrored: "none", "horizontal", "vertical" or "both"."""
    if mirror == "none":
        return picture
    if isinstance(picture, np.ndarray):
        rows, columns = (
            slice(None, None, -1 if mirror in (direction, "both") else 1) for direction in ("vertical", "horizontal")
        )
        return picture[rows, columns]
    return picture.transpose(_TURNS[mirror])


def has_transparency(picture: Image.Image) -> bool:
    """Whether a picture may have pixels that are not opaque."""
    return "transparency" in picture.info or "A" in picture.getbands()


def has_sixteen_bits(picture: Image.Image) -> bool:
    """Whether a picture has more than 8 bits a channel."""
    return picture.mode in _SIXTEEN_BIT_MODES


def _to_8_bits(picture: Image.Image, decode: Decode, path: str | Path) -> Image.Image:
    if picture.mode in _PLAIN_MODES:
        return picture
    if not has_sixteen_bits(picture):
        raise ImageError(
            f"{path} has pixels of the kind {picture.mode}, not 8 or 16 bits a channel; convert it to 8 bits first."
        )
    if decode.sixteen_bit == "refuse":
        raise ImageError(
            f"{path} has 16-bit pixels; say in the inlet how training made 8 bits of them "
            '([decode] sixteen_bit = "high-byte", "clip" or "scale"), or convert it to 8 bits first.'
        )
    numbers = np.asarray(picture)
    made = np.empty(numbers.shape, np.uint8)
    for start in range(0, len(numbers), _BAND):
        band = numbers[start : start + _BAND].astype(np.int32)
        if band.min() < 0 or band.max() > 65535:
            raise ImageError(f"{path} has pixels of more than 16 bits; convert it to 8 bits first.")
        if decode.sixteen_bit == "clip":
            band = np.minimum(band, 255)
        else:
            band = band >> 8 if decode.sixteen_bit == "high-byte" else (band + 128) // 257
        made[start : start + _BAND] = band
    return Image.fromarray(made)


def _laid_over(picture: Image.Image, decode: Decode) -> Image.Image:
    if decode.transparency == "drop" or not has_transparency(picture):
        return picture
    width, height = picture.size
    made = Image.new("RGB", picture.size)
    for top in range(0, height, _BAND):
        box = (0, top, width, min(top + _BAND, height))
        # A part that is cut out knows nothing of transparent colours of a palette; those are kept beside it.
        part = picture.crop(box)
        part.info = picture.info
        ground = Image.new("RGBA", part.size, decode.transparency)
        made.paste(Image.alpha_composite(ground, part.convert("RGBA")).convert("RGB"), box)
    return made


def _to_colour(picture: Image.Image, decode: Decode) -> Picture:
    if isinstance(picture, np.ndarray):
        return grey_of(picture, decode.grey_weights, decode.grey_rounding)
    if decode.colour != "grey":
        return picture if picture.mode == "RGB" else picture.convert("RGB")
    if decode.jpeg_grey == "luma" and picture.mode == "L":
        return picture
    if decode.grey_weights == GREY_WEIGHTS and decode.grey_rounding == "nearest":
        return picture.convert("L")
    grey = grey_of(np.asarray(picture.convert("RGB")), decode.grey_weights, decode.grey_rounding)
    return grey if decode.grey_rounding == "none" else Image.fromarray(grey[:, :, 0])


def grey_of(pixels: np.ndarray, weights: tuple[float, ...], rounding: str) -> np.ndarray:
    """Grey of RGB pixels [H, W, 3]: uint8 [H, W, 1], or float32 if not rounded."""
    if rounding.startswith("nearest") or rounding == "down-15bit":
        pixels = pixels if pixels.dtype == np.uint8 else np.rint(pixels).clip(0, 255).astype(np.uint8)
    if rounding.startswith("nearest"):
        bits = 16 if rounding == "nearest" else 15
        whole = whole_weights(weights, bits)
        return ((pixels @ whole + (1 << (bits - 1))) >> bits).clip(0, 255).astype(np.uint8)[:, :, None]
    if rounding == "down-15bit":
        whole = whole_weights(weights, 15, np.floor)
        return (pixels @ whole >> 15).clip(0, 255).astype(np.uint8)[:, :, None]
    grey = (pixels.astype(np.float32) @ np.array(weights, np.float32))[:, :, None]
    if rounding == "none":
        return grey
    if rounding == "stretched":
        return np.clip(np.floor(grey / np.float32(255) * np.float32(255.5)), 0, 255).astype(np.uint8)
    # What float32 leaves below a whole level is that level; less than what weights that sum to 0.9999 take from level
    # 1.
    return np.clip(np.floor(grey + np.float32(3e-5)), 0, 255).astype(np.uint8)


@lru_cache
def whole_weights(weights: tuple[float, ...], bits: int, rounded=round) -> np.ndarray:
    """Weights as multiples of 2**-bits with the sum kept, so that white stays white: the last one takes what is
    left."""
    red, green = (int(rounded(weight * (1 << bits))) for weight in weights[:2])
    return np.array([red, green, round(sum(weights) * (1 << bits)) - red - green], np.int32)
