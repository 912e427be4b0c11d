"""What an image looks like after each stage of an inlet."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.inlet.apply import in_order
from zygal.inlet.decode import decoded, open_image
from zygal.inlet.frame import as_array, run_step
from zygal.inlet.specification import Crop, Inlet, Pad, Resize
from zygal.inlet.values import to_tensor
from zygal.inlet.description import describe_decode, describe_step, describe_values


@dataclass(frozen=True)
class Stage:
    """A stage's name, what it does in words, and the picture after it: [H, W, 1 or 3] of 0 to 255.

    low, high: the smallest and the largest number after it; of the last stage those of the tensor, stretched to 0..255
    in the picture, channels in the model's order.
    """

    name: str
    does: str
    picture: np.ndarray
    low: float
    high: float


def stages_of(path: str | Path, inlet: Inlet) -> list[Stage]:
    """The file as it is stored, then after each stage. Raises ImageError."""
    file = open_image(path)
    stored = np.asarray(file.convert("RGB")) if file.mode != "I;16" else np.asarray(file)[:, :, None] // 256
    found = [Stage("file", f"{file.mode} as stored", stored, float(stored.min()), float(stored.max()))]
    picture = decoded(file, inlet.decode, path)
    found.append(_stage("decode", describe_decode(inlet.decode), as_array(picture)))
    for step in inlet.frame:
        picture = run_step(picture, step, inlet.decode, path)
        name = {Resize: "resize", Crop: "crop", Pad: "pad"}[type(step)]
        found.append(_stage(name, describe_step(step), as_array(picture)))
    tensor, _ = to_tensor(in_order(as_array(picture), inlet), inlet.values, inlet.tensor)
    seen = (tensor.transpose(1, 2, 0) if inlet.tensor.layout == "NCHW" else tensor).astype(np.float64)
    low, high = float(seen.min()), float(seen.max())
    stretched = (seen - low) / ((high - low) or 1.0) * 255
    says = f"{describe_values(inlet.values)}; {inlet.tensor.layout}, {inlet.tensor.dtype}"
    return [*found, Stage("as the network sees it", says, stretched, low, high)]


def _stage(name: str, does: str, pixels: np.ndarray) -> Stage:
    return Stage(name, does, pixels, float(pixels.min()), float(pixels.max()))
