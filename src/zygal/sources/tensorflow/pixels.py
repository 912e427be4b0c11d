"""Images on their way into a model: values that remember what was done to them, and the inlet that this is."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from zygal.inlet import Inlet
from zygal.inlet.specification import Decode, Resize, Tensor, Values
from zygal.sources.tensorflow.site import NodeSite, Value

LEVELS = 255.0


@dataclass(frozen=True)
class Encoded:
    """Image files as text."""


@dataclass(frozen=True)
class Sizes:
    """Sizes of images before they are made alike; nothing is known of them."""


@dataclass(frozen=True)
class EachImage:
    """A list of what is made of each image. of: what; None where nothing has been put into it yet."""

    of: Value | Encoded | None


@dataclass(frozen=True)
class Pixels:
    """A decoded image. size: height and width, once they are known. factor, offset: what was done to the levels of 0 to
    255, a number a channel. whole: whether it still holds whole levels. axes: without the batch 3, with it 4. unclear:
    the first step that no inlet states."""

    channels: int
    size: tuple[int, int] | None = None
    resize: Resize | None = None
    factor: tuple[float, ...] = (1.0,)
    offset: tuple[float, ...] = (0.0,)
    reversed: bool = False
    whole: bool = True
    axes: int = 3
    decoder: str = "DecodeJpeg"
    unclear: str | None = None


FOLLOWED = (Encoded, Sizes, EachImage, Pixels)


def batched(value: Any, site: NodeSite) -> Any:
    """Pixels with one more axis. Raises SourceError for what is no image."""
    if isinstance(value, Pixels):
        return replace(value, axes=value.axes + 1)
    return site.refuse("makes of each image something that is no image") if value is None else value


def inlet_of(pixels: Pixels) -> Inlet:
    """The inlet that does to pixels what the graph did."""
    jpeg = "fast" if "Jpeg" in pixels.decoder or pixels.decoder in ("DecodeImage", "DecodeAndCropJpeg") else "accurate"
    colour = "grey" if pixels.channels == 1 else "bgr" if pixels.reversed else "rgb"
    extra = {"grey_rounding": "stretched", "jpeg_grey": "luma"} if colour == "grey" else {}
    decode = Decode(colour=colour, jpeg=jpeg, **extra)
    dtype = "uint8" if pixels.whole and pixels.factor == (1.0,) and pixels.offset == (0.0,) else "float32"
    return Inlet(decode, (pixels.resize,), _values(pixels), Tensor("NHWC", dtype))


def _values(pixels: Pixels) -> Values:
    """The line of each channel as a range, and mean and deviation where the channels differ."""
    factor, offset = (np.broadcast_to(np.array(each), pixels.channels) for each in (pixels.factor, pixels.offset))
    if len(set(factor)) == len(set(offset)) == 1:
        return Values(range=(_short(offset[0]), _short(factor[0] * LEVELS + offset[0])))
    # (x * scale - mean) / std with the scale that makes the deviations those of numbers up to 1 or up to 255.
    scale = 1.0 if np.max(1 / np.abs(factor)) > 2 and np.max(np.abs(offset / factor)) > 2 else 1 / LEVELS
    std, mean = scale / factor, -offset * scale / factor
    return Values(
        range=(0.0, _short(scale * LEVELS)),
        mean=tuple(map(_short, mean)),
        std=None if np.allclose(std, 1) else tuple(map(_short, std)),
    )


def _short(number: float) -> float:
    """A number that was computed in float32 in its shortest spelling."""
    return float(f"{float(number):.7g}")
