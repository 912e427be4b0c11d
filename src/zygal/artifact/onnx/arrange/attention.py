"""Attention in the form in which the runtime joins most of it, where its queries, keys and values are linear in what it
reads.

The query, key and value get a product each, with the heads' columns in order and the scale in the weights. With the
tokens in front of the batch, images and heads are one axis without moving anything, [tokens, batch * heads, size], and
the runtime reads that as it lies for the products of attention. What is left are transposes of what is read and of the
result, a token's row at a time. Where the opset has an operator for the whole, that is taken instead.
"""

from __future__ import annotations

from dataclasses import replace
from math import prod

import numpy as np

from zygal.artifact.onnx.arrange.heads import Finder, Operand
from zygal.graph import Graph, Node
from zygal.graph.build import rebuilt
from zygal.graph.passes.dead import remove_dead

SWAPPED = [1, 0, 2]


def attention_by_heads(graph: Graph, as_one: bool = False) -> Graph:
    """Rewrites each product of attention whose operands are understood, if nothing else needs what they are made of.

    as_one: there is an operator for all of it, which takes the place of both products and the softmax between them.
    """
    finder = Finder(graph)
    found = finder.products()
    if not found:
        return graph
    writer = _Writer(graph, finder)
    for node in graph.nodes:
        name = node.outputs[0]
        whole = finder.whole(node, found) if as_one and name in found else None
        if whole is not None:
            writer.attention(node, *whole)
        elif name in found:
            writer.product(node, *found[name])
        elif node.inputs and node.inputs[0] in writer.scaled:
            # Its number is in the query's weights now.
            writer.nodes.append(replace(node, operator="Identity", inputs=node.inputs[:1], attributes={}))
        else:
            writer.nodes.append(node)
    return remove_dead(rebuilt(graph, writer.nodes, writer.constants, graph.outputs))


class _Writer:
    def __init__(self, graph: Graph, finder: Finder):
        self._graph, self._finder = graph, finder
        self._swapped: dict[str, str] = {}
        self._flattened: dict[str, str] = {}
        self.scaled: set[str] = set()
        self.nodes: list[Node] = []
        self.constants = dict(graph.constants)

    def product(self, node: Node, left: Operand | None, right: Operand) -> None:
        """Adds what makes the same as `node`."""
        shape, made = self._graph.types[node.outputs[0]].shape, node.outputs[0]
        if left is not None:
            scale = self._finder.scale_behind(made)
            if scale is not None:
                self.scaled.add(made)
                left = replace(left, factor=left.factor * scale)
            query, key = self._operand(node, left, "query", SWAPPED), self._operand(node, right, "key", [1, 2, 0])
            if len(shape) == 3:
                self._step(node, "MatMul", made, query, key)
            else:
                scores = self._step(node, "MatMul", f"{made}.scores", query, key)
                self._step(node, "Reshape", made, scores, shape=[-1, *shape[1:]])
            return
        weights, value = node.inputs[0], self._operand(node, right, "value", SWAPPED)
        if len(shape) == 4:
            weights = self._step(
                node, "Reshape", f"{made}.weights", weights, shape=[-1, *self._graph.types[weights].shape[2:]]
            )
        tokens, (heads, size) = shape[-2], right.columns.shape
        attended = self._step(node, "MatMul", f"{made}.attended", weights, value)
        attended = self._step(node, "Transpose", f"{made}.tokens", attended, perm=SWAPPED)
        attended = self._step(node, "Reshape", f"{made}.joined", attended, shape=[tokens, -1, heads * size])
        self._as_before(
            node, self._step(node, "Transpose", f"{made}.rows", attended, perm=SWAPPED), tokens, heads, size
        )

    def attention(self, node: Node, query: Operand, key: Operand, value: Operand, addend: str) -> None:
        """Adds the operator for all of it in the place of its last product."""
        shape, made = self._graph.types[node.outputs[0]].shape, node.outputs[0]
        given = [
            self._rows(node, operand, role, self._flat(node, operand.linear.x))
            for operand, role in ((query, "query"), (key, "key"), (value, "value"))
        ]
        if addend:
            self.constants[f"{made}.addend"] = np.broadcast_to(
                self.constants[addend], (1, *self._graph.types[node.inputs[0]].shape[1:])
            ).copy()
            given.append(f"{made}.addend")
        tokens, (heads, size) = shape[-2], value.columns.shape
        attributes = {"q_num_heads": heads, "kv_num_heads": heads, "scale": 1.0}
        self._as_before(node, self._step(node, "Attention", f"{made}.rows", *given, **attributes), tokens, heads, size)

    def _as_before(self, node: Node, rows: str, tokens: int, heads: int, size: int) -> None:
        """From rows on as it was: what takes the heads together behind it undoes this."""
        made = node.outputs[0]
        split = self._step(node, "Reshape", f"{made}.split", rows, shape=[0, tokens, heads, size])
        if self._graph.types[made].rank == 4:
            self._step(node, "Transpose", made, split, perm=[0, 2, 1, 3])
        else:
            transposed = self._step(node, "Transpose", f"{made}.turned", split, perm=[0, 2, 1, 3])
            self._step(node, "Reshape", made, transposed, shape=[-1, tokens, size])

    def _operand(self, node: Node, operand: Operand, role: str, order: list[int]) -> str:
        name = f"{node.outputs[0]}.{role}"
        rows = self._rows(node, operand, role, self._tokens_first(node, operand.linear.x))
        split = self._step(node, "Reshape", f"{name}.split", rows, shape=[operand.tokens, -1, operand.columns.shape[1]])
        return self._step(node, "Transpose", name, split, perm=order)

    def _rows(self, node: Node, operand: Operand, role: str, x: str) -> str:
        """The product that makes an operand, its heads' columns in order and its factor in the weights."""
        linear, name = operand.linear, f"{node.outputs[0]}.{role}"
        chosen, factor = operand.columns.reshape(-1), np.float32(operand.factor)
        self.constants[f"{name}.weight"] = linear.matrix[:, chosen] * factor
        rows = self._step(node, "MatMul", f"{name}.product", x, f"{name}.weight")
        if linear.bias is None:
            return rows
        self.constants[f"{name}.bias"] = linear.bias[chosen] * factor
        return self._step(node, "Add", f"{name}.added", rows, f"{name}.bias")

    def _flat(self, node: Node, x: str) -> str:
        """x as [batch, tokens, inputs]."""
        shape = self._graph.types[x].shape
        if len(shape) > 3 and x not in self._flattened:
            self._flattened[x] = self._step(node, "Reshape", f"{x}.flat", x, shape=[0, prod(shape[1:-1]), shape[-1]])
        return self._flattened.get(x, x)

    def _tokens_first(self, node: Node, x: str) -> str:
        """x as [tokens, batch, inputs]."""
        if x not in self._swapped:
            self._swapped[x] = self._step(node, "Transpose", f"{x}.swapped", self._flat(node, x), perm=SWAPPED)
        return self._swapped[x]

    def _step(self, of: Node, operator: str, made: str, *inputs: str, **attributes) -> str:
        self.nodes.append(Node(operator, inputs, (made,), attributes, of.layer))
        return made
