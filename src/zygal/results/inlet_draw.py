"""The JSON result of zygal inlet draw."""

from __future__ import annotations

from typing import TypedDict

from zygal.inlet.specification import Inlet


class InletDrawStages(TypedDict):
    stage: str
    does: str
    height_pixels: int
    width_pixels: int
    lowest_value: float
    highest_value: float


class InletDraw(TypedDict):
    image: str
    inlet: Inlet | None
    stages: list[InletDrawStages]
