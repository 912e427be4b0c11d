"""Builds a graph node by node; the operators' own rules give every value its type."""

from __future__ import annotations

from collections.abc import Container, Iterable, Sequence
from typing import Any

import numpy as np

from zygal.errors import GraphError
from zygal.graph.contents import constant_contents, result_contents
from zygal.graph.folding import Budget
from zygal.graph.model import Graph, Node
from zygal.graph.ops import operator_named
from zygal.graph.shapes import TensorType


def free_name(wanted: str, taken: Container[str]) -> str:
    """`wanted`, or with the first number behind it that is not taken."""
    name, number = wanted, 1
    while name in taken:
        number += 1
        name = f"{wanted}_{number}"
    return name


class GraphBuilder:
    """Collects inputs, constants and nodes. Everything it is given is checked at once.

    contents: what small tensors of whole numbers hold, as far as it is known; see `zygal.graph.contents`.
    """

    def __init__(self) -> None:
        self.contents: dict[str, np.ndarray] = {}
        self.types: dict[str, TensorType] = {}
        self.constants: dict[str, np.ndarray] = {}
        self.input_names: list[str] = []
        self.budget = Budget()
        self._nodes: list[Node] = []
        self._makers: dict[str, int] = {}
        self._numbers: dict[str, int] = {}

    def input(self, name: str, type: TensorType) -> str:
        """Adds an input and gives its name. Raises GraphError."""
        self._claim(name, type)
        self.input_names.append(name)
        return name

    def constant(self, name: str, array: np.ndarray) -> str:
        """Adds a constant and returns its name, made distinct if `name` is taken."""
        self.budget.grant(array)
        return self.made_constant(name, array)

    def made_constant(self, name: str, array: np.ndarray) -> str:
        """The same for one that was computed from others, which the budget paid for."""
        name = self.free_name(name)
        self._claim(name, TensorType(array.dtype, tuple(array.shape)))
        self.constants[name] = array
        known = constant_contents(array)
        if known is not None:
            self.contents[name] = known
        return name

    def add(
        self, operator: str, inputs: Sequence[str], outputs: Sequence[str] | str, layer: str = "", **attributes: Any
    ) -> str:
        """Adds a node and returns the name of its first result. Raises GraphError, naming the layer."""
        outputs = (outputs,) if isinstance(outputs, str) else tuple(outputs)
        self.append(Node(operator, tuple(inputs), outputs, attributes, layer))
        return outputs[0]

    def append(self, node: Node) -> None:
        """Adds a node that is complete, and infers its types. Raises GraphError."""
        for name in node.inputs:
            if name and name not in self.types:
                raise GraphError(f"{_place(node)} reads {name}, which no earlier node produces.")
        types = result_types(node, self.types)
        for name, type in zip(node.outputs, types, strict=True):
            self._claim(name, type)
        self._nodes.append(node)
        self._makers.update(dict.fromkeys(node.outputs, len(self._nodes) - 1))
        known = result_contents(node, self.contents, self.types)
        if known is not None:
            self.contents[node.outputs[0]] = known

    def rename(self, old: str, wanted: str) -> str:
        """Gives a value that a node or a constant of this builder makes another name, if that is free; returns its
        name."""
        if wanted in self.types or old in self.input_names:
            return old
        for held in (self.types, self.constants, self.contents):
            if old in held:
                held[wanted] = held.pop(old)
        base, _, number = old.rpartition("_")
        if number.isdecimal() and base in self._numbers:
            self._numbers[base] = min(self._numbers[base], int(number))
        first = self._makers.pop(old, None)
        for position in range(first or 0, len(self._nodes)):
            self._nodes[position] = self._nodes[position].renamed({old: wanted})
        if first is not None:
            self._makers[wanted] = first
        return wanted

    def maker(self, name: str) -> Node | None:
        """The node that makes a value; None of an input or a constant."""
        place = self._makers.get(name)
        return None if place is None else self._nodes[place]

    def free_name(self, wanted: str) -> str:
        """`wanted`, or with the first number behind it that makes it new."""
        if wanted not in self.types:
            return wanted
        # All numbers below the one that was given last are taken, or the search would grow with every name.
        number = self._numbers.get(wanted, 1)
        while f"{wanted}_{number}" in self.types:
            number += 1
        self._numbers[wanted] = number
        return f"{wanted}_{number}"

    def finish(self, outputs: Iterable[str]) -> Graph:
        """The graph of all that was added, with these outputs. Raises GraphError for one that nothing makes."""
        outputs = tuple(outputs)
        for name in outputs:
            if name not in self.types:
                raise GraphError(f"the output {name} is not produced by any node.")
        return Graph(tuple(self.input_names), outputs, tuple(self._nodes), self.constants, self.types)

    def _claim(self, name: str, type: TensorType) -> None:
        if name in self.types:
            raise GraphError(f"the value {name} is produced twice.")
        self.types[name] = type


def rebuilt(graph: Graph, nodes: Iterable[Node], constants: dict[str, np.ndarray], outputs: Iterable[str]) -> Graph:
    """A graph with the inputs of `graph` and everything else new; every type is computed again.

    Constants that no node reads are left behind. This is how passes make their results.
    """
    nodes, outputs = tuple(nodes), tuple(outputs)
    read = {name for node in nodes for name in node.inputs} | set(outputs)
    builder = GraphBuilder()
    for name in graph.inputs:
        builder.input(name, graph.types[name])
    for name, array in constants.items():
        if name in read:
            builder.constant(name, array)
    for node in nodes:
        builder.append(node)
    return builder.finish(outputs)


def joined(front: Graph, behind: Graph) -> Graph:
    """One graph of two, the second taking what the first gives under the name of its input; both have names of their
    own."""
    builder = GraphBuilder()
    for name in front.inputs:
        builder.input(name, front.types[name])
    for graph in (front, behind):
        for name, array in graph.constants.items():
            builder.constant(name, array)
        for node in graph.nodes:
            builder.append(node)
    return builder.finish(behind.outputs)


def result_types(node: Node, types: dict[str, TensorType]) -> list[TensorType]:
    """The types of a node's results by its operator's rule. Raises GraphError, naming the layer."""
    operator = operator_named(node.operator)
    given = [types[name] if name else None for name in node.inputs]
    try:
        operator.check_dtypes(given)
        return operator.infer(given, operator.complete(node.attributes))
    except (ValueError, IndexError, TypeError, ZeroDivisionError, AttributeError) as fault:
        shapes = ", ".join(str(type) for type in given if type is not None)
        raise GraphError(f"{_place(node)} cannot take {shapes}: {fault}.") from fault


def _place(node: Node) -> str:
    return f"{node.operator} in layer {node.layer}" if node.layer else f"{node.operator} making {node.outputs[0]}"
