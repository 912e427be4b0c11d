"""GELU, which training code writes out with the error function, as the one operator that the format has."""

from __future__ import annotations

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.build import rebuilt
from zygal.graph.passes.dead import remove_dead


def join_gelu(graph: Graph) -> Graph:
    """Replaces x / 2 * (1 + erf(x / sqrt(2))), with its factors in any order."""
    made_by, readers, constants = graph.producers(), graph.readers(), graph.constants
    replaced: dict[str, Node] = {}
    for node in graph.nodes:
        if node.operator == "Erf":
            found = _around(node, made_by, readers, constants)
            if found is not None:
                end, x = found
                replaced[end.outputs[0]] = Node("Gelu", (x,), end.outputs, {}, end.layer)
    if not replaced:
        return graph
    nodes = [replaced.get(node.outputs[0], node) for node in graph.nodes]
    return remove_dead(rebuilt(graph, nodes, dict(constants), graph.outputs))


def _number(constants, name: str) -> float | None:
    array = constants.get(name)
    return float(array.reshape(-1)[0]) if array is not None and array.size == 1 and array.dtype == np.float32 else None


def _is(value: float | None, wanted: float) -> bool:
    return value is not None and abs(value - wanted) <= 1e-6 * abs(wanted)


def _around(erf: Node, made_by, readers, constants) -> tuple[Node, str] | None:
    """The last operator of the GELU that an error function belongs to, and what it is taken of."""
    scaled = made_by.get(erf.inputs[0])
    if scaled is None or scaled.operator not in ("Mul", "Div"):
        return None
    if not _is(_number(constants, scaled.inputs[1]), 0.5**0.5 if scaled.operator == "Mul" else 2**0.5):
        return None
    x, value, halved = scaled.inputs[0], erf.outputs[0], False
    plus = _only(readers, value)
    if plus is None or plus.operator != "Add" or not any(_is(_number(constants, each), 1.0) for each in plus.inputs):
        return None
    value, taken = plus.outputs[0], False
    for _ in range(2):
        node = _only(readers, value)
        if node is None or node.operator not in ("Mul", "Div"):
            return None
        other = next((each for each in node.inputs if each != value), value)
        half = made_by.get(other)
        if node.operator == "Mul" and other == x and not taken:
            taken = True
        elif node.operator == "Mul" and half is not None and not taken and not halved and _is_half(half, x, constants):
            taken = halved = True
        elif (
            not halved
            and node.inputs[0] == value
            and _is(_number(constants, other), 0.5 if node.operator == "Mul" else 2.0)
        ):
            halved = True
        else:
            return None
        value = node.outputs[0]
        if taken and halved:
            return node, x
    return None


def _is_half(node: Node, x: str, constants) -> bool:
    wanted = {"Mul": 0.5, "Div": 2.0}.get(node.operator)
    return wanted is not None and node.inputs[0] == x and _is(_number(constants, node.inputs[1]), wanted)


def _only(readers, name: str) -> Node | None:
    found = readers.get(name, [])
    return found[0] if len(found) == 1 else None
