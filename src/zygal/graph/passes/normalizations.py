"""Layer normalisations that were taken apart become one operator again, where they are over the last axis.

With m the mean of x, v the mean of (x - m)^2 and i = gamma / sqrt(v + epsilon), training code writes them as
x i + (beta - m i), or as (x - m) / sqrt(v + epsilon) gamma + beta.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node
from zygal.graph.passes.rules import attribute


@dataclass(frozen=True)
class _Parts:
    x: str
    epsilon: float
    gamma: np.ndarray | None
    beta: np.ndarray | None


def join_layer_normalizations(graph: Graph) -> Graph:
    """Replaces the last addition of each; what led to it is taken out as dead."""
    found = _Matcher(graph)
    constants, nodes, changed = dict(graph.constants), [], False
    for node in graph.nodes:
        parts = found.parts(node)
        width = graph.types[parts.x].shape[-1] if parts is not None else None
        if not isinstance(width, int) or graph.types[node.outputs[0]] != graph.types[parts.x]:
            nodes.append(node)
            continue
        made, changed = node.outputs[0], True
        constants[f"{made}.scale"] = _row(parts.gamma, width, 1.0)
        constants[f"{made}.shift"] = _row(parts.beta, width, 0.0)
        inputs = (parts.x, f"{made}.scale", f"{made}.shift")
        nodes.append(
            Node("LayerNormalization", inputs, node.outputs, {"axis": -1, "epsilon": parts.epsilon}, node.layer)
        )
    return rebuilt(graph, nodes, constants, graph.outputs) if changed else graph


def _row(array: np.ndarray | None, width: int, neutral: float) -> np.ndarray:
    return (
        np.full(width, neutral, np.float32)
        if array is None
        else np.ascontiguousarray(np.broadcast_to(array.reshape(-1), width))
    )


class _Matcher:
    def __init__(self, graph: Graph):
        self._made_by, self._constants, self._types = graph.producers(), graph.constants, graph.types

    def parts(self, node: Node) -> _Parts | None:
        """What a node's result is the layer normalisation of, or None."""
        if node.operator not in ("Add", "Mul", "Div") or self._types[node.outputs[0]].dtype != np.float32:
            return None
        return self._folded(node) or self._plain(node)

    def _folded(self, node: Node) -> _Parts | None:
        """x i + (beta - m i), or x i + (-m i + beta)."""
        for product, rest in self._both(node, "Add"):
            for x, factor in self._both(self._made_by.get(product), "Mul"):
                inverse = self._inverse(factor)
                if inverse is None:
                    continue
                mean, epsilon, gamma = inverse
                beta = self._shift(rest, mean, factor)
                if beta is not None and self._is_mean(mean, x):
                    return _Parts(x, epsilon, gamma, beta)
        return None

    def _shift(self, rest: str, mean: str, factor: str) -> np.ndarray | None:
        made = self._made_by.get(rest)
        if made is None:
            return None
        if made.operator == "Sub":
            beta = self._per_place(made.inputs[0])
            return beta if {mean, factor} == self._factors(made.inputs[1]) else None
        for product, shift in self._both(made, "Add"):
            beta = self._per_place(shift)
            for one, other in self._both(self._made_by.get(product), "Mul"):
                negative = self._made_by.get(one)
                if (
                    beta is not None
                    and other == factor
                    and negative is not None
                    and negative.operator == "Neg"
                    and negative.inputs[0] == mean
                ):
                    return beta
        return None

    def _factors(self, name: str) -> set[str]:
        made = self._made_by.get(name)
        return set(made.inputs) if made is not None and made.operator == "Mul" else set()

    def _inverse(self, name: str) -> tuple[str, float, np.ndarray | None] | None:
        """The mean, epsilon and gamma of gamma / sqrt(v + epsilon)."""
        for root, scale in [*self._both(self._made_by.get(name), "Mul"), (name, "")]:
            gamma = self._per_place(scale) if scale else None
            made = self._made_by.get(root)
            if scale and gamma is None or made is None or made.operator != "Reciprocal":
                continue
            spread = self._spread(made.inputs[0])
            if spread is not None:
                return (*spread, gamma)
        return None

    def _spread(self, name: str) -> tuple[str, float] | None:
        """The mean and epsilon of sqrt(mean((x - m)^2) + epsilon)."""
        root = self._made_by.get(name)
        if root is None or root.operator != "Sqrt":
            return None
        for variance, number in self._both(self._made_by.get(root.inputs[0]), "Add"):
            epsilon, reduced = self._constants.get(number), self._made_by.get(variance)
            if epsilon is None or epsilon.size != 1 or not self._over_last(reduced):
                continue
            square = self._made_by.get(reduced.inputs[0])
            if square is None or square.operator != "Mul" or square.inputs[0] != square.inputs[1]:
                continue
            centred = self._made_by.get(square.inputs[0])
            if (
                centred is not None
                and centred.operator == "Sub"
                and self._is_mean(centred.inputs[1], centred.inputs[0])
            ):
                return centred.inputs[1], float(epsilon.reshape(-1)[0])
        return None

    def _plain(self, node: Node) -> _Parts | None:
        """(x - m) / sqrt(v + epsilon), alone, times gamma, plus beta."""
        beta = gamma = None
        if node.operator == "Add":
            value, beta = self._with_constant(node)
            node = self._made_by.get(value) if beta is not None else None
        if node is not None and node.operator == "Mul":
            value, gamma = self._with_constant(node)
            node = self._made_by.get(value) if gamma is not None else None
        if node is None or node.operator != "Div":
            return None
        centred, spread = self._made_by.get(node.inputs[0]), self._spread(node.inputs[1])
        if centred is None or spread is None or centred.operator != "Sub" or centred.inputs[1] != spread[0]:
            return None
        return (
            _Parts(centred.inputs[0], spread[1], gamma, beta) if self._is_mean(spread[0], centred.inputs[0]) else None
        )

    def _with_constant(self, node: Node) -> tuple[str, np.ndarray | None]:
        return next(
            (
                (one, self._per_place(other))
                for one, other in self._both(node, node.operator)
                if self._per_place(other) is not None
            ),
            ("", None),
        )

    def _is_mean(self, mean: str, x: str) -> bool:
        made = self._made_by.get(mean)
        return self._over_last(made) and made.inputs[0] == x

    def _over_last(self, node: Node | None) -> bool:
        """Whether a node is a mean over the last axis, which stays with size 1."""
        if node is None or node.operator != "ReduceMean" or not attribute(node, "keepdims"):
            return False
        rank = self._types[node.inputs[0]].rank
        return [axis % rank for axis in attribute(node, "axes") or range(rank)] == [rank - 1]

    def _per_place(self, name: str) -> np.ndarray | None:
        """A constant with a number for each place of the last axis, or one number."""
        array = self._constants.get(name)
        return (
            array
            if array is not None and array.dtype == np.float32 and array.size == (array.shape[-1] if array.ndim else 1)
            else None
        )

    @staticmethod
    def _both(node: Node | None, operator: str) -> Iterator[tuple[str, str]]:
        """The two operands of an operation, either first; nothing for any other node."""
        if node is not None and node.operator == operator and len(node.inputs) == 2:
            yield node.inputs[0], node.inputs[1]
            yield node.inputs[1], node.inputs[0]
