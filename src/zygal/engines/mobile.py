"""The mobile runtime, live: a flatbuffer of anyone's run as its device would run it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from zygal.engines.mobile_inside import values
from zygal.engines.mobile_session import MobileSession, runtime_name
from zygal.engines.session import SessionSettings
from zygal.errors import EngineError, SourceError, first_line
from zygal.files.families import Reading
from zygal.graph import TensorType
from zygal.sources.mobile.names import layer_of, stem_of
from zygal.sources.mobile.reader import opened
from zygal.sources.mobile.translate import input_shape

INTERPRETER = "interpreter"
"""The way to run a flatbuffer."""


class MobileEngine:
    """One output of a flatbuffer. Stored numbers at both ends are real numbers here, as in the artifact that is made of
    the file, but for uint8 images, which are taken as they are.

    Raises EngineError if the runtime is not installed, SourceError if there is no such output.
    """

    name, ways = "LiteRT", (INTERPRETER,)
    captured_in_training = False

    def __init__(self, path: str | Path, reading: Reading = Reading(), model: Any = None):
        self.path, self._file = Path(path), Path(path)
        self._opened = file = opened(path, reading)
        if len(file.inputs) != 1:
            raise SourceError(
                f"{path} takes {len(file.inputs)} inputs ({', '.join(file.inputs)}); an image classifier takes one."
            )
        self.chosen, self.output_names = file.chosen, tuple(file.outputs)
        self.version = runtime_name().rpartition(" ")[2]
        self._session = self._open(SessionSettings())
        given = file.model.tensors[file.model.inputs[0]]
        shape = input_shape(given, str(path), reading.image_shape)
        self.input_type = TensorType(np.dtype("float32" if self._given.takes_real else given.dtype), shape)
        self.batch_size = shape[0] if shape and isinstance(shape[0], int) else None

    def _open(self, settings: SessionSettings) -> MobileSession:
        session = MobileSession(self._file, settings)
        outputs = {port.name: port for port in session.outputs}
        if self.chosen.name not in outputs or len(session.inputs) != 1:
            raise SourceError(
                f"{self.path} has several signatures, of which the mobile runtime runs the first; save the "
                f"classifier alone."
            )
        (self._given,), self._made = session.inputs, outputs[self.chosen.name]
        return session

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            (result,) = self._session.run([self.chosen.name], {self._given.name: self._given.stored(batch)})
        except Exception as fault:  # The runtime raises what it likes.
            raise EngineError(
                f"{self.path} cannot be run by the mobile runtime on tensors {list(batch.shape)} of "
                f"{batch.dtype} ({first_line(fault)})."
            ) from fault
        return self._made.real(result)

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare call that a user makes for a batch, for timing."""
        feed = {self._given.name: self._given.stored(batch)}
        return lambda: self._session.run([self.chosen.name], feed)

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        self._session = self._open(SessionSettings(count))
        return True

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name in the graph, its output."""
        found: dict[str, str] = {}
        for operator in self._opened.model.operators:
            tensor = self._opened.model.tensors[operator.outputs[0]]
            if tensor.data is None and tensor.dtype in ("float32", "int8", "uint8") and len(tensor.shape) > 1:
                found[layer_of(tensor.name)] = stem_of(tensor.name)
        arrays = values(
            self._file, self._given.name, self._given.stored(batch), list(found.values()), self.batch_size or 1
        )
        return [(layer, value, arrays[value]) for layer, value in found.items()]
