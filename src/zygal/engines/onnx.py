"""ONNX Runtime, live: a file of anyone's run as it came, with the optimisation that the runtime does by itself."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from zygal.artifact.onnx.read import facts_of
from zygal.engines.onnx_inside import values
from zygal.engines.session import Session, SessionSettings, open_session
from zygal.errors import EngineError, first_line
from zygal.files.families import Reading
from zygal.onnx.read import load_model
from zygal.sources.onnx.reader import check_one_input
from zygal.sources.onnx.tensors import input_type

SESSION = "session"
"""The way to run an ONNX file."""


class OnnxEngine:
    """One output of an ONNX file. Raises FileError, ArtifactError or SourceError."""

    name, ways = "ONNX Runtime", (SESSION,)
    captured_in_training = False

    def __init__(self, path: str | Path, reading: Reading = Reading(), model: Any = None):
        self.path, self._file, message = Path(path), Path(path), load_model(path)
        info = check_one_input(path, message)
        facts = facts_of(self._file, message, reading.output, reading.classes)
        self.chosen, self.output_names, self._given = facts.chosen, tuple(facts.outputs), info.name
        self.input_type = input_type(info, str(path), reading.image_shape)
        first = self.input_type.shape[0] if self.input_type.shape else None
        self.batch_size = first if isinstance(first, int) else None
        self._layers = _layers(message)
        self._session = self._open(SessionSettings())
        self.version = self._session.runtime.rpartition(" ")[2]

    def _open(self, settings: SessionSettings) -> Session:
        return open_session(self._file, settings, validated=True)

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            return self.prepared(batch)()[0]
        except Exception as fault:  # The runtime's exceptions share no class of their own.
            raise EngineError(
                f"{self.path} cannot be run on tensors {list(batch.shape)} of {batch.dtype} ({first_line(fault)})."
            ) from fault

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:  # noqa: ARG002
        """The bare call that a user makes for a batch, for timing."""
        feed = {self._given: batch}
        return lambda: self._session.run([self.chosen.name], feed)

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        self._session = self._open(SessionSettings(count))
        return True

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each node, in the order in which they run: its layer, its output's name, its output."""
        arrays = values(self._file, self._given, batch, list(self._layers.values()), self.batch_size or 1)
        found = [(layer, value, arrays[value]) for layer, value in self._layers.items()]
        return [each for each in found if each[2].dtype.kind == "f"]


def _layers(model: Any) -> dict[str, str]:
    """By layer the value that it ends in."""
    constants = {tensor.name for tensor in model.graph.initializer}
    found: dict[str, str] = {}
    for node in model.graph.node:
        moving = any(name and name not in constants for name in node.input)
        if not moving:
            constants.update(node.output)
            continue
        if node.op_type not in ("Shape", "Size", "Loop", "If"):
            found[node.name.rpartition("/")[0] or node.name or node.output[0]] = node.output[0]
    return found
