"""What of a graph can be computed with 8-bit numbers, and which values must be quantized for it."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.passes.rules import attribute
from zygal.shrink.form import Form

MOVING = ("MaxPool", "Reshape", "Transpose", "Flatten", "Squeeze", "Unsqueeze", "Slice", "DepthToSpace", "SpaceToDepth")
"""Operators whose results are numbers that they are given: quantized, they keep scale and zero point. So do borders of
zeros."""
HOLDING = ("Relu", "Clip")
"""Operators that only hold values within limits, which quantizing does too."""
GATE = "HardSigmoid"
"""Held between 0 and 1 by what can be quantized: an addition in 8 bits."""
GATES = (GATE, "Sigmoid")
BY_VALUE = ("HardSwish", GATE, "Sigmoid", "LeakyRelu", "Elu", "Tanh", "Gelu", "Silu", *HOLDING)
"""Operators on each value alone, which read a quantized value as well as any."""
POOLING = ("AveragePool", "GlobalAveragePool")
COMBINING = ("Add", "Mul", "Concat", *POOLING)
"""Operators without weights that runtimes compute in 8 bits."""


def moves(node: Node) -> bool:
    """Whether a node's results are numbers that it is given, or zeros."""
    return (
        node.operator in MOVING
        or node.operator == "Pad"
        and attribute(node, "mode") == "constant"
        and attribute(node, "value") == 0
    )


@dataclass(frozen=True)
class Unit:
    """One operator that can be computed with 8-bit numbers.

    reads: the activations that must be quantized for it. home: what is quantized of its result: the result itself, or
    what a rectifier or clip makes of it. weight, bias: constants; axis: of the weight's output channels. addend: the
    constant of an addition directly behind a product, which is its bias.
    """

    node: Node
    reads: tuple[str, ...]
    home: str
    weight: str | None = None
    axis: int = 0
    bias: str | None = None
    addend: str | None = None

    @property
    def result(self) -> str:
        """See `Outcome.result`."""
        return self.node.outputs[0]

    @property
    def layer(self) -> str:
        """The layer of the training code, else the result's name."""
        return self.node.layer or self.result

    @property
    def depthwise(self) -> bool:
        """Whether each channel has its own filter."""
        return self.node.operator == "Conv" and attribute(self.node, "group") > 1


