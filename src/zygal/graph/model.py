"""A graph in single-assignment form: named values, constants by name, nodes in execution order."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from zygal.graph.shapes import TensorType


@dataclass(frozen=True)
class Node:
    """One use of an operator.

    `inputs` and `outputs` are names of values; an input that is left out is "". `attributes` are
    the operator's static parameters. `layer` is the layer of the training code that it came from.
    """

    operator: str
    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    attributes: Mapping[str, Any] = field(default_factory=dict)
    layer: str = ""

    def renamed(self, names: Mapping[str, str]) -> Node:
        """The same node with values renamed on both sides."""
        outputs = tuple(names.get(name, name) for name in self.outputs)
        return replace(self.reading(names), outputs=outputs)

    def reading(self, renamed: Mapping[str, str]) -> Node:
        """The same node with some of its inputs renamed."""
        return replace(self, inputs=tuple(renamed.get(name, name) for name in self.inputs))


@dataclass(frozen=True)
class Graph:
    """A model. `types` holds the type of every value: inputs, constants and results of nodes.

    Constants are arrays, possibly memory-mapped: treat them as read-only.
    """

    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    nodes: tuple[Node, ...]
    constants: Mapping[str, np.ndarray]
    types: Mapping[str, TensorType]

    def uses(self) -> Counter[str]:
        """How often each value is read, the graph's outputs included."""
        counts = Counter(name for node in self.nodes for name in node.inputs if name)
        counts.update(self.outputs)
        return counts

    def readers(self) -> dict[str, list[Node]]:
        """The nodes that read each value, in order."""
        found: dict[str, list[Node]] = {}
        for node in self.nodes:
            for name in node.inputs:
                found.setdefault(name, []).append(node)
        return found

    def producers(self) -> dict[str, Node]:
        """The node that makes each value."""
        return {name: node for node in self.nodes for name in node.outputs}

    def made_by(self) -> dict[str, tuple[str, tuple[str, ...]]]:
        """The operator that makes each value, and what it reads; see `scores.operators_before`."""
        return {name: (node.operator, node.inputs) for node in self.nodes for name in node.outputs}

    def parameter_count(self) -> int:
        """The number of elements in all floating-point constants."""
        return sum(array.size for array in self.constants.values() if array.dtype.kind == "f")

    def layer_names(self) -> list[str]:
        """The layers of the training code, in the order of first use."""
        return list(dict.fromkeys(node.layer for node in self.nodes if node.layer))

    def renamed(self, wanted: Mapping[str, str]) -> Graph:
        """The same graph with values renamed; a value that has a wanted name already makes way for it."""
        names = dict(wanted)
        for taken in set(wanted.values()) - set(wanted):
            if taken in self.types:
                names[taken] = f"{taken}_inside"
        return Graph(
            tuple(names.get(name, name) for name in self.inputs),
            tuple(names.get(name, name) for name in self.outputs),
            tuple(node.renamed(names) for node in self.nodes),
            {names.get(name, name): array for name, array in self.constants.items()},
            {names.get(name, name): type for name, type in self.types.items()},
        )
