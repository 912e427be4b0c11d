"""Which products of a graph are those of attention, and which columns of which linear layers they read."""

from __future__ import annotations

from dataclasses import dataclass, replace
from math import prod

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.ops import operator_named
from zygal.graph.passes.rules import attribute
from zygal.graph.shapes import Batch, at_batch

_REARRANGING = ("Reshape", "Transpose", "Slice", "Squeeze", "Unsqueeze", "Gather", "Flatten")
_TRIED = 2
"""The batch at which it is looked up which number goes where."""


@dataclass(frozen=True)
class Linear:
    """x @ matrix + bias, for x [batch, *places, inputs]."""

    x: str
    matrix: np.ndarray
    bias: np.ndarray | None
    nodes: tuple[str, ...]
    """What is made on the way, the result last."""


@dataclass(frozen=True)
class Operand:
    """Rows of a linear product, split into heads: columns [heads, size] of its result, times a number."""

    linear: Linear
    columns: np.ndarray
    factor: float
    path: tuple[str, ...]
    """The values between the product and the operand, that one last."""
    tokens: int


class Finder:
    """Finds which columns of which linear layers an attention's query, key and value consist of."""

    def __init__(self, graph: Graph):
        self._graph, self._made_by, self._readers = graph, graph.producers(), graph.readers()

    def products(self) -> dict[str, tuple[Operand | None, Operand]]:
        """By what a product makes, its operands; the left one is None where it is the weights of attention."""
        found = {}
        for node in self._graph.nodes:
            operands = self._operands(node)
            if operands is not None:
                found[node.outputs[0]] = operands
        while True:
            taken = {
                name
                for operands in found.values()
                for each in operands
                if each
                for name in (*each.path, *each.linear.nodes)
            }
            kept = {
                name: operands
                for name, operands in found.items()
                if all(self._alone(each, taken, found) for each in operands if each)
            }
            if len(kept) == len(found):
                return found
            found = kept

    def _operands(self, node: Node) -> tuple[Operand | None, Operand] | None:
        if node.operator != "MatMul" or any(name in self._graph.constants for name in node.inputs):
            return None
        left, right = node.inputs
        type = self._graph.types[node.outputs[0]]
        batches = [isinstance(size, Batch) for size in type.shape]
        if type.rank not in (3, 4) or type.dtype != np.float32 or batches != [True] + [False] * (type.rank - 1):
            return None
        query, key = self._operand(left, False), self._operand(right, True)
        if query is not None and key is not None:
            fits = query.columns.shape == key.columns.shape and self._batch(query) == self._batch(key)
            return (query, key) if fits else None
        value, weights = self._operand(right, False), self._made_by.get(left)
        if (
            value is None
            or weights is None
            or weights.operator != "Softmax"
            or self._graph.types[left].rank != type.rank
        ):
            return None
        return None, value

    def _batch(self, operand: Operand):
        return self._graph.types[operand.linear.x].shape[0]

    def _alone(self, operand: Operand, taken: set[str], found) -> bool:
        """Whether what an operand is made of goes into rewritten products only."""
        for name in (*operand.linear.nodes, *operand.path):
            if name in self._graph.outputs:
                return False
            for reader in self._readers.get(name, ()):
                if reader.outputs[0] not in taken and reader.outputs[0] not in found:
                    return False
        return True

    def _operand(self, name: str, transposed: bool) -> Operand | None:
        """What an operand of attention is; turned: its last two axes are size and tokens."""
        way, path, factor, current = [], [], 1.0, name
        while (linear := self._linear(current)) is None:
            node = self._made_by.get(current)
            if node is None:
                return None
            by = self._number(node)
            if by is not None:
                factor *= by
            elif node.operator in _REARRANGING and all(each in self._graph.constants for each in node.inputs[1:]):
                way.append(node)
            else:
                return None
            path.insert(0, current)
            current = node.inputs[0]
        columns = self._columns(linear, way[::-1], transposed)
        if columns is None:
            return None
        places = self._graph.types[linear.nodes[-1]].shape[1:-1]
        return Operand(linear, columns, factor, tuple(path), prod(places))

    def scale_behind(self, name: str) -> float | None:
        """The number that a value is multiplied with, if nothing else is done with it."""
        readers = self._readers.get(name, [])
        return (
            self._number(readers[0])
            if len(readers) == 1 and name not in self._graph.outputs and readers[0].inputs[0] == name
            else None
        )

    def whole(self, node: Node, found) -> tuple[Operand, Operand, Operand, str] | None:
        """Query, key, value and the addend of the scores, "" if there is none, of the attention that a product ends;
        else None."""
        left, value = found[node.outputs[0]]
        softmax = self._made_by.get(node.inputs[0])
        if left is not None or softmax is None or softmax.operator != "Softmax":
            return None
        type = self._graph.types[softmax.outputs[0]]
        if attribute(softmax, "axis") not in (-1, type.rank - 1):
            return None
        scores, addend, factor = softmax.inputs[0], "", 1.0
        made = self._made_by.get(scores)
        if (
            made is not None
            and made.operator == "Add"
            and type.rank == 4
            and self._graph.constants.get(made.inputs[1]) is not None
        ):
            scores, addend = made.inputs
            if self._graph.types[addend].rank > 4 or self._graph.types[scores].shape != type.shape:
                return None
            made = self._made_by.get(scores)
        if scores not in found and made is not None:
            factor = self._number(made)
            scores = made.inputs[0]
        query, key = found.get(scores, (None, None))
        if query is None or factor is None or len(query.columns) != len(value.columns):
            return None
        return replace(query, factor=query.factor * factor), key, value, addend

    def _number(self, node: Node) -> float | None:
        """The number that a node multiplies with, if that is all it does."""
        number = self._graph.constants.get(node.inputs[1]) if node.operator in ("Mul", "Div") else None
        if number is None or number.size != 1 or number.ndim > self._graph.types[node.inputs[0]].rank:
            return None
        value = float(number.reshape(()))
        return value if node.operator == "Mul" else 1 / value

    def _linear(self, name: str) -> Linear | None:
        node, bias, nodes = self._made_by.get(name), None, [name]
        if node is not None and node.operator == "Add":
            bias = self._graph.constants.get(node.inputs[1])
            if bias is None or bias.ndim != 1:
                return None
            nodes.insert(0, node.inputs[0])
            node = self._made_by.get(node.inputs[0])
        if node is None or node.operator != "MatMul":
            return None
        matrix, type = self._graph.constants.get(node.inputs[1]), self._graph.types[node.inputs[0]]
        if matrix is None or matrix.ndim != 2 or type.rank < 3 or not isinstance(type.shape[0], Batch):
            return None
        if (
            bias is not None
            and bias.shape != matrix.shape[1:]
            or any(isinstance(size, Batch) for size in type.shape[1:])
        ):
            return None
        return Linear(node.inputs[0], matrix, bias, tuple(nodes))

    def _columns(self, linear: Linear, way: list[Node], transposed: bool) -> np.ndarray | None:
        """The columns [heads, size] that an operand [batch * heads, tokens, size] consists of, each row being a
        token's; else None.

        The operators on the way only move numbers, so they are run on the numbers' own places.
        """
        shape = at_batch(self._graph.types[linear.nodes[-1]].shape, _TRIED)
        places = np.arange(prod(shape)).reshape(shape)
        for node in way:
            operator = operator_named(node.operator)
            given = [places, *(self._graph.constants[name] for name in node.inputs[1:])]
            (places,) = operator.compute(given, operator.complete(node.attributes))
        if places.ndim not in (3, 4):
            return None
        places = places.swapaxes(-1, -2) if transposed else places
        places = places.reshape(-1, *places.shape[-2:])
        batch, tokens, width = shape[0], prod(shape[1:-1]), shape[-1]
        heads, rest = divmod(len(places), batch)
        if rest or places.shape[1] != tokens:
            return None
        rows, columns = np.divmod(places.reshape(batch, heads, tokens, -1), width)
        expected = np.arange(batch * tokens).reshape(batch, 1, tokens, 1)
        found = columns[0, :, 0]
        if np.any(rows != expected) or np.any(columns != found[None, :, None]) or len(np.unique(found)) != found.size:
            return None
        return found