class Network:
    """A float graph, and its units by the names of their results, in order."""

    def __init__(self, graph: Graph, form: Form):
        self.graph, self.form = graph, form
        self.made_by, self.readers = graph.producers(), graph.readers()
        self.varying = _varying(graph)
        self.units: dict[str, Unit] = {}
        for node in graph.nodes:
            unit = self._unit(node)
            if unit is not None:
                self.units[unit.result] = unit

    def _unit(self, node: Node) -> Unit | None:
        result = node.outputs[0]
        if self.graph.types[result].dtype != np.float32:
            return None
        if (
            node.operator in ("Conv", "Gemm", "MatMul")
            and len(node.inputs) > 1
            and node.inputs[1] in self.graph.constants
        ):
            return self._weighted(node)
        if node.operator == "MatMul" and self.varying.issuperset(node.inputs):
            return Unit(node, node.inputs, self._home(result))
        if node.operator == GATE and self.form.gates_by_quantizing and self._comes_quantized(node.inputs[0]):
            if attribute(node, "alpha") <= 0 or attribute(node, "beta") < 0:
                return None
            return Unit(node, node.inputs, result)
        if (
            node.operator in COMBINING
            and self.varying.issuperset(node.inputs)
            and all(map(self._comes_quantized, node.inputs))
        ):
            return Unit(node, tuple(dict.fromkeys(node.inputs)), self._home(result))
        return None

    def _weighted(self, node: Node) -> Unit | None:
        weight = self.graph.constants[node.inputs[1]]
        bias = node.inputs[2] if len(node.inputs) > 2 and node.inputs[2] else None
        if node.inputs[0] not in self.varying or bias is not None and bias not in self.graph.constants:
            return None
        axis = 0
        if node.operator == "Gemm":
            plain = attribute(node, "alpha") == 1 and attribute(node, "beta") == 1 and not attribute(node, "transA")
            axis = 0 if attribute(node, "transB") else 1
            if not plain or bias is not None and self.graph.constants[bias].shape != (weight.shape[axis],):
                return None
        elif node.operator == "MatMul":
            if weight.ndim != 2:
                return None
            axis = 1
        result = node.outputs[0]
        return Unit(
            node,
            node.inputs[:1],
            self._home(result),
            node.inputs[1],
            axis,
            bias,
            self._addend(node, weight.shape[axis]),
        )

    def _addend(self, node: Node, count: int) -> str | None:
        """The constant that is added to a product alone, one number for each output channel."""
        after = self.readers.get(node.outputs[0], [])
        if (
            node.operator != "MatMul"
            or len(after) != 1
            or after[0].operator != "Add"
            or node.outputs[0] in self.graph.outputs
        ):
            return None
        other = next((name for name in after[0].inputs if name != node.outputs[0]), None)
        addend = self.graph.constants.get(other)
        return other if addend is not None and addend.shape[-1:] == (count,) and addend.size == count else None

    def _home(self, value: str) -> str:
        after = self.readers.get(value, [])
        if len(after) == 1 and after[0].operator in HOLDING and value not in self.graph.outputs:
            return after[0].outputs[0]
        return value

    def _comes_quantized(self, value: str) -> bool:
        """Whether a value comes, perhaps moved or mapped, from an operator that quantizes what it gives."""
        return self._comes_from(value, self.units)

    def _maker(self, value: str) -> Unit | None:
        """The unit whose result a value is, perhaps moved or mapped."""
        node = self.made_by.get(value)
        while node is not None and node.outputs[0] not in self.units and (moves(node) or node.operator in BY_VALUE):
            node = self.made_by.get(node.inputs[0])
        return None if node is None else self.units.get(node.outputs[0])

    def must_store(self, unit: Unit) -> bool:
        """Whether the runtime computes a unit in 8 bits only if its result is quantized."""
        return self.form.products_quantized or unit.node.operator not in ("Gemm", "MatMul")

    @cached_property
    def last(self) -> Unit | None:
        """The unit that makes the scores: the last one with a weight."""
        return next((unit for unit in reversed(self.units.values()) if unit.weight), None)

    def possible(self, wanted: Collection[str]) -> set[str]:
        """Those of the wanted units that can be in 8 bits together: what combines values needs all of them to come
        quantized."""
        chosen: set[str] = set()
        for result, unit in self.units.items():
            combining = unit.weight is None and unit.node.operator != "MatMul"
            if result in wanted and (not combining or all(self._comes_from(value, chosen) for value in unit.reads)):
                chosen.add(result)
        return chosen

    def _comes_from(self, value: str, chosen: Collection[str]) -> bool:
        maker = self._maker(value)
        return maker is not None and maker.result in chosen and self.must_store(maker)

    def quantized(self, chosen: Collection[str]) -> set[str]:
        """The values that must be quantized if these units are computed in 8 bits."""
        found: set[str] = set()
        for result in chosen:
            unit = self.units[result]
            found.update(unit.reads)
            if self.must_store(unit):
                found.add(unit.home)
        return found

    def made_quantized(self, chosen: Collection[str]) -> set[str]:
        """Those of the quantized values that exist only as they are quantized: what units in 8 bits give."""
        return {self.units[result].home for result in chosen if self.must_store(self.units[result])}

    @cached_property
    def alike(self) -> dict[str, str]:
        """For each value the first of those that are quantized with the same scale and zero point as it is."""
        first: dict[str, str] = {}

        def found(value: str) -> str:
            while first.get(value, value) != value:
                value = first[value]
            return value

        for node in self.graph.nodes:
            joined = self.form.joined_alike and node.operator in ("Concat", "AveragePool")
            if moves(node) and node.inputs[0] in self.varying or joined:
                givens = [node.inputs[0]] if not joined else node.inputs
                root = found(givens[0])
                for value in (*givens[1:], node.outputs[0]):
                    first[found(value)] = root
        return {value: found(value) for value in self.varying}

    @cached_property
    def fixed(self) -> dict[str, tuple[float, int]]:
        """Scale and zero point of the values whose scale and zero point are not free: gates from 0 to 1, and what the
        format prescribes."""
        gates = {
            unit.home: (1 / 255, self.form.limits[0]) for unit in self.units.values() if unit.node.operator == GATE
        }
        prescribed = {
            node.outputs[0]: self.form.prescribed[node.operator]
            for node in self.graph.nodes
            if node.operator in self.form.prescribed
        }
        return gates | {value: each for value, each in prescribed.items() if self.alike.get(value, value) == value}

    @cached_property
    def quantizable(self) -> tuple[str, ...]:
        """All values that may ever have to be quantized, in the order in which they are made."""
        wanted = self.quantized(self.units)
        return tuple(name for name in _in_order(self.graph) if name in wanted)

    def quantized_before(self, value: str) -> bool:
        """Whether a value is one that can be quantized, moved: quantizing it again with the same scale and zero point
        changes nothing."""
        node = self.made_by.get(value)
        return node is not None and moves(node) and node.inputs[0] in self.quantizable

    def function_behind(self, value: str) -> tuple[Node, ...]:
        """What alone reads a value, if that works on each number by itself: one operator, or a gate and the product of
        the value with it. Empty if there is none."""
        after = self.readers.get(value, [])
        if value in self.graph.outputs:
            return ()
        if len(after) == 1 and after[0].operator in BY_VALUE:
            return (after[0],)
        gates = [node for node in after if node.operator in GATES]
        if len(after) == 2 and len(gates) == 1:
            product = after[1] if after[0] is gates[0] else after[0]
            alone = (
                self.readers.get(gates[0].outputs[0], []) == [product] and gates[0].outputs[0] not in self.graph.outputs
            )
            if product.operator == "Mul" and alone and set(product.inputs) == {value, gates[0].outputs[0]}:
                return gates[0], product
        return ()


def _varying(graph: Graph) -> set[str]:
    """The floating-point values that depend on the image."""
    found = set(graph.inputs)
    for node in graph.nodes:
        if found.intersection(node.inputs):
            found.update(node.outputs)
    return {name for name in found if graph.types[name].dtype == np.float32}


def _in_order(graph: Graph) -> Iterable[str]:
    yield from graph.inputs
    for node in graph.nodes:
        yield from node.outputs
