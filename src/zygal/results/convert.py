"""The JSON result of zygal convert."""

from __future__ import annotations

from typing import Annotated, TypedDict

from zygal.inlet.specification import Inlet


class ConvertInput(TypedDict):
    name: str
    dtype: str
    shape: list[int | str]


class Convert(TypedDict):
    source: str
    artifact: str
    framework: str
    framework_version: str
    input: ConvertInput
    output: ConvertInput
    raw_pixels: bool
    nodes_before: int
    nodes_after: int
    operators: dict[str, int]
    parameters: int
    artifact_bytes: Annotated[int, "size of the artifact, with the file of its weights if there is one"]
    weights_file: Annotated[str | None, "the file beside the artifact that holds its weights; null if they are inside"]
    format: str
    opset: int | None
    graph_as_it_came: Annotated[bool, "an ONNX file whose graph was left untouched"]
    inlet_inside: bool
    labels_inside: int | None
    labels_order: str | None
    inlet: Annotated[
        Inlet | None, "the inlet inside: the one that was given, else the one that was read off the source"
    ]
