"""One spelling for operations whose operands may change places."""

from __future__ import annotations

from dataclasses import replace

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph

COMMUTATIVE = ("Add", "Mul")


def constants_second(graph: Graph) -> Graph:
    """c + x becomes x + c, so that rules need to look for one of them alone."""
    nodes = [
        replace(node, inputs=node.inputs[::-1])
        if node.operator in COMMUTATIVE and node.inputs[0] in graph.constants and node.inputs[1] not in graph.constants
        else node
        for node in graph.nodes
    ]
    return rebuilt(graph, nodes, dict(graph.constants), graph.outputs)
