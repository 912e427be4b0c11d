"""Computes beforehand what does not depend on the input."""

from __future__ import annotations

from zygal.graph.build import rebuilt
from zygal.graph.folding import Budget, folded
from zygal.graph.model import Graph, Node

KEPT = ("DequantizeLinear",)
"""What stays stored in few bits, or the artifact would be four times as large and the runtime could not compute with
it."""


def fold_constants(graph: Graph) -> Graph:
    """Replaces every node that reads constants alone by its results."""
    constants = dict(graph.constants)
    kept: list[Node] = []
    budget = Budget()
    for array in graph.constants.values():
        budget.grant(array)
    for node in graph.nodes:
        if node.operator in KEPT or not all(not name or name in constants for name in node.inputs):
            kept.append(node)
            continue
        given = [constants[name] if name else None for name in node.inputs]
        constants.update(zip(node.outputs, folded(node.operator, given, node.attributes, budget)))
    return rebuilt(graph, kept, constants, graph.outputs)
