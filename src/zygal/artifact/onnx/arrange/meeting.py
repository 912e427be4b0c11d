"""Transposes and reshapes that meet become one, or nothing."""

from __future__ import annotations

from dataclasses import replace

from zygal.artifact.onnx.arrange.costs import IMAGES, IN_TWO_STEPS, transpose_cost
from zygal.graph import Graph, Node
from zygal.graph.build import rebuilt
from zygal.graph.ops import operator_named
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.identities import drop_identities
from zygal.graph.passes.rewrites import reshapes_to_one, transposes_to_one
from zygal.graph.passes.rules import Rule, apply_rules, attribute
from zygal.graph.shapes import Batch, Shape, at_batch

_LARGE_PRIME = 10_007
"""A batch that is no product of other sizes, so that it is told from them."""
_RULES = (
    Rule(("Transpose", "Transpose"), transposes_to_one),
    Rule(("Reshape", "Reshape"), reshapes_to_one),
    Rule(("Flatten", "Reshape"), reshapes_to_one),
)


def softmax_along_last(graph: Graph) -> Graph:
    """The runtime turns what is not along the last axis, and back; said here, one of the two often meets another."""
    nodes: list[Node] = []
    for node in graph.nodes:
        rank = graph.types[node.outputs[0]].rank
        axis = attribute(node, "axis") % rank if node.operator == "Softmax" else rank - 1
        if axis == rank - 1:
            nodes.append(node)
            continue
        order = [*range(axis), *range(axis + 1, rank), axis]
        back = [order.index(each) for each in range(rank)]
        name = node.outputs[0]
        nodes += [
            Node("Transpose", node.inputs, (f"{name}.last",), {"perm": order}, node.layer),
            replace(node, inputs=(f"{name}.last",), outputs=(f"{name}.shares",), attributes={"axis": -1}),
            Node("Transpose", (f"{name}.shares",), node.outputs, {"perm": back}, node.layer),
        ]
    return rebuilt(graph, nodes, dict(graph.constants), graph.outputs) if len(nodes) > len(graph.nodes) else graph


def orders_meet(graph: Graph) -> Graph:
    """Joins what meets, also through reshapes that only take axes together or apart, until nothing does any more."""
    while True:
        before = len(graph.nodes)
        graph = drop_identities(_without_same_shape(apply_rules(graph, _RULES)))
        graph = remove_dead(_through_reshapes(graph))
        if len(graph.nodes) == before:
            return graph


def _without_same_shape(graph: Graph) -> Graph:
    """Reshapes and transposes that change nothing, also those of which one undoes the other around a softmax."""
    graph = _softmax_inside(graph)
    nodes = [
        replace(node, operator="Identity", attributes={}) if _is_nothing(node, graph) else node for node in graph.nodes
    ]
    return rebuilt(graph, nodes, dict(graph.constants), graph.outputs)


def _softmax_inside(graph: Graph) -> Graph:
    """Reshape, softmax along the last axis, reshape back: the softmax alone."""
    made_by, uses = graph.producers(), graph.uses()
    changed: dict[str, Node] = {}
    for last in graph.nodes:
        softmax = made_by.get(last.inputs[0]) if last.operator == "Reshape" else None
        first = (
            made_by.get(softmax.inputs[0])
            if softmax is not None and softmax.operator == "Softmax" and uses[last.inputs[0]] == 1
            else None
        )
        if first is None or first.operator != "Reshape" or graph.types[first.inputs[0]] != graph.types[last.outputs[0]]:
            continue
        shapes = [graph.types[name].shape for name in (first.inputs[0], first.outputs[0])]
        if attribute(softmax, "axis") in (-1, len(shapes[1]) - 1) and shapes[0][-1] == shapes[1][-1]:
            changed[last.outputs[0]] = replace(
                softmax, inputs=first.inputs, outputs=last.outputs, attributes={"axis": -1}
            )
    nodes = [changed.get(node.outputs[0], node) for node in graph.nodes]
    return remove_dead(rebuilt(graph, nodes, dict(graph.constants), graph.outputs)) if changed else graph


def _is_nothing(node: Node, graph: Graph) -> bool:
    if node.operator == "Transpose":
        return list(attribute(node, "perm") or [-1]) == sorted(attribute(node, "perm") or [0])
    return node.operator == "Reshape" and graph.types[node.inputs[0]] == graph.types[node.outputs[0]]


def _through_reshapes(graph: Graph) -> Graph:
    """Transpose, reshape, transpose: one transpose less, where the reshape joins neighbouring axes or splits them."""
    made_by, uses = graph.producers(), graph.uses()
    added: dict[str, list[Node]] = {}
    gone: set[str] = set()
    for second in graph.nodes:
        reshape = made_by.get(second.inputs[0]) if second.operator == "Transpose" else None
        first = (
            made_by.get(reshape.inputs[0])
            if reshape is not None and reshape.operator in ("Reshape", "Flatten")
            else None
        )
        if first is None or first.operator != "Transpose" or uses[second.inputs[0]] > 1 or uses[reshape.inputs[0]] > 1:
            continue
        if {first.outputs[0], reshape.outputs[0], second.outputs[0]} & gone:
            continue
        joined = _joined(first, second, graph)
        if joined is not None:
            added[second.outputs[0]] = joined
            gone.update(node.outputs[0] for node in (first, reshape, second))
    nodes = [
        each for node in graph.nodes for each in added.get(node.outputs[0], [] if node.outputs[0] in gone else [node])
    ]
    return rebuilt(graph, nodes, dict(graph.constants), graph.outputs) if added else graph


