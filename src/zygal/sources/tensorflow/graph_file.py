"""A graph of TensorFlow as it lies in its files: nodes, functions, signatures."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from zygal.errors import SourceError


@dataclass(frozen=True)
class Signature:
    """One way to call a model. inputs, outputs: the key to the real tensor's name, its dtype number and its shape
    message.

    captured: of a function, the objects that it takes behind its own arguments.
    """

    name: str
    tags: tuple[str, ...]
    method: str
    inputs: Mapping[str, tuple[str, int, Any]]
    outputs: Mapping[str, tuple[str, int, Any]]
    function: str | None = None
    captured: tuple[int, ...] = ()


@dataclass(frozen=True)
class GraphFile:
    """nodes: of the outermost graph, by name. functions: by name. meta: of a folder, its meta graph. variables: of a
    folder, the prefix of their files. version: of the framework that wrote it. tag_sets: of all meta graphs of the
    file."""

    path: Path
    nodes: dict[str, Any]
    functions: dict[str, Any]
    meta: Any | None = None
    variables: Path | None = None
    version: str = "unknown"
    tag_sets: tuple[tuple[str, ...], ...] = ()
    signatures: tuple[Signature, ...] = ()
    arrays: Mapping[str, Any] = field(default_factory=dict)
    """Weights that lie beside the graph, by the names of its constants."""
    notes: tuple[str, ...] = ()
    file_format: str = "frozen graph"

    @property
    def assets(self) -> Path:
        """The folder of files that the graph names."""
        return self.path / "assets" if self.path.is_dir() else self.path.parent / "assets"


def nodes_by_name(nodes: Any, path: Path) -> dict[str, Any]:
    """Raises SourceError if two nodes have one name."""
    made = {node.name: node for node in nodes}
    if len(made) != len(nodes):
        raise SourceError(f"{path} is damaged: two nodes have one name.")
    return made


def functions_by_name(graph: Any, path: Path) -> dict[str, Any]:
    """Raises SourceError if two functions have one name."""
    made = {function.signature.name: function for function in graph.library.function}
    if len(made) != len(graph.library.function):
        raise SourceError(f"{path} is damaged: two functions have one name.")
    return made
