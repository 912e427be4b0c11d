"""Where the channels lie: behind the batch (0, as convolutions need them) or last (1, as normalisations and products by rows do)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from math import prod

import numpy as np

from zygal.artifact.onnx.arrange.costs import AXIS_MOVED, IMAGES, STARTED, elements, transpose_cost
from zygal.artifact.onnx.arrange.orders import Arranger, Family, stays_ordered
from zygal.artifact.onnx.arrange.permuting import is_elementwise, turns_freely
from zygal.graph import Graph, Node
from zygal.graph.passes.rules import attribute
from zygal.graph.shapes import Batch, Shape, at_batch

FIRST, LAST = 0, 1
_IMAGES = frozenset((
    "Conv", "ConvTranspose", "MaxPool", "AveragePool", "GlobalAveragePool", "BatchNormalization", "InstanceNormalization", "DepthToSpace",
    "SpaceToDepth", "Resize", "GridSample",
))  # fmt: skip
"""The operators whose first input and result have their channels behind the batch."""


class Channels(Family):
    def __init__(self, graph: Graph):
        super().__init__(graph)
        self.homes = _homes(graph)
        self._sides = _sides(graph, self.homes)

    def order(self, rank: int, towards: int) -> tuple[int, ...]:
        return _to_last(rank) if towards == LAST else _to_first(rank)

    def flexible(self, node: Node) -> bool:
        moving = [name for name in node.inputs if name and name not in self.graph.constants and self.graph.types[name].rank > 0]
        if not moving or any(name not in self.homes for name in moving) or len({self.homes[name] for name in moving}) > 1:
            return False
        home, made = self.homes[moving[0]], node.outputs[0]
        if made in self.homes and self.homes[made] != home:
            return False
        if node.operator == "Reshape":
            return made in self.homes and _carried(node, self.graph, home, False) == home
        if made not in self.homes and (is_elementwise(node) or not stays_ordered(node, self)):
            return False
        if _is_product(node, self.graph) or _is_normalization(node, self.graph):
            return home == LAST
        return home == FIRST if _is_pointwise(node, self.graph) else turns_freely(node, self.graph)

    def costs(self, node: Node) -> tuple[int, int]:
        if _is_normalization(node, self.graph):
            return 6 * STARTED, 0
        if node.operator == "Softmax":
            # The runtime turns what is not along the last axis.
            rank, home = self.graph.types[node.outputs[0]].rank, self.homes[node.inputs[0]]
            axis, twice = attribute(node, "axis") % rank, 2 * AXIS_MOVED * elements(self.graph, node.outputs[0])
            places = [axis, self.order(rank, 1 - home).index(axis)]
            costs = [twice if place != rank - 1 else 0 for place in places]
            return (costs[0], costs[1]) if home == FIRST else (costs[1], costs[0])
        return 0, 0

    def absorbs(self, node: Node) -> bool:
        if node.operator != "Transpose" or node.inputs[0] not in self.homes or node.outputs[0] not in self.homes:
            return False
        return _carried(node, self.graph, self.homes[node.inputs[0]], False) == self.homes[node.outputs[0]]

    def absorbed_costs(self, node: Node) -> tuple[tuple[int, int], int]:
        """Whole rows of channels are moved quickest, which takes that they lie last on both sides."""
        shape = [at_batch(self.graph.types[name].shape, IMAGES) for name in (node.inputs[0], node.outputs[0])]
        found = {}
        for given in (FIRST, LAST):
            for made in (FIRST, LAST):
                turn = _order_between(node, self, given, made)
                sizes = shape[0] if self.homes[node.inputs[0]] == given else [shape[0][axis] for axis in self.order(len(turn), given)]
                found[given, made] = transpose_cost(sizes, turn) * elements(self.graph, node.inputs[0])
        mixed = max(found[FIRST, LAST], found[LAST, FIRST])
        same = found[FIRST, FIRST], found[LAST, LAST]
        return same, max(mixed - min(same), 0)

    def emit(self, node: Node, label: int, arranger: Arranger) -> None:
        home = self.homes.get(node.inputs[0])
        if node.operator == "Transpose":
            _transposed(node, label, arranger)
        elif home is None or home == label:
            arranger.turn(node, label)
        elif _is_product(node, self.graph):
            _convolved(node, arranger, self._sides)
        elif _is_normalization(node, self.graph):
            _normalized(node, arranger)
        elif _is_pointwise(node, self.graph):
            _multiplied(node, arranger)
        elif node.operator == "Reshape":
            _reshaped(node, label, arranger)
        else:
            arranger.turn(node, label)


def _order_between(node: Node, family: Family, given: int, made: int) -> list[int]:
    """What a transpose is from its input in one order to its result in another."""
    perm = list(attribute(node, "perm"))
    rank, axes = len(perm), list(range(len(perm)))
    before = axes if family.homes[node.inputs[0]] == given else list(family.order(rank, given))
    after = axes if family.homes[node.outputs[0]] == made else list(family.order(rank, made))
    return [before.index(perm[axis]) for axis in after]


FEWEST = 16
"""Channels that the runtime's convolutions compute at once; for fewer they compute as many."""


