"""What a source is, and what is known about it, whichever framework wrote it."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zygal.graph import Graph, TensorType
from zygal.sources.choice import Choice


@dataclass(frozen=True)
class Source:
    """A source as a graph. Its constants may be views of the open file: use it inside the block."""

    path: Path
    sha256: str
    framework: str
    framework_version: str
    graph: Graph
    output_names: tuple[str, ...]
    """All tensors that the source returns, by the names that it gives them; the graph has one of them."""
    chosen: Choice
    """The one that the graph has, and why."""
    notes: tuple[str, ...]
    """What a person should know about the conversion, one sentence each."""


@dataclass(frozen=True)
class SourceFacts:
    """What `survey` says of a source, whether or not it can be converted."""

    path: Path
    framework: str
    framework_version: str
    file_format: str
    inputs: dict[str, TensorType | None]
    outputs: dict[str, TensorType | None]
    scores: str
    """What the chosen output is."""
    chosen: Choice
    """The output that is taken for the class scores unless another is named."""
    softmax_twice: bool
    """Whether the scores are the softmax of a softmax, which is nearly always a fault."""
    mode: str | None
    """"evaluation" or "training": how the model was captured; None where a file holds no such thing."""
    preprocessing: list[str]
    """Layers inside the model that standardise or resize images, so that nobody does it twice."""
    operators: dict[str, int]
    unknown_operators: list[str]
    layers: list[str]
    tensors: int
    parameters: int
    weight_dtypes: list[str]
    size_bytes: int
