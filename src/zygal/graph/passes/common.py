"""Computes once what is computed several times, and keeps equal constants once."""

from __future__ import annotations

from collections.abc import Hashable
from typing import Any

import numpy as np

from zygal.graph.build import rebuilt
from zygal.graph.model import Graph, Node

LARGEST_COMPARED_BYTES = 4096


def share_common(graph: Graph) -> Graph:
    """Nodes of the same operator, inputs and attributes become one; so do equal small constants."""
    same = _equal_constants(graph.constants)
    seen: dict[Hashable, Node] = {}
    kept: list[Node] = []
    for node in graph.nodes:
        node = node.reading(same)
        key = (node.operator, node.inputs, _frozen(dict(node.attributes)), len(node.outputs))
        first = seen.setdefault(key, node)
        if first is node:
            kept.append(node)
        else:
            same.update(zip(node.outputs, first.outputs))
    outputs = [same.get(name, name) for name in graph.outputs]
    return rebuilt(graph, kept, dict(graph.constants), outputs)


def _equal_constants(constants) -> dict[str, str]:
    """Names of constants that equal an earlier one, with that one's name."""
    first: dict[Hashable, str] = {}
    same: dict[str, str] = {}
    for name, array in constants.items():
        if array.nbytes <= LARGEST_COMPARED_BYTES:
            key = (array.dtype.str, array.shape, np.ascontiguousarray(array).tobytes())
            if first.setdefault(key, name) != name:
                same[name] = first[key]
    return same


def _frozen(value: Any) -> Hashable:
    if isinstance(value, dict):
        return tuple(sorted((name, _frozen(each)) for name, each in value.items()))
    return tuple(_frozen(each) for each in value) if isinstance(value, (list, tuple)) else value
