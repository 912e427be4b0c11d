"""Stretches of stored numbers stay stored: what only moves or picks them is done to them as they are."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node
from zygal.graph.passes.rules import Constants, Rule, attribute

_MOVING = ("Reshape", "Flatten", "Transpose", "Squeeze", "Unsqueeze", "Slice", "Gather", "Tile", "DepthToSpace", "SpaceToDepth", "MaxPool", "Pad")
"""Operators whose results are some of the numbers that they are given."""


def _steps(node: Node, known: Mapping[str, np.ndarray]) -> tuple[np.ndarray, np.ndarray] | None:
    """The one scale and the zero point of a node; None if there are several, or if they are not constant."""
    if len(node.inputs) < 3 or any(name not in known for name in node.inputs[1:3]):
        return None
    scale, zero = (known[name] for name in node.inputs[1:3])
    return (scale, zero) if scale.ndim == 0 else None


def moved_as_stored(chain: tuple[Node, ...], known: Mapping[str, np.ndarray], added: Constants) -> Node | None:
    """Numbers that are read, moved, and stored again in the same steps. What a border is filled with is stored, too."""
    read, moved, stored = chain
    before, after = _steps(read, known), _steps(stored, known)
    if before is None or after is None or before[1].dtype != after[1].dtype or any(one != other for one, other in zip(before, after)):
        return None
    attributes = dict(moved.attributes)
    if moved.operator == "Pad" and attribute(moved, "mode") == "constant":
        if attribute(moved, "value") != 0:
            return None
        attributes["value"] = int(before[1])
    return replace(moved, inputs=(read.inputs[0], *moved.inputs[1:]), outputs=stored.outputs, attributes=attributes)


RULES: tuple[Rule, ...] = tuple(Rule(("DequantizeLinear", name, "QuantizeLinear"), moved_as_stored) for name in _MOVING)


def stored_borders_into_convolutions(graph: Graph) -> Graph:
    """A border of stored zeros, which are the zero point, is what the pads of the convolution behind it are."""
    made_by, uses, known = graph.producers(), graph.uses(), graph.constants
    gone: set[str] = set()
    replaced: dict[str, list[Node]] = {}
    for node in graph.nodes:
        read = made_by.get(node.inputs[0]) if node.operator == "Conv" else None
        border = made_by.get(read.inputs[0]) if read is not None and read.operator == "DequantizeLinear" else None
        if border is None or border.operator != "Pad" or uses[read.inputs[0]] != 1 or uses[node.inputs[0]] != 1:
            continue
        pads, steps = list(attribute(border, "pads")), _steps(read, known)
        rank = len(pads) // 2
        begins, ends = pads[:rank], pads[rank:]
        filled = attribute(border, "mode") == "constant" and steps is not None and attribute(border, "value") == steps[1]
        if not filled or any(begins[:2] + ends[:2]) or min(pads) < 0:
            continue
        own = list(attribute(node, "pads") or [0] * 2 * (rank - 2))
        together = [one + other for one, other in zip(own, begins[2:] + ends[2:])]
        gone.update((border.outputs[0], read.outputs[0]))
        inner = replace(read, inputs=(border.inputs[0], *read.inputs[1:]))
        replaced[node.outputs[0]] = [inner, replace(node, attributes={**node.attributes, "pads": together})]
    if not replaced:
        return graph
    nodes = [each for node in graph.nodes if node.outputs[0] not in gone for each in replaced.get(node.outputs[0], [node])]
    return rebuilt(graph, nodes, dict(graph.constants), graph.outputs)
