"""Takes out the nodes that do nothing at inference."""

from __future__ import annotations

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node


def drop_identities(graph: Graph) -> Graph:
    """Readers of an Identity read its input instead."""
    same: dict[str, str] = {}
    kept: list[Node] = []
    for node in graph.nodes:
        node = node.reading(same)
        if node.operator == "Identity":
            same[node.outputs[0]] = node.inputs[0]
        else:
            kept.append(node)
    outputs = [same.get(name, name) for name in graph.outputs]
    return rebuilt(graph, kept, dict(graph.constants), outputs)
