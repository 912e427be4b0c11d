"""From what was observed to steps, stored weights and biases."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.ops import operator_named
from zygal.shrink.network import Network, Unit
from zygal.shrink.observe import Observed, channel_means
from zygal.shrink.rewrite import in_eight_bits, with_one_stored
from zygal.shrink.steps import Histogram, Steps, best_steps
from zygal.shrink.weights import StoredWeight, mean_shift, stored_weight


@dataclass(frozen=True)
class Calibration:
    """All that the graph in 8 bits is made of. steps: by the first of the values that are stored alike. weights,
    biases: by the units' results. moved: by how much the steps would be others, had only half of the images been there:
    the larger of the two parts, for each of the steps."""

    network: Network
    steps: dict[str, Steps]
    weights: dict[str, StoredWeight]
    biases: dict[str, np.ndarray]
    moved: dict[str, float]

    def graph(self, chosen) -> Graph:
        """The graph with the units of these results in 8 bits."""
        return in_eight_bits(self.network, chosen, self.steps, self.weights, self.biases)

    def graph_with(self, value: str) -> Graph:
        """The float graph in which one value alone is stored; see `rewrite.with_one_stored`."""
        return with_one_stored(self.network, value, self.steps, self.weights, self.biases)

    @property
    def clipped(self) -> dict[str, float]:
        """The share of the values that are clipped."""
        return {value: steps.clipped for value, steps in self.steps.items()}


def calibrate(network: Network, observed: Observed, tensors: np.ndarray, threads: int | None = None) -> Calibration:
    """tensors: [N, ...], of which the first few give the means of the channels."""
    steps, moved = {}, {}
    for root, values in _groups(network).items():
        if root in network.fixed:
            scale, zero = network.fixed[root]
            steps[root] = Steps(np.float32(scale), zero, 0.0, 0.0)
            continue
        behind = network.function_behind(values[0]) if len(values) == 1 else ()
        function = _computed(behind) if behind else None
        histograms = [_together([observed.halves[value][half] for value in values]) for half in (0, 1)]
        steps[root] = best_steps(histograms[0].joined(histograms[1]), network.form, function)
        spans = [float(best_steps(each, network.form, function).scale) for each in histograms if each.total]
        moved[root] = max(abs(each / float(steps[root].scale) - 1) for each in spans)
    weights, biases = _weights(network, steps, tensors, threads)
    return Calibration(network, steps, weights, biases, moved)


def _weights(network: Network, steps: dict[str, Steps], tensors: np.ndarray, threads: int | None):
    """The stored weights, and the biases with the shifts of the means taken out."""
    weights, biases = {}, {}
    weighted = [unit for unit in network.units.values() if unit.weight]
    means = channel_means(network, weighted, steps, tensors, threads)
    for unit in weighted:
        weight, bias = network.graph.constants[unit.weight], bias_of(network, unit)
        scale = float(steps[network.alike.get(unit.reads[0], unit.reads[0])].scale)
        in_whole_numbers = None if unit.node.operator == "MatMul" else bias
        kept = stored_weight(weight, unit.axis, network.form.weight_limit, in_whole_numbers, scale)
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
    """The values that are stored in the same steps, by the first of them."""
    groups: dict[str, list[str]] = {}
    for value in network.storable:
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
