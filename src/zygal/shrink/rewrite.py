"""The graph in which some operators compute with 8-bit numbers.

Runtimes look for an operator with a DequantizeLinear directly before and a QuantizeLinear directly behind it, and
compute with the stored numbers then. So a value that must be stored passes such a pair, and a weight is a constant in 8
bits behind a DequantizeLinear.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.build import free_name, rebuilt
from zygal.graph.passes.rules import attribute
from zygal.shrink.network import GATE, Network, Unit, moves
from zygal.shrink.steps import Steps
from zygal.shrink.weights import StoredWeight


def in_eight_bits(
    network: Network,
    chosen: Collection[str],
    steps: Mapping[str, Steps],
    weights: Mapping[str, StoredWeight],
    biases: Mapping[str, np.ndarray],
) -> Graph:
    """The graph with the units of these results in 8 bits. steps: by the first of the values that are stored alike.
    weights, biases: by the units' results; biases are real numbers."""
    chosen = frozenset(chosen)
    return _Rewriting(
        network, chosen, network.stored(chosen), network.made_stored(chosen), steps, weights, biases
    ).run()


def with_one_stored(
    network: Network,
    value: str,
    steps: Mapping[str, Steps],
    weights: Mapping[str, StoredWeight],
    biases: Mapping[str, np.ndarray],
) -> Graph:
    """The float graph in which one value is rounded as if it were stored, and so are the weights of the unit that makes
    it; what gives real numbers has its weights rounded together with what it reads."""
    maker = next((unit for unit in network.units.values() if unit.home == value and network.must_store(unit)), None)
    weighted = {maker.result} if maker is not None else set()
    weighted |= {unit.result for unit in network.units.values() if value in unit.reads and not network.must_store(unit)}
    made_stored = {value} if maker is not None else set()
    return _Rewriting(network, frozenset(), {value}, made_stored, steps, weights, biases, frozenset(weighted)).run()


