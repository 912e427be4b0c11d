"""Applies an inlet to image files: decode and frame with Pillow, values and tensor with NumPy."""

from __future__ import annotations

import struct
import warnings
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PIL import Image, ImageOps, UnidentifiedImageError

from zygal.errors import ImageError
from zygal.inlet.specification import Crop, Decode, Inlet, Resize, Tensor, Values, scaled_size

PLAIN_MODES = ("1", "L", "LA", "P", "PA", "RGB", "RGBA", "RGBX", "CMYK", "YCbCr")

_FILTERS = {
    name: Image.Resampling[name.upper()] for name in ("nearest", "box", "bilinear", "hamming", "bicubic", "lanczos")
}


@dataclass(frozen=True)
class InletTensor:
    """What the inlet makes of one image.

    pixels: 8-bit [height, width, channels], after the frame stage. tensor: what the model is fed,
    [C, H, W] or [H, W, C].
    """

    pixels: np.ndarray
    tensor: np.ndarray


def apply_inlet(path: str | Path, inlet: Inlet) -> InletTensor:
    """One image file through all stages. Raises ImageError."""
    picture = decode_image(path, inlet.decode)
    for step in inlet.frame:
        picture = _resize(picture, step) if isinstance(step, Resize) else _crop(picture, step, path)
    pixels = np.asarray(picture)
    if pixels.ndim == 2:
        pixels = pixels[:, :, None]
    if inlet.decode.colour == "bgr":
        pixels = pixels[:, :, ::-1]
    return InletTensor(pixels, to_tensor(pixels, inlet.values, inlet.tensor))


def decode_image(path: str | Path, decode: Decode) -> Image.Image:
    """The file as an 8-bit picture, RGB or grey, upright if the inlet says so. Raises ImageError."""
    try:
        with warnings.catch_warnings():
            # Pillow warns from half the size on at which it refuses; refusing is enough.
            warnings.simplefilter("ignore", Image.DecompressionBombWarning)
            file = Image.open(path)
        with file:
            file.load()
            picture = ImageOps.exif_transpose(file) if decode.exif == "apply" else file
            return _to_colour(picture, decode, path)
    except UnidentifiedImageError as fault:
        raise ImageError(f"{path} is not an image that can be decoded.") from fault
    except Image.DecompressionBombError as fault:
        raise ImageError(f"{path} has more pixels than any photograph, so it is not decoded ({fault}).") from fault
    except (OSError, ValueError, SyntaxError, EOFError, IndexError, TypeError, KeyError, struct.error) as fault:
        # Pillow's decoders raise any of these on damaged files.
        raise ImageError(f"{path} cannot be decoded: {fault}.") from fault


def to_tensor(pixels: np.ndarray, values: Values, tensor: Tensor) -> np.ndarray:
    """8-bit [H, W, C] to the model's numbers, in float32 and in the order in which training code does it."""
    if tensor.dtype == "uint8":
        numbers = pixels
    else:
        low, high = values.range
        numbers = pixels.astype(np.float32)
        # For the range 0 to 1 this is x / 255 and nothing else, as training code has it.
        if high - low != 255:
            numbers *= np.float32(high - low)
            numbers /= np.float32(255)
        if low:
            numbers += np.float32(low)
        if values.mean is not None:
            numbers -= np.array(values.mean, np.float32)
        if values.std is not None:
            numbers /= np.array(values.std, np.float32)
    return np.ascontiguousarray(numbers.transpose(2, 0, 1) if tensor.layout == "NCHW" else numbers)


def _to_colour(picture: Image.Image, decode: Decode, path: str | Path) -> Image.Image:
    if picture.mode not in PLAIN_MODES:
        raise ImageError(
            f"{path} has pixels of the kind {picture.mode}, not 8 bits a channel; convert it to 8 bits first."
        )
    transparent = "transparency" in picture.info or "A" in picture.getbands()
    if transparent and decode.transparency != "drop":
        ground = Image.new("RGBA", picture.size, decode.transparency)
        picture = Image.alpha_composite(ground, picture.convert("RGBA")).convert("RGB")
    return picture.convert("L" if decode.colour == "grey" else "RGB")


def _resize(picture: Image.Image, step: Resize) -> Image.Image:
    height, width = scaled_size((picture.height, picture.width), step)
    if max(height, width) > 65536:
        raise ImageError(
            f"a picture of {picture.width} x {picture.height} would become {width} x {height} by the resize."
        )
    return picture.resize((width, height), _FILTERS[step.filter])


def _crop(picture: Image.Image, step: Crop, path: str | Path) -> Image.Image:
    height, width = step.size
    if height > picture.height or width > picture.width:
        raise ImageError(
            f"{path} is {picture.height} x {picture.width} (height x width) before the crop to {height} x {width}; "
            "resize it first."
        )
    top, left = _margin(picture.height - height, step.centring), _margin(picture.width - width, step.centring)
    return picture.crop((left, top, left + width, top + height))


def _margin(spare: int, centring: str) -> int:
    # round() is Python's, halves to the even number, as training code that calls it gets it.
    return spare // 2 if centring == "down" else round(spare / 2)
