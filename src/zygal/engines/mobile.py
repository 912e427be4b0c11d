"""The mobile runtime, live: a flatbuffer of anyone's run as its device would run it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from zygal.engines.mobile_session import MobileSession, open_interpreter, runtime_name
from zygal.engines.session import SessionSettings
from zygal.errors import EngineError, SourceError, first_line
from zygal.graph import Batch, TensorType
from zygal.mobile.model import Quantization
from zygal.sources.families import Reading
from zygal.sources.mobile.names import layer_of, stem_of
from zygal.sources.mobile.reader import opened
from zygal.sources.mobile.translate import Translator

INTERPRETER = "interpreter"
"""The way to run a flatbuffer."""


class MobileEngine:
    """One output of a flatbuffer. Stored numbers at both ends are real numbers here, as in the artifact that is made of the file, but
    for uint8 images, which are taken as they are.

    Raises EngineError if the runtime is not installed, SourceError if there is no such output.
    """

    name, ways = "LiteRT", (INTERPRETER,)
    captured_in_training = False

    def __init__(self, path: str | Path, reading: Reading = Reading(), model: Any = None):
        self.path, self._file = Path(path), Path(path)
        self._opened = file = opened(path, reading)
        if len(file.inputs) != 1:
            raise SourceError(f"{path} takes {len(file.inputs)} inputs ({', '.join(file.inputs)}); an image classifier takes one.")
        self.chosen, self.output_names = file.chosen, tuple(file.outputs)
        self.version = runtime_name().rpartition(" ")[2]
        tensors = file.model.tensors
        self._given, self._made = tensors[file.model.inputs[0]], tensors[file.outputs[file.chosen.name]]
        self._takes_real = self._given.quantization is not None and self._given.dtype != "uint8"
        shape = tuple(Batch() if axis == 0 and size is None else given for axis, (size, given) in enumerate(zip(self._given.sizes, self._given.shape)))
        self.input_type = TensorType(np.dtype("float32" if self._takes_real else self._given.dtype), shape)
        self.batch_size = shape[0] if shape and isinstance(shape[0], int) else None
        self._settings = SessionSettings()
        self._session = self._open()

    def _open(self) -> MobileSession:
        session = MobileSession(self._file, self._settings)
        names = [port.name for port in session.outputs]
        if self.chosen.name not in names or len(session.inputs) != 1:
            raise SourceError(f"{self.path} has several signatures, of which the mobile runtime runs the first; save the classifier alone.")
        return session

    def run(self, batch: np.ndarray) -> np.ndarray:
        try:
            (result,) = self._session.run([self.chosen.name], {self._session.inputs[0].name: self._stored(batch)})
        except Exception as fault:  # The runtime raises what it likes.
            raise EngineError(
                f"{self.path} cannot be run by the mobile runtime on tensors {list(batch.shape)} of {batch.dtype} ({first_line(fault)})."
            ) from fault
        return _real(result, self._made.quantization)

    def _stored(self, batch: np.ndarray) -> np.ndarray:
        if not self._takes_real:
            return batch
        given, limits = self._given.quantization, np.iinfo(self._given.dtype)
        whole = np.rint(batch / given.scales.astype(np.float32)) + given.zero_points
        return np.clip(whole, limits.min, limits.max).astype(self._given.dtype)

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare call that a user makes for a batch, for timing."""
        name, stored = self._session.inputs[0].name, self._stored(batch)
        return lambda: self._session.run([self.chosen.name], {name: stored})

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        self._settings = SessionSettings(count)
        self._session = self._open()
        return True

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name in the graph, its output."""
        translator = Translator(self._opened.model, str(self.path))
        translator.run()
        interpreter = open_interpreter(self._file, SessionSettings(1, "off"), experimental_preserve_all_tensors=True)
        (given,) = interpreter.get_input_details()
        one = np.repeat(self._stored(batch), (self.batch_size or len(batch)) // len(batch), axis=0)
        if tuple(given["shape"]) != one.shape:
            interpreter.resize_tensor_input(given["index"], one.shape)
            interpreter.allocate_tensors()
        interpreter.set_tensor(given["index"], one)
        interpreter.invoke()
        found: dict[str, tuple[str, np.ndarray]] = {}
        for operator in self._opened.model.operators:
            number = operator.outputs[0]
            tensor = self._opened.model.tensors[number]
            if tensor.data is None and tensor.dtype in ("float32", "int8", "uint8") and len(tensor.shape) > 1:
                array = _real(interpreter.get_tensor(number), tensor.quantization)
                found[layer_of(tensor.name)] = stem_of(tensor.name), array[: len(batch)]
        return [(layer, value, array) for layer, (value, array) in found.items()]


def _real(array: np.ndarray, given: Quantization | None) -> np.ndarray:
    if given is None or array.dtype.kind == "f":
        return array.astype(np.float32, copy=False)
    return (array.astype(np.int32) - np.int32(given.zero_points[0])).astype(np.float32) * given.scales[0].astype(np.float32)
