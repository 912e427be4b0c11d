"""Where the channels lie: behind the batch (0, as convolutions need them) or last (1, as normalisations and products by
rows do)."""

from __future__ import annotations

from dataclasses import replace
from math import prod

import numpy as np

from zygal.artifact.onnx.arrange.costs import AXIS_MOVED, IMAGES, STARTED, elements, transpose_cost
from zygal.artifact.onnx.arrange.layouts import (
    FIRST,
    LAST,
    carried,
    is_normalization,
    is_product,
    layouts_of,
    places_of,
    sides_of,
    to_first,
    to_last,
)
from zygal.artifact.onnx.arrange.orders import Arranger, Family, stays_ordered
from zygal.artifact.onnx.arrange.permuting import is_elementwise, turns_freely
from zygal.graph import Graph, Node
from zygal.graph.passes.rules import attribute
from zygal.graph.shapes import at_batch


class Channels(Family):
    """The orders of channels: behind the batch, or last."""

    def __init__(self, graph: Graph):
        super().__init__(graph)
        self.layouts = layouts_of(graph)
        self._sides = sides_of(graph, self.layouts)

    def order(self, rank: int, towards: int) -> tuple[int, ...]:
        """The permutation that brings a value of a rank into one of the two orders."""
        return to_last(rank) if towards == LAST else to_first(rank)

    def flexible(self, node: Node) -> bool:
        """See `Family.flexible`."""
        moving = [
            name
            for name in node.inputs
            if name and name not in self.graph.constants and self.graph.types[name].rank > 0
        ]
        if (
            not moving
            or any(name not in self.layouts for name in moving)
            or len({self.layouts[name] for name in moving}) > 1
        ):
            return False
        layout, made = self.layouts[moving[0]], node.outputs[0]
        if made in self.layouts and self.layouts[made] != layout:
            return False
        if node.operator == "Reshape":
            return made in self.layouts and carried(node, self.graph, layout, False) == layout
        if made not in self.layouts and (is_elementwise(node) or not stays_ordered(node, self)):
            return False
        if is_product(node, self.graph) or is_normalization(node, self.graph):
            return layout == LAST
        return layout == FIRST if _is_pointwise(node, self.graph) else turns_freely(node, self.graph)

    def costs(self, node: Node) -> tuple[int, int]:
        """See `Family.costs`."""
        if is_normalization(node, self.graph):
            return 6 * STARTED, 0
        if node.operator == "Softmax":
            # The runtime turns what is not along the last axis.
            rank, layout = self.graph.types[node.outputs[0]].rank, self.layouts[node.inputs[0]]
            axis, twice = attribute(node, "axis") % rank, 2 * AXIS_MOVED * elements(self.graph, node.outputs[0])
            places = [axis, self.order(rank, 1 - layout).index(axis)]
            costs = [twice if place != rank - 1 else 0 for place in places]
            return (costs[0], costs[1]) if layout == FIRST else (costs[1], costs[0])
        return 0, 0

    def absorbs(self, node: Node) -> bool:
        """See `Family.absorbs`."""
        if node.operator != "Transpose" or node.inputs[0] not in self.layouts or node.outputs[0] not in self.layouts:
            return False
        return carried(node, self.graph, self.layouts[node.inputs[0]], False) == self.layouts[node.outputs[0]]

    def absorbed_costs(self, node: Node) -> tuple[tuple[int, int], int]:
        """Whole rows of channels are moved quickest, which takes that they lie last on both sides."""
        shape = [at_batch(self.graph.types[name].shape, IMAGES) for name in (node.inputs[0], node.outputs[0])]
        found = {}
        for given in (FIRST, LAST):
            for made in (FIRST, LAST):
                turn = _order_between(node, self, given, made)
                sizes = (
                    shape[0]
                    if self.layouts[node.inputs[0]] == given
                    else [shape[0][axis] for axis in self.order(len(turn), given)]
                )
                found[given, made] = transpose_cost(sizes, turn) * elements(self.graph, node.inputs[0])
        mixed = max(found[FIRST, LAST], found[LAST, FIRST])
        same = found[FIRST, FIRST], found[LAST, LAST]
        return same, max(mixed - min(same), 0)

    def emit(self, node: Node, label: int, arranger: Arranger) -> None:
        """See `Family.emit`."""
        layout = self.layouts.get(node.inputs[0])
        if node.operator == "Transpose":
            _transposed(node, label, arranger)
        elif layout is None or layout == label:
            arranger.turn(node, label)
        elif is_product(node, self.graph):
            _convolved(node, arranger, self._sides)
        elif is_normalization(node, self.graph):
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
    before = axes if family.layouts[node.inputs[0]] == given else list(family.order(rank, given))
    after = axes if family.layouts[node.outputs[0]] == made else list(family.order(rank, made))
    return [before.index(perm[axis]) for axis in after]


