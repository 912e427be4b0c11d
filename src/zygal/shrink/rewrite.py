"""The graph in which some operators compute with 8-bit numbers.

Runtimes look for an operator with a DequantizeLinear directly before and a QuantizeLinear directly behind it, and
compute with the quantized numbers then. So a value that must be quantized passes such a pair, and a weight is a
constant in 8 bits behind a DequantizeLinear.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import replace

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.build import free_name, rebuilt
from zygal.graph.passes.rules import attribute
from zygal.shrink.network import GATE, Network, Unit, moves
from zygal.shrink.quantization import Quantization
from zygal.shrink.weights import QuantizedWeight


def in_eight_bits(
    network: Network,
    chosen: Collection[str],
    quantizations: Mapping[str, Quantization],
    weights: Mapping[str, QuantizedWeight],
    biases: Mapping[str, np.ndarray],
) -> Graph:
    """The graph with the units of these results in 8 bits. quantizations: by the first of the values that are quantized
    alike. weights, biases: by the units' results; biases are real numbers."""
    chosen = frozenset(chosen)
    return _Rewriting(
        network, chosen, network.quantized(chosen), network.made_quantized(chosen), quantizations, weights, biases
    ).run()


def with_one_quantized(
    network: Network,
    value: str,
    quantizations: Mapping[str, Quantization],
    weights: Mapping[str, QuantizedWeight],
    biases: Mapping[str, np.ndarray],
) -> Graph:
    """The float graph in which one value is rounded as if it were quantized, and so are the weights of the unit that
    makes it; what gives real numbers has its weights rounded together with what it reads."""
    maker = next((unit for unit in network.units.values() if unit.home == value and network.must_store(unit)), None)
    weighted = {maker.result} if maker is not None else set()
    weighted |= {unit.result for unit in network.units.values() if value in unit.reads and not network.must_store(unit)}
    made_quantized = {value} if maker is not None else set()
    return _Rewriting(
        network, frozenset(), {value}, made_quantized, quantizations, weights, biases, frozenset(weighted)
    ).run()


class _Rewriting:
    """A graph while it is made. quantized: values that are quantized and taken back; made_quantized: those that exist
    only so. weighted: units outside `chosen` whose weights are quantized too."""

    def __init__(
        self,
        network: Network,
        chosen: frozenset[str],
        quantized: set[str],
        made_quantized: set[str],
        quantizations,
        weights,
        biases,
        weighted: frozenset[str] = frozenset(),
    ):
        self.network, self.chosen, self.quantizations, self.weights, self.biases = (
            network,
            chosen,
            quantizations,
            weights,
            biases,
        )
        self.quantized, self.made_quantized, self.weighted = quantized, made_quantized, weighted
        self.constants: dict[str, np.ndarray] = dict(network.graph.constants)
        self.nodes: list[Node] = []
        self.kept: dict[str, str] = {}
        self.shared: dict[str, str] = {}
        self.taken = set(network.graph.types)
        self.read = {
            value: value if value in self.made_quantized else self._free(f"{value}.read") for value in self.quantized
        }

    def run(self) -> Graph:
        graph = self.network.graph
        for name in graph.inputs:
            if name in self.quantized:
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
        elif moves(node) and result in self.quantized and node.inputs[0] in self.quantized:
            node = replace(node, inputs=(self.read[node.inputs[0]], *node.inputs[1:]))
        elif node.operator == "Add":
            node = self._with_corrected_addend(node)
        # What is read under the old name is what was quantized.
        made = self._free(f"{result}.exact") if result in self.made_quantized else result
        self.nodes.append(replace(node, outputs=(made, *node.outputs[1:])))
        if result in self.quantized:
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
            scales = (self._quantization(unit.reads[0]).scale * kept.scales).astype(np.float32)
            quantized = np.rint(np.asarray(bias, np.float64) / scales).astype(np.int32)
            inputs[2:] = [self._constant(f"{unit.result}.bias", quantized, scales, 0, layer)]
        return replace(unit.node, inputs=tuple(inputs))

    def _gate(self, node: Node) -> Node:
        """alpha * x + beta, held between 0 and 1 by being quantized. What is quantized of x is read with a scale that
        is alpha times as large."""
        given, layer = node.inputs[0], node.layer
        found = self._quantization(given)
        form, (first, _) = self.network.form, self.network.form.limits
        scale, zero, real = (self._free(f"{node.outputs[0]}.{part}") for part in ("slope", "origin", "sloped"))
        self.constants[scale] = np.array(found.scale * np.float32(attribute(node, "alpha")), np.float32)
        self.constants[zero] = np.array(found.zero_point, form.dtype)
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
        quantized, scale, real = (self._free(f"{name}{part}") for part in ("", ".scale", ".real"))
        self.constants[quantized], self.constants[scale] = array, scales
        inputs = [quantized, scale]
        if array.dtype != np.int32:
            inputs.append(self._shared(f"zeros.{scales.size}", np.zeros(scales.shape, array.dtype)))
        self.nodes.append(Node("DequantizeLinear", tuple(inputs), (real,), {"axis": axis}, layer))
        return real

    def _store(self, value: str, known_as: str, layer: str) -> None:
        """Quantizes a value and takes it back to float."""
        found = self._quantization(known_as)
        quantized, scale = (self._free(f"{known_as}.{part}") for part in ("stored", "scale"))
        zero = self._shared(f"zero.{found.zero_point}", np.array(found.zero_point, self.network.form.dtype))
        self.constants[scale] = np.array(found.scale, np.float32)
        self.kept[known_as] = quantized
        self.nodes.append(Node("QuantizeLinear", (value, scale, zero), (quantized,), {}, layer))
        self.nodes.append(Node("DequantizeLinear", (quantized, scale, zero), (self.read[known_as],), {}, layer))

    def _shared(self, name: str, array: np.ndarray) -> str:
        """A constant that many read."""
        if name not in self.shared:
            self.shared[name] = self._free(name)
            self.constants[self.shared[name]] = array
        return self.shared[name]

    def _quantization(self, value: str) -> Quantization:
        return self.quantizations[self.network.alike.get(value, value)]

    def _free(self, wanted: str) -> str:
        name = free_name(wanted, self.taken)
        self.taken.add(name)
        return name
