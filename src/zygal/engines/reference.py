"""The operators' NumPy meanings as an engine: slow, and independent of any runtime."""

from __future__ import annotations

import numpy as np

from zygal.graph import Graph
from zygal.graph.reference import run_graph


class ReferenceEngine:
    """A graph by the operators' NumPy meanings: slow, and independent of every runtime."""

    name = "the reference engine"

    def __init__(self, graph: Graph):
        self._graph = graph
        first = graph.types[graph.inputs[0]].shape[0]
        self.batch_size = first if isinstance(first, int) else None

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        return run_graph(self._graph, {self._graph.inputs[0]: batch})[self._graph.outputs[0]]
