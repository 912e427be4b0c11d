"""Runs a graph with the operators' NumPy meanings: slow, plain, and the judge of every pass."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from zygal.errors import GraphError
from zygal.graph.model import Graph
from zygal.graph.ops.base import operator_named


def run_graph(graph: Graph, inputs: Mapping[str, np.ndarray]) -> dict[str, np.ndarray]:
    """The graph's outputs by name. Raises GraphError if an input is missing."""
    missing = [name for name in graph.inputs if name not in inputs]
    if missing:
        raise GraphError(f"the graph needs the inputs {', '.join(missing)}.")
    values: dict[str, np.ndarray] = {**graph.constants, **inputs}
    uses = graph.uses()
    for node in graph.nodes:
        operator = operator_named(node.operator)
        given = [values[name] if name else None for name in node.inputs]
        values.update(zip(node.outputs, operator.compute(given, operator.complete(node.attributes))))
        for name in filter(None, node.inputs):
            uses[name] -= 1
            if not uses[name] and name not in graph.constants:
                del values[name]
    return {name: values[name] for name in graph.outputs}
