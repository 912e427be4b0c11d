"""From what was observed to scales, zero points, quantized weights and biases."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.ops import operator_named
from zygal.shrink.network import Network, Unit
from zygal.shrink.observe import Observed, channel_means
from zygal.shrink.quantization import Histogram, Quantization, best_quantization
from zygal.shrink.rewrite import in_eight_bits, with_one_quantized
from zygal.shrink.weights import QuantizedWeight, mean_shift, quantized_weight


@dataclass(frozen=True)
class Calibration:
    """All that the graph in 8 bits is made of. quantizations: by the first of the values that are quantized alike.
    weights, biases: by the units' results. moved: by how much the scales would be others, had only half of the images
    been there: the larger of the two parts, for each of them."""

    network: Network
    quantizations: dict[str, Quantization]
    weights: dict[str, QuantizedWeight]
    biases: dict[str, np.ndarray]
    moved: dict[str, float]

    def graph(self, chosen) -> Graph:
        """The graph with the units of these results in 8 bits."""
        return in_eight_bits(self.network, chosen, self.quantizations, self.weights, self.biases)

    def graph_with(self, value: str) -> Graph:
        """The float graph in which one value alone is quantized; see `rewrite.with_one_quantized`."""
        return with_one_quantized(self.network, value, self.quantizations, self.weights, self.biases)

    @property
    def clipped(self) -> dict[str, float]:
        """The share of the values that are clipped."""
        return {value: each.clipped for value, each in self.quantizations.items()}


def calibrate(network: Network, observed: Observed, tensors: np.ndarray, threads: int | None = None) -> Calibration:
    """tensors: [N, ...], of which the first few give the means of the channels."""
    quantizations, moved = {}, {}
    for root, values in _groups(network).items():
        if root in network.fixed:
            scale, zero = network.fixed[root]
            quantizations[root] = Quantization(np.float32(scale), zero, 0.0, 0.0)
            continue
        behind = network.function_behind(values[0]) if len(values) == 1 else ()
        function = _computed(behind) if behind else None
        histograms = [_together([observed.halves[value][half] for value in values]) for half in (0, 1)]
        quantizations[root] = best_quantization(histograms[0].joined(histograms[1]), network.form, function)
        spans = [float(best_quantization(each, network.form, function).scale) for each in histograms if each.total]
        moved[root] = max(abs(each / float(quantizations[root].scale) - 1) for each in spans)
    weights, biases = _weights(network, quantizations, tensors, threads)
    return Calibration(network, quantizations, weights, biases, moved)


def _weights(network: Network, quantizations: dict[str, Quantization], tensors: np.ndarray, threads: int | None):
    """The quantized weights, and the biases with the shifts of the means taken out."""
    weights, biases = {}, {}
    weighted = [unit for unit in network.units.values() if unit.weight]
    means = channel_means(network, weighted, quantizations, tensors, threads)
    for unit in weighted:
        weight, bias = network.graph.constants[unit.weight], bias_of(network, unit)
        scale = float(quantizations[network.alike.get(unit.reads[0], unit.reads[0])].scale)
        in_whole_numbers = None if unit.node.operator == "MatMul" else bias
        kept = quantized_weight(weight, unit.axis, network.form.weight_limit, in_whole_numbers, scale)
        weights[unit.result] = kept
        if unit.node.operator != "MatMul" or unit.addend is not None:
            biases[unit.result] = bias - mean_shift(unit, weight, kept, *means[unit.reads[0]])
    return weights, biases


def bias_of(network: Network, unit: Unit) -> np.ndarray:
    """float64 [output channels]; zeros where there is none."""
    name = unit.bias or unit.addend
    count = network.graph.constants[unit.weight].shape[unit.axis]
    return np.zeros(count) if name is None else network.graph.constants[name].reshape(-1).astype(np.float64)


def _groups(network: Network) -> dict[str, list[str]]:
    """The values that are quantized with the same scale and zero point, by the first of them."""
    groups: dict[str, list[str]] = {}
    for value in network.quantizable:
        groups.setdefault(network.alike.get(value, value), []).append(value)
    return groups


def _together(histograms: list[Histogram]) -> Histogram:
    whole = histograms[0]
    for each in histograms[1:]:
        whole = whole.joined(each)
    return whole


def _computed(nodes: tuple[Node, ...]) -> Callable[[np.ndarray], np.ndarray]:
    """What an operator makes of each value; with a second one, the product of the value with that."""
    operator = operator_named(nodes[0].operator)
    attributes = operator.complete(nodes[0].attributes)

    def function(values: np.ndarray) -> np.ndarray:
        made = operator.compute([values.astype(np.float32)], attributes)[0].astype(np.float64)
        return made if len(nodes) == 1 else made * values

    return function
