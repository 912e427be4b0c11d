"""The JSON result of zygal witness."""

from __future__ import annotations

from typing import TypedDict


class WitnessTensors(TypedDict):
    dtype: str
    shape: list[int]


class Witness(TypedDict):
    witness: str
    witness_bytes: int
    source: str
    images_from: str
    framework: str
    framework_version: str
    images: list[str]
    tensors: WitnessTensors
    preprocessing: str
    layers: list[str]
    classes: int
    labels: list[str] | None
