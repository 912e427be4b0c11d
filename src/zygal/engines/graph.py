"""Graphs that are in memory, run in ONNX Runtime."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

import numpy as np

from zygal.engines.session import SessionSettings, open_session
from zygal.errors import EngineError, first_line
from zygal.graph import Graph
from zygal.graph.passes.dead import remove_dead


class GraphEngine:
    """A graph in a session with `threads` threads. names: the values that it gives; the outputs unless named."""

    batch_size = None

    def __init__(self, graph: Graph, names: Collection[str] | None = None, threads: int | None = None):
        from zygal.artifact.onnx.spelling import lowest_opset
        from zygal.artifact.onnx.write import model_bytes

        self.names = list(graph.outputs if names is None else names)
        # What the graph is given can be asked for too, but a session cannot give it back.
        self._made = [name for name in self.names if name not in graph.inputs]
        wanted = remove_dead(replace(graph, outputs=tuple(self._made or graph.outputs)))
        self._session = open_session(model_bytes(wanted, lowest_opset(wanted)), SessionSettings(threads))
        self.name, self._inputs = self._session.runtime, graph.inputs

    def values(self, *given: np.ndarray) -> dict[str, np.ndarray]:
        """The values by name, for what the graph takes. Raises EngineError."""
        feed = dict(zip(self._inputs, given))
        try:
            made = self._session.run(self._made, feed) if self._made else []
        except Exception as fault:
            raise EngineError(
                f"the model cannot be run on tensors {[list(each.shape) for each in given]} ({first_line(fault)})."
            ) from fault
        found = {**feed, **dict(zip(self._made, made))}
        return {name: found[name] for name in self.names}

    def run(self, *given: np.ndarray) -> np.ndarray:
        """The first of the values."""
        return self.values(*given)[self.names[0]]