def _to_last(rank: int) -> tuple[int, ...]:
    return (0, *range(2, rank), 1)


def _to_first(rank: int) -> tuple[int, ...]:
    return (0, rank - 1, *range(1, rank - 1))


def _is_product(node: Node, graph: Graph) -> bool:
    """A product with one matrix for all rows."""
    if node.operator != "MatMul" or node.inputs[1] not in graph.constants or node.inputs[0] in graph.constants:
        return False
    return graph.types[node.inputs[1]].rank == 2 and graph.types[node.inputs[0]].rank > 2 and graph.types[node.inputs[0]].dtype == np.float32


def _is_normalization(node: Node, graph: Graph) -> bool:
    """Over the last axis alone, by constants."""
    return (
        node.operator == "LayerNormalization"
        and attribute(node, "axis") in (-1, graph.types[node.inputs[0]].rank - 1)
        and all(not name or name in graph.constants for name in node.inputs[1:])
        and graph.types[node.inputs[0]].rank > 2
        and graph.types[node.inputs[0]].dtype == np.float32
    )


def _is_pointwise(node: Node, graph: Graph) -> bool:
    """A convolution of 1 x 1 that reads every place, with constant weights."""
    if node.operator != "Conv" or any(name and name not in graph.constants for name in node.inputs[1:]) or node.inputs[0] in graph.constants:
        return False
    kernel = graph.types[node.inputs[1]].shape[2:]
    plain = not any(attribute(node, "pads") or ()) and set(attribute(node, "strides") or (1,)) == {1} and attribute(node, "group") == 1
    return set(kernel) == {1} and plain and graph.types[node.inputs[0]].dtype == np.float32


def _homes(graph: Graph) -> dict[str, int]:
    """Where the channels of each value lie, as far as some operator tells it and none contradicts."""
    homes: dict[str, int] = {}
    for name, label in (pair for node in graph.nodes for pair in _told(node, graph)):
        homes.setdefault(name, label)
    grown = -1
    while grown != len(homes):
        grown = len(homes)
        for nodes in (graph.nodes, graph.nodes[::-1]):
            for node in nodes:
                _spread(node, graph, homes)
    return homes


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
    elif _is_product(node, graph) or _is_normalization(node, graph):
        yield given, LAST
        yield made, LAST
    elif node.operator == "Transpose" and rank > 3 and tuple(attribute(node, "perm")) in (_to_last(rank), _to_first(rank)):
        towards = LAST if tuple(attribute(node, "perm")) == _to_last(rank) else FIRST
        yield given, 1 - towards
        yield made, towards


def _spread(node: Node, graph: Graph, homes: dict[str, int]) -> None:
    """Carries what is known of one side of a node to the other."""
    made = node.outputs[0]
    rank = graph.types[made].rank
    if not _is_image(graph.types[made].shape) or not any(node.inputs):
        return
    moving = [name for name in node.inputs if name and name not in graph.constants and graph.types[name].rank > 0]
    if not all(_is_image(graph.types[name].shape) for name in moving):
        return
    if node.operator in ("Transpose", "Reshape"):
        for known, other, back in ((moving[0] if moving else "", made, False), (made, moving[0] if moving else "", True)):
            if known in homes and other and other not in homes:
                label = _carried(node, graph, homes[known], back)
                if label is not None:
                    homes[other] = label
    elif turns_freely(node, graph) and all(graph.types[name].rank == rank for name in moving):
        known = {homes[name] for name in (*moving, made) if name in homes}
        if len(known) == 1:
            (label,) = known
            for name in (*moving, made):
                homes.setdefault(name, label)


def _carried(node: Node, graph: Graph, label: int, back: bool) -> int | None:
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


def _sides(graph: Graph, homes: dict[str, int]) -> dict[int, tuple[int, int]]:
    """For a number of places, height and width of the image that they are, where some reshape says it."""
    found: dict[int, tuple[int, int]] = {}
    for node in graph.nodes:
        if node.operator != "Reshape" or node.inputs[0] not in homes or node.outputs[0] not in homes:
            continue
        pair = [_places(graph.types[name].shape, homes[name]) for name in (node.inputs[0], node.outputs[0])]
        for one, other in (pair, pair[::-1]):
            if len(one) == 1 and len(other) == 2 and prod(other) == one[0]:
                found.setdefault(one[0], other)
    return found


