"""Whether the batch comes first (0) or behind the tokens (1), where attention joins images and heads to one axis without a transpose."""

from __future__ import annotations

from zygal.artifact.onnx.arrange.orders import Family, stays_ordered
from zygal.artifact.onnx.arrange.permuting import turns_freely
from zygal.graph import Graph, Node
from zygal.graph.passes.rules import attribute
from zygal.graph.shapes import Batch


class Tokens(Family):
    def __init__(self, graph: Graph):
        super().__init__(graph)
        self.homes = {
            name: int(isinstance(type.shape[1], Batch))
            for name, type in graph.types.items()
            if type.rank == 3 and name not in graph.constants and any(isinstance(size, Batch) for size in type.shape[:2])
        }

    def order(self, rank: int, towards: int) -> tuple[int, ...]:
        return 1, 0, 2

    def flexible(self, node: Node) -> bool:
        moving = [name for name in node.inputs if name and name not in self.graph.constants and self.graph.types[name].rank > 0]
        if not moving or any(name not in self.homes for name in moving) or len({self.homes[name] for name in moving}) > 1:
            return False
        if node.outputs[0] in self.homes and self.homes[node.outputs[0]] != self.homes[moving[0]]:
            return False
        if self._by_rows(node):
            return True
        return turns_freely(node, self.graph) and (node.outputs[0] in self.homes or stays_ordered(node, self))

    def _by_rows(self, node: Node) -> bool:
        """Whether every row is worked on alone, by constants."""
        constant = all(not name or name in self.graph.constants for name in node.inputs[1:])
        if node.operator == "MatMul":
            return constant and self.graph.types[node.inputs[1]].rank == 2
        return node.operator == "LayerNormalization" and constant and attribute(node, "axis") in (-1, 2)

    def costs(self, node: Node) -> tuple[int, int]:
        return 0, 0
