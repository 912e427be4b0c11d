"""What a source is, and what is known about it, whichever framework wrote it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.classifier.choice import Choice
from zygal.graph import Graph, TensorType

if TYPE_CHECKING:
    from zygal.classifier.metadata import Metadata
    from zygal.inlet import Inlet


@dataclass(frozen=True)
class Source:
    """A source as a graph. Its constants may be views of the open file: use it inside the block."""

    path: Path
    framework: str
    framework_version: str
    graph: Graph
    output_names: tuple[str, ...]
    """All tensors that the source returns, by the names that it gives them; the graph has one of them."""
    chosen: Choice
    """The one that the graph has, and why."""
    notes: tuple[str, ...]
    """What a person should know about the conversion, one sentence each."""
    labels: tuple[str, ...] | None = None
    """The class names that the source itself holds, in the order of its scores."""
    inlet: Inlet | None = None
    """The preprocessing that the source itself does before the part that the graph is."""
    metadata: Metadata | None = None
    """Of an artifact, all that it says of itself."""
    graph_for: Callable[[int], Graph | None] = lambda count: None
    """Of a graph with a fixed batch, the graph for another number of images, where the source's own code says what it
    is; None where the source holds the number."""


@dataclass(frozen=True)
class SignatureFacts:
    """One way to call a model that has several. inputs, outputs: by key the real tensor's name, its dtype, and its
    sizes (None for an open one; None instead of a list if not even the number of axes is known)."""

    name: str
    tags: tuple[str, ...]
    inputs: dict[str, tuple[str, str, tuple[int | None, ...] | None]]
    outputs: dict[str, tuple[str, str, tuple[int | None, ...] | None]]
    taken: bool


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
    signatures: tuple[SignatureFacts, ...] = ()
    labels: tuple[str, ...] | None = None
    inlet: Inlet | None = None
    why_not: str = ""
    """What stands in the way of a conversion other than unknown operators, as a sentence."""