def _places(shape: Shape, label: int) -> Shape:
    return shape[2:] if label == FIRST else shape[1:-1]


def _convolved(node: Node, arranger: Arranger, sides: dict[int, tuple[int, int]]) -> None:
    """A product by rows as a convolution of 1 x 1, or to a few channels as a product with the matrix on the left."""
    given, shape = arranger.fetch(node.inputs[0], FIRST), arranger.graph.types[node.inputs[0]].shape
    matrix = arranger.graph.constants[node.inputs[1]]
    inputs, outputs = matrix.shape
    places = shape[1:-1]
    if outputs < FEWEST:
        left = arranger.builder.constant(f"{node.inputs[1]}.left", np.ascontiguousarray(matrix.T))
        flat = arranger.step(node, "Reshape", given, shape=[0, inputs, -1])
        made = arranger.step(node, "Reshape", arranger.step(node, "MatMul", left, flat), shape=[0, outputs, *places])
        arranger.store(node.outputs[0], made, FIRST)
        return
    weight = arranger.builder.constant(f"{node.inputs[1]}.kernels", np.ascontiguousarray(matrix.T).reshape(outputs, inputs, 1, 1))
    if len(shape) == 4:
        made = arranger.step(node, "Conv", given, weight)
    else:
        # Zeros keep the batch, which may be any number of images.
        flat = sides.get(places[0], (1, places[0])) if len(places) == 1 else (places[0], prod(places[1:]))
        image = arranger.step(node, "Reshape", given, shape=[0, 0, *flat])
        made = arranger.step(node, "Reshape", arranger.step(node, "Conv", image, weight), shape=[0, 0, *places])
    arranger.store(node.outputs[0], made, FIRST)


def _normalized(node: Node, arranger: Arranger) -> None:
    """A normalisation over the channels where they are axis 1: (x - m) / sqrt(mean((x - m)^2) + epsilon) gamma + beta."""
    x, rank = arranger.fetch(node.inputs[0], FIRST), arranger.graph.types[node.inputs[0]].rank
    gamma, *beta = (arranger.graph.constants[name] for name in node.inputs[1:] if name)
    count = len(gamma)
    centred = arranger.step(node, "Sub", x, arranger.step(node, "ReduceMean", x, axes=[1], keepdims=1))
    variance = arranger.step(node, "ReduceMean", arranger.step(node, "Mul", centred, centred), axes=[1], keepdims=1)
    small = arranger.builder.constant(f"{node.outputs[0]}.epsilon", np.array(attribute(node, "epsilon"), np.float32))
    made = arranger.step(node, "Div", centred, arranger.step(node, "Sqrt", arranger.step(node, "Add", variance, small)))
    line = (gamma, *beta)
    shape = (1, count, *(1,) * (rank - 2))
    for operator, numbers, neutral in zip(("Mul", "Add"), line, (1, 0)):
        if np.any(numbers != neutral):
            constant = arranger.builder.constant(f"{node.outputs[0]}.{operator.lower()}", numbers.astype(np.float32).reshape(shape))
            made = arranger.step(node, operator, made, constant)
    arranger.store(node.outputs[0], made, FIRST)


def _multiplied(node: Node, arranger: Arranger) -> None:
    """A convolution of 1 x 1 as a product by rows."""
    given, weight = arranger.fetch(node.inputs[0], LAST), arranger.graph.constants[node.inputs[1]]
    matrix = arranger.builder.constant(f"{node.inputs[1]}.matrix", np.ascontiguousarray(weight.reshape(weight.shape[:2]).T))
    made = arranger.step(node, "MatMul", given, matrix)
    if len(node.inputs) > 2 and node.inputs[2]:
        made = arranger.step(node, "Add", made, node.inputs[2])
    arranger.store(node.outputs[0], made, LAST)


def _reshaped(node: Node, label: int, arranger: Arranger) -> None:
    """A reshape of the places alone, whose channels lie elsewhere."""
    given = arranger.fetch(node.inputs[0], label)
    places = _places(arranger.graph.types[node.outputs[0]].shape, 1 - label)
    channels = arranger.graph.types[node.outputs[0]].shape[1 if 1 - label == FIRST else -1]
    shape = [0, channels, *places] if label == FIRST else [0, *places, channels]
    arranger.store(node.outputs[0], arranger.add(replace(node, inputs=(given,), attributes={"shape": shape})), label)


def _transposed(node: Node, label: int, arranger: Arranger) -> None:
    """A transpose of the places, from the order in which its value is to the one that is asked for."""
    given, has = arranger.stored(node.inputs[0])
    order = _order_between(node, arranger.family, has, label)
    arranger.store(node.outputs[0], arranger.add(replace(node, inputs=(given,), attributes={"perm": order})), label)
