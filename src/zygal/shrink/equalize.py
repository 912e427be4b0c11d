"""Equalisation across layers (Nagel et al., "Data-free quantization through weight equalization and bias correction",
ICCV 2019, section 4.1).

An activation is quantized with the same scale and zero point for all channels, so channels that are much smaller than
others lose most of their resolution. Where only a rectifier, or nothing, lies between what makes an activation and the
one layer that reads it, a channel can be made smaller by the one and larger by the other; the model computes the same.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from zygal.graph import Graph, Node
from zygal.graph.build import rebuilt
from zygal.graph.passes.rules import attribute
from zygal.shrink.network import Network, Unit
from zygal.shrink.weights import along

_MOST = 64.0
"""A channel is scaled by no more than this."""


def equalized(network: Network, largest: Mapping[str, np.ndarray]) -> Graph:
    """The graph with its channels equalised where that is possible. largest: of each channel of the activations that
    units with weights read, the largest magnitude on the calibration images."""
    graph = network.graph
    constants, changed = dict(graph.constants), {}
    for unit in network.units.values():
        maker = _maker(network, unit) if unit.weight and unit.reads[0] in largest else None
        if maker is None:
            continue
        factors = _factors(unit, largest[unit.reads[0]], constants[changed.get(unit.result, unit.node).inputs[1]])
        if factors is None:
            continue
        for node, scaled in ((maker, _divided), (unit.node, _multiplied)):
            node = changed.get(node.outputs[0], node)
            changed[node.outputs[0]] = scaled(node, network.units.get(node.outputs[0]), factors, constants, graph)
    if not changed:
        return graph
    return rebuilt(graph, [changed.get(node.outputs[0], node) for node in graph.nodes], constants, graph.outputs)


def _maker(network: Network, unit: Unit) -> Node | None:
    """What makes the activation that a unit alone reads, if a factor goes through all that lies between."""
    value = unit.reads[0]
    while True:
        if len(network.readers.get(value, [])) != 1 or value in network.graph.outputs:
            return None
        node = network.made_by.get(value)
        if node is None or node.operator not in ("Relu", "LeakyRelu"):
            break
        value = node.inputs[0]
    if node is None:
        return None
    if node.operator == "LayerNormalization":
        over_channels = (
            attribute(node, "axis") in (-1, network.graph.types[value].rank - 1) and unit.node.operator != "Conv"
        )
        return (
            node
            if over_channels
            and all(name in network.graph.constants for name in node.inputs[1:] if name)
            and value == node.outputs[0]
            else None
        )
    made = network.units.get(node.outputs[0])
    same_axis = (
        made is not None
        and made.weight
        and made.addend is None
        and (made.node.operator == "Conv") == (unit.node.operator == "Conv")
    )
    return node if same_axis else None


def _factors(unit: Unit, largest: np.ndarray, weight: np.ndarray) -> np.ndarray | None:
    """By what each channel of the activation is divided: the geometric mean of its own range and that of the weights
    that read it, over the latter. Weights that read one channel each have scales of their own, so there the activation
    alone counts."""
    alive = largest > 0
    if not alive.any():
        return None
    if unit.depthwise:
        if weight.shape[1] != 1:
            return None
        wanted = largest
    else:
        axis = 1 if unit.node.operator == "Conv" else 1 - unit.axis
        read = np.abs(np.moveaxis(weight, axis, 0).reshape(len(largest), -1)).max(axis=1)
        alive &= read > 0
        wanted = np.sqrt(np.where(alive, largest, 1.0) / np.where(alive, read, 1.0))
    if not alive.any():
        return None
    middle = np.exp(np.log(wanted[alive]).mean())
    return np.where(alive, np.clip(wanted / middle, 1 / _MOST, _MOST), 1.0).astype(np.float32)


def _divided(
    node: Node, unit: Unit | None, factors: np.ndarray, constants: dict[str, np.ndarray], graph: Graph
) -> Node:
    """What makes an activation, with each channel divided."""
    axis = 0 if unit is None else unit.axis
    inputs = list(node.inputs)
    for place in range(1, len(inputs)):
        if inputs[place]:
            array = constants[inputs[place]]
            channels = array.ndim - 1 if unit is None or place > 1 else axis
            inputs[place] = _kept(inputs[place], array / along(factors, array.ndim, channels), constants, node, graph)
    return replace(node, inputs=tuple(inputs))


def _multiplied(
    node: Node, unit: Unit | None, factors: np.ndarray, constants: dict[str, np.ndarray], graph: Graph
) -> Node:
    """What reads an activation, with the weights of each channel multiplied."""
    array = constants[node.inputs[1]]
    if unit.depthwise:
        repeated, axis = np.repeat(factors, len(array) // len(factors)), 0
    else:
        repeated, axis = factors, 1 if node.operator == "Conv" else 1 - unit.axis
    name = _kept(node.inputs[1], array * along(repeated, array.ndim, axis), constants, node, graph)
    return replace(node, inputs=(node.inputs[0], name, *node.inputs[2:]))


def _kept(name: str, array: np.ndarray, constants: dict[str, np.ndarray], node: Node, graph: Graph) -> str:
    """The name of a changed constant: the old one may have other readers."""
    made = name if name not in graph.types else f"{node.outputs[0]}.{name}.equalized"
    constants[made] = array.astype(np.float32)
    return made
