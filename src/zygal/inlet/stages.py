"""An image after each stage of an inlet."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.inlet.apply import in_order, pictures
from zygal.inlet.decode import open_image
from zygal.inlet.description import describe_decode, describe_step, describe_values
from zygal.inlet.frame import as_array
from zygal.inlet.specification import Inlet
from zygal.inlet.values import to_tensor


@dataclass(frozen=True)
class Stage:
    """A stage's name, what it does in words, and the picture after it: [H, W, 1 or 3] of 0 to 255.

    low, high: the smallest and the largest number after it; for the last stage those of the tensor. The picture of the
    last stage shows the tensor in natural colours: the values stage is undone, so it is what the model can see of the
    image.
    """

    name: str
    does: str
    picture: np.ndarray
    low: float
    high: float


def stages_of(path: str | Path, inlet: Inlet) -> list[Stage]:
    """The file as it is stored, then after each stage. Raises ImageError."""
    file = open_image(path, inlet.decode)
    stored = np.asarray(file.convert("RGB")) if file.mode != "I;16" else np.asarray(file)[:, :, None] // 256
    found = [Stage("file", f"{file.mode} as stored", stored, float(stored.min()), float(stored.max()))]
    for step, picture in pictures(file, inlet, path):
        if step == "decode":
            name, does = "decode", describe_decode(inlet.decode)
        elif step == "convert":
            name, does = "convert", "to " + describe_decode(inlet.decode).partition(",")[0]
        else:
            name, does = type(step).__name__.lower(), describe_step(step)
        shown = picture if isinstance(picture, np.ndarray) or picture.mode in ("RGB", "L") else picture.convert("RGB")
        found.append(_stage(name, does, as_array(shown)))
    pixels = in_order(as_array(picture), inlet)
    tensor, level = to_tensor(pixels, inlet.values, inlet.tensor)
    does = f"{describe_values(inlet.values)}; {inlet.tensor.layout}, {inlet.tensor.dtype}"
    shown = _natural(tensor, level, pixels, inlet)
    return [*found, Stage("input tensor", does, shown, float(tensor.min()), float(tensor.max()))]


def _natural(tensor: np.ndarray, level: np.ndarray, pixels: np.ndarray, inlet: Inlet) -> np.ndarray:
    """The tensor as RGB or grey pixels [H, W, 3 or 1]: divided by its grey level and moved to the mean of the
    pixels."""
    values = (tensor.transpose(1, 2, 0) if inlet.tensor.layout == "NCHW" else tensor).astype(np.float64) / level
    values += (pixels.astype(np.float64) - values).mean(axis=(0, 1))
    return values[:, :, ::-1] if inlet.decode.colour == "bgr" else values


def _stage(name: str, does: str, pixels: np.ndarray) -> Stage:
    return Stage(name, does, pixels, float(pixels.min()), float(pixels.max()))
