"""What the units of a graph take in the runtime, each by itself, from the runtime's own profile."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import onnx

from zygal.artifact.onnx.spelling import lowest_opset
from zygal.artifact.onnx.write import model_bytes
from zygal.bench.layers import Owners, profile
from zygal.engines.session import SessionSettings
from zygal.graph import Graph

SECONDS = 0.5


def unit_seconds(
    graph: Graph, results: Mapping[str, str], batch: np.ndarray, threads: int | None
) -> tuple[dict[str, float], float]:
    """Seconds of a run by unit, and those of everything else. results: for names of values in the graph the unit that
    makes them."""
    file = model_bytes(graph, lowest_opset(graph))
    nodes = onnx.load_model_from_string(file).graph.node
    found = profile(file, {graph.inputs[0]: batch}, SessionSettings(threads), len(nodes), SECONDS)
    work = {index: 1 for index, node in enumerate(nodes) if node.output[0] in results}
    owners = Owners(nodes, found.joined, work)
    seconds, others = dict.fromkeys(results.values(), 0.0), 0.0
    for (name, operator), each in found.kernels.items():
        node = owners.owner_of(name, operator)
        unit = results.get(node.output[0]) if node is not None else None
        if unit is None:
            others += float(np.median(each))
        else:
            seconds[unit] += float(np.median(each))
    return seconds, others
