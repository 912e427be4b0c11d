"""One operator on tensors whose axes are in another order: the operators that do not care, and how their parameters
change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.ops import operator_named
from zygal.graph.ops.arithmetic import Extreme
from zygal.graph.ops.base import Binary, Elementwise
from zygal.graph.passes.rules import attribute

_BY_ELEMENT = ("Cast", "Where", "PRelu")
_REDUCING = ("ReduceMean", "ReduceSum", "ReduceMax", "ReduceMin", "ReduceProd", "ReduceL1", "ReduceL2")
_ALONG = ("Softmax", "LogSoftmax", "Concat")


def is_elementwise(node: Node) -> bool:
    """Whether an operator works on each number alone, so that the order of axes does not matter."""
    return isinstance(operator_named(node.operator), (Elementwise, Binary, Extreme)) or node.operator in _BY_ELEMENT


def turns_freely(node: Node, graph: Graph) -> bool:
    """Whether the operator does the same on tensors with another order of axes, its parameters changed with it."""
    rank = graph.types[node.outputs[0]].rank
    moving = [name for name in node.inputs if name and name not in graph.constants]
    given = [graph.types[name] for name in moving]
    if not given or len(node.outputs) != 1:
        return False
    if is_elementwise(node):
        fits = all(each.rank in (0, rank) for each in given)
        return fits and all(graph.types[name].rank <= rank for name in node.inputs if name)
    if node.operator == "Concat":
        return len(moving) == len(node.inputs)
    return (
        node.operator in (*_ALONG, *_REDUCING, "Slice", "Pad")
        or node.operator == "Gather"
        and _picks_one_axis(node, graph)
    )


def _picks_one_axis(node: Node, graph: Graph) -> bool:
    return (
        node.inputs[1] in graph.constants
        and node.inputs[0] not in graph.constants
        and graph.types[node.inputs[1]].rank <= 1
    )


def removed_axes(node: Node, rank: int, graph: Graph) -> list[int]:
    """The axes of its input, of this rank, that its result does not have."""
    if node.operator in _REDUCING and not attribute(node, "keepdims"):
        return [axis % rank for axis in attribute(node, "axes") or range(rank)]
    if node.operator == "Gather" and graph.types[node.inputs[1]].rank == 0:
        return [attribute(node, "axis") % rank]
    return []


def keeps_order(order: Sequence[int], removed: Sequence[int]) -> bool:
    """Whether the axes that stay come in the same order after a permutation."""
    stay = [axis for axis in order if axis not in removed]
    return stay == sorted(stay)


def transposed(node: Node, order: Sequence[int], rank: int) -> Node:
    """The node, reading and making tensors whose axes are in `order` of what they were: the axis order[i] is now the
    i-th."""
    place = {axis: position for position, axis in enumerate(order)}

    def moved(axis: int) -> int:
        return place[axis % rank]

    changed: dict[str, Any] = {}
    if node.operator in _ALONG or node.operator == "Gather":
        changed["axis"] = moved(attribute(node, "axis"))
    elif node.operator in _REDUCING:
        changed["axes"] = sorted(moved(axis) for axis in attribute(node, "axes") or range(rank))
    elif node.operator == "Slice":
        changed["axes"] = [moved(axis) for axis in attribute(node, "axes") or range(len(attribute(node, "starts")))]
    elif node.operator == "Pad":
        pads = attribute(node, "pads")
        changed["pads"] = [pads[half + axis] for half in (0, rank) for axis in order]
    return replace(node, attributes={**node.attributes, **changed}) if changed else node


def turned_constant(array: np.ndarray, order: Sequence[int]) -> np.ndarray:
    """A constant that is broadcast against tensors of that many axes, for the new order."""
    if array.size == 1:
        return array if array.ndim == 0 else array.reshape(())
    own = range(len(order) - array.ndim, len(order))
    if [*order[own.start :]] == [*own]:
        return array
    wide = array.reshape((1,) * (len(order) - array.ndim) + array.shape)
    return np.ascontiguousarray(wide.transpose(order))
