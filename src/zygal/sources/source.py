"""One door for all sources: a file to a graph and what is known about it, whichever framework wrote it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from zygal import kinds
from zygal.graph import Graph, TensorType


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
    freed_from_batch: int | None
    """The fixed batch that the model was captured with, where the graph has a dynamic one instead."""
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
    preprocessing: list[str]
    """Layers inside the model that standardise or resize images, so that nobody does it twice."""
    operators: dict[str, int]
    unknown_operators: list[str]
    layers: list[str]
    tensors: int
    parameters: int
    weight_dtypes: list[str]
    size_bytes: int


@contextmanager
def read_source(
    path: str | Path,
    keep_batch: bool = False,
    output: str | None = None,
    image_shape: tuple[int, ...] | None = None,
) -> Iterator[Source]:
    """The graph of a trained model's file, with one of its outputs: the first, unless another is named.

    A program that was captured with a fixed batch is freed from it, unless `keep_batch`. `image_shape` is that of
    one image's tensor, for models that leave it open. Raises
    FileError, SourceError or UnknownOperators.
    """
    if kinds.trained_kind(path) != kinds.PROGRAM:
        from zygal.sources.keras.door import read_model

        with read_model(path, output, image_shape) as source:
            yield source
        return
    from zygal.sources.pytorch.door import read_captured

    with read_captured(path, keep_batch, output) as source:
        yield source


def source_facts(path: str | Path) -> SourceFacts:
    """What a source says of itself. Raises FileError or SourceError."""
    if kinds.trained_kind(path) != kinds.PROGRAM:
        from zygal.sources.keras.door import model_facts

        return model_facts(path)
    from zygal.sources.pytorch.door import captured_facts

    return captured_facts(path)
