"""What an artifact says of itself, whatever its format."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zygal.classifier.choice import Choice
from zygal.classifier.metadata import Metadata


@dataclass(frozen=True)
class Artifact:
    """sha256: of all files that the artifact consists of. format, version: of the file, in words. runtime,
    oldest_runtime: what runs it, and its oldest release that does, if that is known. Shapes hold numbers, names of
    dynamic sizes, or None where the file does not say. chosen: the output that is taken for the class scores; scores:
    what it is. opset, ir_version: of an ONNX file. signatures: of a mobile flatbuffer, ways to call it by names."""

    path: Path
    sha256: str
    format: str
    version: str
    runtime: str
    oldest_runtime: str | None
    inputs: dict[str, tuple[str, tuple[int | str | None, ...]]]
    outputs: dict[str, tuple[str, tuple[int | str | None, ...]]]
    producer: str
    operators: dict[str, int]
    nodes: int
    layers: int
    parameters: int
    scores: str
    chosen: Choice
    size_bytes: int
    metadata: Metadata
    opset: int | None = None
    ir_version: int | None = None
    signatures: tuple[str, ...] = ()