def _joined(first: Node, second: Node, graph: Graph) -> list[Node] | None:
    """The two nodes that do the same as a transpose, what lies between, and another transpose."""
    ahead, behind = list(attribute(first, "perm")), list(attribute(second, "perm"))
    start, middle, end = (graph.types[name].shape for name in (first.inputs[0], first.outputs[0], second.inputs[0]))
    made, between = second.outputs[0], f"{second.outputs[0]}.ahead"
    groups = _groups(middle, end)
    if groups is not None:
        order = [ahead[axis] for place in behind for axis in groups[place]]
        shape = _target(graph.types[made].shape)
        steps = (("Transpose", {"perm": order}), ("Reshape", {"shape": shape}))
    else:
        groups = _groups(end, middle)
        if groups is None:
            return None
        # Axes of the end in the order in which the start has them.
        split = [axis for place in range(len(start)) for axis in groups[ahead.index(place)]]
        order = [split.index(axis) for axis in behind]
        steps = (("Reshape", {"shape": _target(tuple(end[axis] for axis in split))}), ("Transpose", {"perm": order}))
    (operator, attributes), (last, others) = steps
    if _slower(first, second, graph, (operator, attributes, last, others)):
        return None
    return [
        Node(operator, first.inputs, (between,), attributes, second.layer),
        Node(last, (between,), (made,), others, second.layer),
    ]


def _slower(first: Node, second: Node, graph: Graph, steps) -> bool:
    """Whether one transpose takes longer than the two."""
    pairs = [(graph.types[node.inputs[0]].shape, attribute(node, "perm")) for node in (first, second)]
    apart = sum(transpose_cost(at_batch(shape, IMAGES), order) for shape, order in pairs)
    operator, attributes, _, others = steps
    start = graph.types[first.inputs[0]]
    if operator == "Transpose":
        return transpose_cost(at_batch(start.shape, IMAGES), attributes["perm"]) > apart
    split = operator_named("Reshape").infer([start], attributes)[0].shape
    return transpose_cost(at_batch(split, IMAGES), others["perm"]) > apart


def slow_transposes_split(graph: Graph) -> Graph:
    """A transpose that moves the last axis and others: first the one, then the others, which the runtime copies in
    blocks.

    A reshape that adds an axis of size 1 stands between them, because the runtime would join them again.
    """
    nodes: list[Node] = []
    for node in graph.nodes:
        sizes = at_batch(graph.types[node.inputs[0]].shape, IMAGES) if node.operator == "Transpose" else ()
        axes, made = range(len(sizes)), node.outputs[0]
        order = list(attribute(node, "perm") or axes[::-1]) if sizes else []
        if transpose_cost(sizes, order) < IN_TWO_STEPS or sizes[-1] == 1:
            nodes.append(node)
            continue
        if sizes[order[-1]] >= sizes[-1]:
            first = [axis for axis in axes if axis != order[-1]] + [order[-1]]
        else:
            first = [axis for axis in order if axis != axes[-1]] + [axes[-1]]
        between = _target(tuple(graph.types[node.inputs[0]].shape[axis] for axis in first))
        nodes += [
            Node("Transpose", node.inputs, (f"{made}.first",), {"perm": first}, node.layer),
            Node("Reshape", (f"{made}.first",), (f"{made}.apart",), {"shape": [*between, 1]}, node.layer),
            Node(
                "Transpose",
                (f"{made}.apart",),
                (f"{made}.then",),
                {"perm": [*(first.index(axis) for axis in order), len(order)]},
                node.layer,
            ),
            Node("Reshape", (f"{made}.then",), (made,), {"shape": _target(graph.types[made].shape)}, node.layer),
        ]
    return rebuilt(graph, nodes, dict(graph.constants), graph.outputs) if len(nodes) > len(graph.nodes) else graph


def _target(shape: Shape) -> list[int]:
    return [-1 if isinstance(size, Batch) else size for size in shape]


def _groups(fine: Shape, coarse: Shape) -> list[list[int]] | None:
    """For each axis of `coarse` the axes of `fine` that it consists of, in order; None if it is not so."""
    try:
        parts, wholes = at_batch(fine, _LARGE_PRIME), at_batch(coarse, _LARGE_PRIME)
        found, place = [], 0
        for whole in wholes:
            group, product = [], 1
            while place < len(parts) and (product < whole or parts[place] == 1 and product == whole):
                product *= parts[place]
                group.append(place)
                place += 1
            if product != whole:
                return None
            found.append(group)
    except TypeError:
        return None
    return found if place == len(parts) and all(found) else None