FEWEST = 16
"""Channels that the runtime's convolutions compute at once; for fewer they compute as many."""


def _is_pointwise(node: Node, graph: Graph) -> bool:
    """A convolution of 1 x 1 that reads every place, with constant weights."""
    if (
        node.operator != "Conv"
        or any(name and name not in graph.constants for name in node.inputs[1:])
        or node.inputs[0] in graph.constants
    ):
        return False
    kernel = graph.types[node.inputs[1]].shape[2:]
    plain = (
        not any(attribute(node, "pads") or ())
        and set(attribute(node, "strides") or (1,)) == {1}
        and attribute(node, "group") == 1
    )
    return set(kernel) == {1} and plain and graph.types[node.inputs[0]].dtype == np.float32


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
    weight = arranger.builder.constant(
        f"{node.inputs[1]}.kernels", np.ascontiguousarray(matrix.T).reshape(outputs, inputs, 1, 1)
    )
    if len(shape) == 4:
        made = arranger.step(node, "Conv", given, weight)
    else:
        # Zeros keep the batch, which may be any number of images.
        flat = sides.get(places[0], (1, places[0])) if len(places) == 1 else (places[0], prod(places[1:]))
        image = arranger.step(node, "Reshape", given, shape=[0, 0, *flat])
        made = arranger.step(node, "Reshape", arranger.step(node, "Conv", image, weight), shape=[0, 0, *places])
    arranger.store(node.outputs[0], made, FIRST)


def _normalized(node: Node, arranger: Arranger) -> None:
    """A normalisation over the channels where they are axis 1: (x - m) / sqrt(mean((x - m)^2) + epsilon) gamma +
    beta."""
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
            constant = arranger.builder.constant(
                f"{node.outputs[0]}.{operator.lower()}", numbers.astype(np.float32).reshape(shape)
            )
            made = arranger.step(node, operator, made, constant)
    arranger.store(node.outputs[0], made, FIRST)


def _multiplied(node: Node, arranger: Arranger) -> None:
    """A convolution of 1 x 1 as a product by rows."""
    given, weight = arranger.fetch(node.inputs[0], LAST), arranger.graph.constants[node.inputs[1]]
    matrix = arranger.builder.constant(
        f"{node.inputs[1]}.matrix", np.ascontiguousarray(weight.reshape(weight.shape[:2]).T)
    )
    made = arranger.step(node, "MatMul", given, matrix)
    if len(node.inputs) > 2 and node.inputs[2]:
        made = arranger.step(node, "Add", made, node.inputs[2])
    arranger.store(node.outputs[0], made, LAST)


def _reshaped(node: Node, label: int, arranger: Arranger) -> None:
    """A reshape of the places alone, whose channels lie elsewhere."""
    given = arranger.fetch(node.inputs[0], label)
    places = places_of(arranger.graph.types[node.outputs[0]].shape, 1 - label)
    channels = arranger.graph.types[node.outputs[0]].shape[1 if 1 - label == FIRST else -1]
    shape = [0, channels, *places] if label == FIRST else [0, *places, channels]
    arranger.store(node.outputs[0], arranger.add(replace(node, inputs=(given,), attributes={"shape": shape})), label)


def _transposed(node: Node, label: int, arranger: Arranger) -> None:
    """A transpose of the places, from the order in which its value is to the one that is asked for."""
    given, has = arranger.stored(node.inputs[0])
    order = _order_between(node, arranger.family, has, label)
    arranger.store(node.outputs[0], arranger.add(replace(node, inputs=(given,), attributes={"perm": order})), label)
