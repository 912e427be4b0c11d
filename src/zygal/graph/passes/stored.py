"""Numbers that are stored in few bits, between a reader and a writer of real ones.

Runtimes look for operators with a DequantizeLinear directly before and a QuantizeLinear directly behind, and compute
with the stored numbers then; so nothing is put between, and what stands there without doing anything is taken out.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node
from zygal.graph.passes.dead import remove_dead
from zygal.graph.passes.rules import attribute


def join_stored_borders(graph: Graph) -> Graph:
    """A border of zeros around an image that is read and stored again in the same steps: stored, it is the zero point,
    which is read as zero. So the border can be the pads of the convolution behind it."""
    made_by, uses = graph.producers(), graph.uses()
    replaced: dict[str, Node] = {}
    for node in graph.nodes:
        chain = (
            _behind(node, ("DequantizeLinear", "QuantizeLinear", "Pad", "DequantizeLinear"), made_by)
            if node.operator == "Conv"
            else None
        )
        if chain is None or any(uses[each.outputs[0]] != 1 for each in chain[:3]):
            continue
        after, stored, border, before = chain
        pads = list(attribute(border, "pads"))
        rank = len(pads) // 2
        begins, ends = pads[:rank], pads[rank:]
        zeros = attribute(border, "mode") == "constant" and attribute(border, "value") == 0
        if (
            not zeros
            or any(begins[:2] + ends[:2])
            or min(pads) < 0
            or not _same_steps((before, stored, after), graph.constants)
        ):
            continue
        own = list(attribute(node, "pads") or [0] * 2 * (rank - 2))
        together = [one + other for one, other in zip(own, begins[2:] + ends[2:])]
        replaced[node.outputs[0]] = replace(
            node, inputs=(before.outputs[0], *node.inputs[1:]), attributes={**node.attributes, "pads": together}
        )
    return _with(graph, replaced)


def drop_limits_of_storing(graph: Graph) -> Graph:
    """Takes out rectifiers and clips that take away only what cannot be stored anyway, behind operators that
    compute."""
    made_by, uses = graph.producers(), graph.uses()
    replaced: dict[str, Node] = {}
    for node in graph.nodes:
        held = made_by.get(node.inputs[0]) if node.operator == "QuantizeLinear" else None
        if held is None or held.operator not in ("Relu", "Clip") or uses[held.outputs[0]] != 1:
            continue
        before = made_by.get(held.inputs[0])
        # Numbers that are only stored in other steps must not be: runtimes join two roundings that follow each other.
        if (
            before is not None
            and before.operator != "DequantizeLinear"
            and _is_held_by_storing(held, node, graph.constants)
        ):
            replaced[node.outputs[0]] = replace(node, inputs=(held.inputs[0], *node.inputs[1:]))
    return _with(graph, replaced)


FEWEST_HALVED = 64
"""Smaller constants stay as they are: nothing would be saved."""


def halved(graph: Graph) -> Graph:
    """The larger float32 constants stored as float16, each behind a Cast that a runtime computes once, when it loads
    the file. What float16 cannot hold stays as it is."""
    constants, casts = dict(graph.constants), []
    read = {name for node in graph.nodes for name in node.inputs}
    for name, array in graph.constants.items():
        if array.dtype != np.float32 or array.size < FEWEST_HALVED or name not in read or name in graph.outputs:
            continue
        with np.errstate(over="ignore"):
            half = np.ascontiguousarray(array).astype(np.float16)
        if not np.isfinite(half).all():
            continue
        del constants[name]
        stored = f"{name}.half"
        constants[stored] = half
        casts.append(Node("Cast", (stored,), (name,), {"to": "float32"}))
    return rebuilt(graph, [*casts, *graph.nodes], constants, graph.outputs)


def _with(graph: Graph, replaced: Mapping[str, Node]) -> Graph:
    """The graph with some nodes replaced; what nothing reads then is taken out."""
    if not replaced:
        return graph
    nodes = [replaced.get(node.outputs[0], node) for node in graph.nodes]
    return remove_dead(rebuilt(graph, nodes, dict(graph.constants), graph.outputs))


def _behind(node: Node, operators: tuple[str, ...], made_by: Mapping[str, Node]) -> list[Node] | None:
    """The nodes that lead to a node, each by its first input, the last one first; None if they are others."""
    chain = []
    for operator in operators:
        node = made_by.get(node.inputs[0])
        if node is None or node.operator != operator:
            return None
        chain.append(node)
    return chain


def _steps(node: Node, known: Mapping[str, np.ndarray]) -> tuple[np.ndarray, np.ndarray] | None:
    """The one scale and the zero point of a node; None if there are several, or if they are not constant."""
    if len(node.inputs) < 3 or any(name not in known for name in node.inputs[1:3]):
        return None
    scale, zero = (known[name] for name in node.inputs[1:3])
    return (scale, zero) if scale.ndim == 0 else None


def _same_steps(nodes: tuple[Node, ...], known: Mapping[str, np.ndarray]) -> bool:
    steps = [_steps(node, known) for node in nodes]
    return None not in steps and len({(float(scale), int(zero), zero.dtype) for scale, zero in steps}) == 1


def _is_held_by_storing(held: Node, stored: Node, known: Mapping[str, np.ndarray]) -> bool:
    """Whether the ends of a rectifier or a clip are those of what can be stored."""
    steps = _steps(stored, known)
    if steps is None:
        return False
    low, high = (0.0, None) if held.operator == "Relu" else (attribute(held, "min"), attribute(held, "max"))
    limits = np.iinfo(steps[1].dtype)
    ends = [(end, limit) for end, limit in ((low, limits.min), (high, limits.max)) if end is not None]
    return all(
        np.clip(np.rint(np.float32(end) / steps[0]) + int(steps[1]), limits.min, limits.max) == limit
        for end, limit in ends
    )
