"""How what an inlet makes differs from what was recorded, image by image."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.errors import ImageError
from zygal.inlet.apply import apply_to_all
from zygal.inlet.recovery.material import Material
from zygal.inlet.recovery.trial import HOPELESS
from zygal.inlet.specification import Inlet
from zygal.inlet.values import level_differences

EXPLAINED = 0.5
"""Difference in grey levels that nearly all values must keep for an inlet to explain a recording."""
NEARLY_ALL = 0.999
"""The part of an image's values that must keep it: a library's own rounding moves fewer than one in a thousand by one
level."""
ONE_LEVEL = 1.0
_BORDER = 3


@dataclass(frozen=True)
class ImageResidual:
    """The differences of one image, in grey levels.

    number: its place among the images. kind: its file format and its mode, as Pillow names them. share: of values that
    differ by more than half a level. nearly_all: what 99.9 % of the values keep. where: "all over", "at the border" or
    "nowhere".
    """

    number: int
    image: str
    kind: str
    largest: float
    mean: float
    share: float
    nearly_all: float
    where: str

    @property
    def explained(self) -> bool:
        """Whether the inlet gives this image's tensor."""
        return explains(self.largest, self.nearly_all)


def explains(largest: float, nearly_all: float, accept: float = EXPLAINED) -> bool:
    """Whether differences are an inlet's: nearly all are small, and the others no larger than one rounding."""
    return nearly_all <= accept and largest <= accept + ONE_LEVEL


def residuals_of(material: Material, inlet: Inlet, among: list[int] | None = None) -> list[ImageResidual]:
    """The residual of every image that can be read, or of some."""
    numbers = material.readable if among is None else among
    made = apply_to_all([material.paths[number] for number in numbers], inlet)
    return [_residual(material, number, each, inlet) for number, each in zip(numbers, made)]


def _residual(material: Material, number: int, made, inlet: Inlet) -> ImageResidual:
    kind = " ".join(material.kinds.get(number, ("", "")))
    name, recorded = material.paths[number].name, material.recorded[number]
    tensor = None
    if not isinstance(made, ImageError):
        tensor = made.tensor.transpose(1, 2, 0) if inlet.tensor.layout == "NCHW" else made.tensor
    if tensor is None or tensor.shape != recorded.shape:
        return ImageResidual(number, name, kind, HOPELESS, HOPELESS, 1.0, HOPELESS, "all over")
    differences = level_differences(tensor, recorded, made.grey_level)
    largest, nearly_all = float(differences.max()), float(np.quantile(differences, NEARLY_ALL))
    off = differences > EXPLAINED
    inner = off[_BORDER:-_BORDER, _BORDER:-_BORDER]
    where = "nowhere" if not off.any() else "all over" if inner.any() else "at the border"
    return ImageResidual(number, name, kind, largest, float(differences.mean()), float(off.mean()), nearly_all, where)