class _Rewriting:
    """A graph while it is made. stored: values that pass through storing; made_stored: those that exist only so.
    weighted: units outside `chosen` whose weights are stored too."""

    def __init__(
        self,
        network: Network,
        chosen: frozenset[str],
        stored: set[str],
        made_stored: set[str],
        steps,
        weights,
        biases,
        weighted: frozenset[str] = frozenset(),
    ):
        self.network, self.chosen, self.steps, self.weights, self.biases = network, chosen, steps, weights, biases
        self.stored, self.made_stored, self.weighted = stored, made_stored, weighted
        self.constants: dict[str, np.ndarray] = dict(network.graph.constants)
        self.nodes: list[Node] = []
        self.kept: dict[str, str] = {}
        self.shared: dict[str, str] = {}
        self.taken = set(network.graph.types)
        self.read = {
            value: value if value in self.made_stored else self._free(f"{value}.read") for value in self.stored
        }

    def run(self) -> Graph:
        graph = self.network.graph
        for name in graph.inputs:
            if name in self.stored:
                self._store(name, name, "")
        for node in graph.nodes:
            self._add(node)
        return rebuilt(graph, self.nodes, self.constants, graph.outputs)

    def _add(self, node: Node) -> None:
        result = node.outputs[0]
        unit = self.network.units.get(result)
        if unit is not None and result in self.chosen and node.operator == GATE:
            node = self._gate(node)
        elif unit is not None and (self.chosen == frozenset() or result in self.chosen):
            node = self._with_stored(unit)
        elif moves(node) and result in self.stored and node.inputs[0] in self.stored:
            node = replace(node, inputs=(self.read[node.inputs[0]], *node.inputs[1:]))
        elif node.operator == "Add":
            node = self._with_corrected_addend(node)
        # What is read under the old name is what was stored.
        made = self._free(f"{result}.exact") if result in self.made_stored else result
        self.nodes.append(replace(node, outputs=(made, *node.outputs[1:])))
        if result in self.stored:
            self._store(made, result, node.layer)

    def _with_corrected_addend(self, node: Node) -> Node:
        """An addition behind a product in 8 bits, with the bias that belongs to it."""
        unit = next(
            (self.network.units[name] for name in node.inputs if name in self.chosen or name in self.weighted), None
        )
        if unit is None or unit.addend not in node.inputs or unit.result not in self.biases:
            return node
        corrected = self._free(f"{unit.result}.addend")
        self.constants[corrected] = (
            self.biases[unit.result].astype(np.float32).reshape(self.constants[unit.addend].shape)
        )
        return node.reading({unit.addend: corrected})

    def _with_stored(self, unit: Unit) -> Node:
        inputs = [self.read.get(name, name) if name in unit.reads else name for name in unit.node.inputs]
        if unit.weight is None or unit.result not in self.chosen | self.weighted:
            return replace(unit.node, inputs=tuple(inputs))
        kept, layer = self.weights[unit.result], unit.node.layer
        inputs[1] = self._constant(f"{unit.result}.weight", kept.array, kept.scales, unit.axis, layer)
        bias = self.biases.get(unit.result)
        if bias is not None and unit.node.operator != "MatMul":
            scales = (self._steps(unit.reads[0]).scale * kept.scales).astype(np.float32)
            stored = np.rint(np.asarray(bias, np.float64) / scales).astype(np.int32)
            inputs[2:] = [self._constant(f"{unit.result}.bias", stored, scales, 0, layer)]
        return replace(unit.node, inputs=tuple(inputs))

    def _gate(self, node: Node) -> Node:
        """alpha * x + beta, held between 0 and 1 by being stored. What is stored of x is read in steps that are alpha
        times as large."""
        given, layer = node.inputs[0], node.layer
        steps = self._steps(given)
        form, (first, _) = self.network.form, self.network.form.limits
        scale, zero, real = (self._free(f"{node.outputs[0]}.{part}") for part in ("slope", "origin", "sloped"))
        self.constants[scale] = np.array(steps.scale * np.float32(attribute(node, "alpha")), np.float32)
        self.constants[zero] = np.array(steps.zero, form.dtype)
        self.nodes.append(Node("DequantizeLinear", (self.kept[given], scale, zero), (real,), {}, layer))
        offset, offset_scale, offset_zero, offset_real = (
            self._free(f"{node.outputs[0]}.offset{part}") for part in ("", ".scale", ".zero", ".real")
        )
        beta = float(attribute(node, "beta"))
        self.constants[offset] = np.array(first + 255 if beta else first, form.dtype)
        self.constants[offset_scale], self.constants[offset_zero] = (
            np.array(beta / 255 or 1.0, np.float32),
            np.array(first, form.dtype),
        )
        self.nodes.append(Node("DequantizeLinear", (offset, offset_scale, offset_zero), (offset_real,), {}, layer))
        return Node("Add", (real, offset_real), node.outputs, {}, layer)

    def _constant(self, name: str, array: np.ndarray, scales: np.ndarray, axis: int, layer: str) -> str:
        stored, scale, real = (self._free(f"{name}{part}") for part in ("", ".scale", ".real"))
        self.constants[stored], self.constants[scale] = array, scales
        inputs = [stored, scale]
        if array.dtype != np.int32:
            inputs.append(self._shared(f"zeros.{scales.size}", np.zeros(scales.shape, array.dtype)))
        self.nodes.append(Node("DequantizeLinear", tuple(inputs), (real,), {"axis": axis}, layer))
        return real

    def _store(self, value: str, known_as: str, layer: str) -> None:
        """Passes a value through storing."""
        steps = self._steps(known_as)
        stored, scale = (self._free(f"{known_as}.{part}") for part in ("stored", "scale"))
        zero = self._shared(f"zero.{steps.zero}", np.array(steps.zero, self.network.form.dtype))
        self.constants[scale] = np.array(steps.scale, np.float32)
        self.kept[known_as] = stored
        self.nodes.append(Node("QuantizeLinear", (value, scale, zero), (stored,), {}, layer))
        self.nodes.append(Node("DequantizeLinear", (stored, scale, zero), (self.read[known_as],), {}, layer))

    def _shared(self, name: str, array: np.ndarray) -> str:
        """A constant that many read."""
        if name not in self.shared:
            self.shared[name] = self._free(name)
            self.constants[self.shared[name]] = array
        return self.shared[name]

    def _steps(self, value: str) -> Steps:
        return self.steps[self.network.alike.get(value, value)]

    def _free(self, wanted: str) -> str:
        name = free_name(wanted, self.taken)
        self.taken.add(name)
        return name
