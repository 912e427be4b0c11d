"""The float graph in the form in which low precision is best expressed; it computes the same."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from zygal.artifact.onnx.arrange.biases import biases_apart
from zygal.errors import ArtifactError
from zygal.graph import Graph, Node
from zygal.graph.build import free_name, rebuilt
from zygal.graph.passes import run_passes
from zygal.graph.passes.rewrites import normalization_line
from zygal.graph.passes.rules import Rule, apply_rules, attribute
from zygal.shrink.form import Form

STORED = ("QuantizeLinear", "DequantizeLinear")


def prepared(graph: Graph, form: Form, where: str) -> Graph:
    """Weights that were stored in half precision are widened, means over places become poolings, normalisations that
    stand alone convolutions of one place, and where gates are computed by quantizing, activations are stated by their
    gates. Raises ArtifactError if something is in 8 bits already."""
    low = next((node for node in graph.nodes if node.operator in STORED), None)
    if low is not None:
        raise ArtifactError(
            f"{where} is in 8 bits already (layer {low.layer or low.outputs[0]}); shrink the float artifact "
            f"that it was made from."
        )
    graph = run_passes(biases_apart(graph))
    graph = _factors_before_clips(graph)
    if form.gates_by_quantizing:
        graph = apply_rules(graph, (Rule(("Add", "Clip", "Mul"), _gate_of_parts),))
    nodes: list[Node] = []
    taken, constants = set(graph.types), dict(graph.constants)
    for node in graph.nodes:
        nodes += (
            _pooled(node, graph, taken)
            or (_gated(node, taken) if form.gates_by_quantizing else None)
            or [_as_convolution(node, graph, constants)]
        )
    return rebuilt(graph, nodes, constants, graph.outputs)


def _pooled(node: Node, graph: Graph, taken: set[str]) -> list[Node] | None:
    """A mean over all places as a pooling, which runtimes compute in 8 bits."""
    if node.operator != "ReduceMean" or graph.types[node.inputs[0]].rank != 4:
        return None
    axes = sorted(axis % 4 for axis in attribute(node, "axes") or range(4))
    if axes != [2, 3]:
        return None
    if attribute(node, "keepdims"):
        return [replace(node, operator="GlobalAveragePool", attributes={})]
    pooled = _free(f"{node.outputs[0]}.pooled", taken)
    return [
        Node("GlobalAveragePool", node.inputs, (pooled,), {}, node.layer),
        Node("Squeeze", (pooled,), node.outputs, {"axes": [2, 3]}, node.layer),
    ]


def _as_convolution(node: Node, graph: Graph, constants: dict[str, np.ndarray]) -> Node:
    """A normalisation with constant statistics, which no convolution could take in, as a convolution of one place and
    one channel each: runtimes compute that in 8 bits, and one weight a channel is quantized without an error."""
    plain = node.operator == "BatchNormalization" and graph.types[node.inputs[0]].rank == 4 and len(node.outputs) == 1
    line = normalization_line(node, graph.constants) if plain else None
    if line is None:
        return node
    factor, offset = line
    weight, shift = (f"{node.outputs[0]}.{part}" for part in ("factor", "shift"))
    constants[weight] = factor.astype(np.float32).reshape(-1, 1, 1, 1)
    constants[shift] = offset.astype(np.float32)
    return Node("Conv", (node.inputs[0], weight, shift), node.outputs, {"group": len(factor)}, node.layer)


def _scalar(name: str, constants) -> float | None:
    """A constant of one number."""
    array = constants.get(name)
    return float(array.item()) if array is not None and array.size == 1 and array.ndim <= 1 else None


def _factors_before_clips(graph: Graph) -> Graph:
    """k * clip(W x + b, low, high) = clip(k W x + k b, k low, k high): nothing stands between the clip and who reads
    it."""
    made_by, uses = graph.producers(), graph.uses()
    constants, replaced, gone = dict(graph.constants), {}, set()
    for node in graph.nodes:
        held = made_by.get(node.inputs[0]) if node.operator == "Mul" else None
        before = made_by.get(held.inputs[0]) if held is not None and held.operator == "Clip" else None
        factor = _scalar(node.inputs[1], constants) if before is not None and before.operator == "Conv" else None
        if factor is None or factor <= 0 or uses[held.outputs[0]] != 1 or uses[before.outputs[0]] != 1:
            continue
        if any(name and name not in constants for name in before.inputs[1:]):
            continue
        scaled = []
        for name in before.inputs[1:]:
            scaled.append(f"{name}.{node.outputs[0]}" if name else "")
            if name:
                constants[scaled[-1]] = constants[name] * np.float32(factor)
        limits = {each: value * factor for each in ("min", "max") if (value := attribute(held, each)) is not None}
        replaced[before.outputs[0]] = replace(before, inputs=(before.inputs[0], *scaled))
        replaced[held.outputs[0]] = replace(held, outputs=node.outputs, attributes=limits)
        gone.add(node.outputs[0])
    nodes = [replaced.get(node.outputs[0], node) for node in graph.nodes if node.outputs[0] not in gone]
    return rebuilt(graph, nodes, constants, graph.outputs) if gone else graph


def _gate_of_parts(chain: tuple[Node, ...], constants, added) -> Node | None:  # noqa: ARG001
    """clip(x + c, 0, 1 / k) * k as the gate that it is."""
    sum_, held, product = chain
    offset, slope = (_scalar(each.inputs[1], constants) for each in (sum_, product))
    low, high = attribute(held, "min"), attribute(held, "max")
    if offset is None or slope is None or low != 0 or high is None or slope <= 0 or abs(high * slope - 1) > 1e-6:
        return None
    return Node(
        "HardSigmoid", (sum_.inputs[0],), product.outputs, {"alpha": slope, "beta": offset * slope}, product.layer
    )


def _gated(node: Node, taken: set[str]) -> list[Node] | None:
    """x * clip(x / 6 + 1 / 2, 0, 1) by its parts, as runtimes compute it too."""
    if node.operator != "HardSwish":
        return None
    gate = _free(f"{node.outputs[0]}.gate", taken)
    return [
        Node("HardSigmoid", node.inputs, (gate,), {"alpha": 1 / 6, "beta": 0.5}, node.layer),
        Node("Mul", (node.inputs[0], gate), node.outputs, {}, node.layer),
    ]


def _free(wanted: str, taken: set[str]) -> str:
    name = free_name(wanted, taken)
    taken.add(name)
    return name
