"""Takes out what no output needs."""

from __future__ import annotations

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node


def remove_dead(graph: Graph) -> Graph:
    """Keeps the nodes on a way to an output, and the constants that they read."""
    needed = set(graph.outputs)
    kept: list[Node] = []
    for node in reversed(graph.nodes):
        if needed.intersection(node.outputs):
            needed.update(node.inputs)
            kept.append(node)
    return rebuilt(graph, reversed(kept), dict(graph.constants), graph.outputs)
