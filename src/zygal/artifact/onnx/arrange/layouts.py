"""Where the channels of each value of a graph lie, as far as its operators tell."""

from __future__ import annotations

from collections.abc import Iterator
from math import prod

import numpy as np

from zygal.artifact.onnx.arrange.permuting import turns_freely
from zygal.graph import Graph, Node
from zygal.graph.passes.rules import attribute
from zygal.graph.shapes import Batch, Shape

FIRST, LAST = 0, 1
"""Behind the batch, or as the last axis."""
_IMAGES = frozenset(
    (
        "Conv",
        "ConvTranspose",
        "MaxPool",
        "AveragePool",
        "GlobalAveragePool",
        "BatchNormalization",
        "InstanceNormalization",
        "DepthToSpace",
        "SpaceToDepth",
        "Resize",
        "GridSample",
    )
)
"""The operators whose first input and result have their channels behind the batch."""


def to_last(rank: int) -> tuple[int, ...]:
    """The permutation that moves axis 1 to the end."""
    return (0, *range(2, rank), 1)


def to_first(rank: int) -> tuple[int, ...]:
    """The permutation that moves the last axis to place 1."""
    return (0, rank - 1, *range(1, rank - 1))


def is_product(node: Node, graph: Graph) -> bool:
    """A product with one matrix for all rows."""
    if node.operator != "MatMul" or node.inputs[1] not in graph.constants or node.inputs[0] in graph.constants:
        return False
    return (
        graph.types[node.inputs[1]].rank == 2
        and graph.types[node.inputs[0]].rank > 2
        and graph.types[node.inputs[0]].dtype == np.float32
    )


def is_normalization(node: Node, graph: Graph) -> bool:
    """Over the last axis alone, by constants."""
    return (
        node.operator == "LayerNormalization"
        and attribute(node, "axis") in (-1, graph.types[node.inputs[0]].rank - 1)
        and all(not name or name in graph.constants for name in node.inputs[1:])
        and graph.types[node.inputs[0]].rank > 2
        and graph.types[node.inputs[0]].dtype == np.float32
    )


def layouts_of(graph: Graph) -> dict[str, int]:
    """Where the channels of each value lie, as far as some operator tells it and none contradicts."""
    layouts: dict[str, int] = {}
    for name, label in (pair for node in graph.nodes for pair in _told(node, graph)):
        layouts.setdefault(name, label)
    grown = -1
    while grown != len(layouts):
        grown = len(layouts)
        for nodes in (graph.nodes, graph.nodes[::-1]):
            for node in nodes:
                _spread(node, graph, layouts)
    return layouts


def _told(node: Node, graph: Graph) -> Iterator[tuple[str, int]]:
    """What an operator itself says of what it reads and makes."""
    given, made = (node.inputs or ("",))[0], node.outputs[0]
    if not given or given in graph.constants or not _is_image(graph.types[given].shape):
        return
    rank = graph.types[given].rank
    if node.operator in _IMAGES:
        yield given, FIRST
        if _is_image(graph.types[made].shape):
            yield made, FIRST
    elif is_product(node, graph) or is_normalization(node, graph):
        yield given, LAST
        yield made, LAST
    elif (
        node.operator == "Transpose" and rank > 3 and tuple(attribute(node, "perm")) in (to_last(rank), to_first(rank))
    ):
        towards = LAST if tuple(attribute(node, "perm")) == to_last(rank) else FIRST
        yield given, 1 - towards
        yield made, towards


def _spread(node: Node, graph: Graph, layouts: dict[str, int]) -> None:
    """Carries what is known of one side of a node to the other."""
    made = node.outputs[0]
    rank = graph.types[made].rank
    if not _is_image(graph.types[made].shape) or not any(node.inputs):
        return
    moving = [name for name in node.inputs if name and name not in graph.constants and graph.types[name].rank > 0]
    if not all(_is_image(graph.types[name].shape) for name in moving):
        return
    if node.operator in ("Transpose", "Reshape"):
        for known, other, back in (
            (moving[0] if moving else "", made, False),
            (made, moving[0] if moving else "", True),
        ):
            if known in layouts and other and other not in layouts:
                label = carried(node, graph, layouts[known], back)
                if label is not None:
                    layouts[other] = label
    elif turns_freely(node, graph) and all(graph.types[name].rank == rank for name in moving):
        known = {layouts[name] for name in (*moving, made) if name in layouts}
        if len(known) == 1:
            (label,) = known
            for name in (*moving, made):
                layouts.setdefault(name, label)


def carried(node: Node, graph: Graph, label: int, back: bool) -> int | None:
    """Where the channels lie on the other side of a transpose or a reshape; None if that cannot be said."""
    before, after = graph.types[node.inputs[0]].shape, graph.types[node.outputs[0]].shape
    if node.operator == "Reshape":
        if len(before) < 3 or len(after) < 3 or before[0] != after[0]:
            return None
        channel = 1 if label == FIRST else -1
        return label if before[channel] == after[channel] else None
    order = list(attribute(node, "perm"))
    channel = 1 if label == FIRST else len(order) - 1
    if order[0] != 0:
        return None
    return {1: FIRST, len(order) - 1: LAST}.get(order[channel] if back else order.index(channel))


def _is_image(shape: Shape) -> bool:
    """Whether a tensor can be images with channels: at least three axes, the batch, if it is one of them, in front."""
    return len(shape) > 2 and not any(isinstance(size, Batch) for size in shape[1:])


def sides_of(graph: Graph, layouts: dict[str, int]) -> dict[int, tuple[int, int]]:
    """For a number of places, height and width of the image that they are, where some reshape says it."""
    found: dict[int, tuple[int, int]] = {}
    for node in graph.nodes:
        if node.operator != "Reshape" or node.inputs[0] not in layouts or node.outputs[0] not in layouts:
            continue
        pair = [places_of(graph.types[name].shape, layouts[name]) for name in (node.inputs[0], node.outputs[0])]
        for one, other in (pair, pair[::-1]):
            if len(one) == 1 and len(other) == 2 and prod(other) == one[0]:
                found.setdefault(one[0], other)
    return found


def places_of(shape: Shape, label: int) -> Shape:
    """The sizes of the places, without batch and channels."""
    return shape[2:] if label == FIRST else shape[1:-1]
