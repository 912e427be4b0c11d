"""Keras, live: a model of its own file run by the framework that made it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import EngineError, SourceError, cannot_be_started, first_line
from zygal.files.writing import scratch_folder
from zygal.machine.backends import use_installed_backend
from zygal.sources import Reading, read_source
from zygal.sources.keras import open_keras, read_structure
from zygal.sources.keras.plain import write_plain_copy
from zygal.sources.keras.reader import scores_choice
from zygal.sources.keras.translate import input_type, refuse_own_code
from zygal.sources.keras.weights import Weights

OLDEST = (3, 12)
"""Releases before it follow what a file names further than they should."""
COMPILED, EAGER = "compiled", "eager"
"""Ways to run a model: its compiled prediction on a batch, and layer by layer."""


class KerasEngine:
    """A Keras model in the live framework, on the back end that KERAS_BACKEND names, else the first installed.

    model: the model of which the file was written, which is then run itself. Raises EngineError if Keras or every back
    end is missing, and what the reader of the file raises: a model with code of its own is refused before the framework
    sees it.
    """

    ways = (COMPILED, EAGER)
    captured_in_training = False

    def __init__(self, path: str | Path, reading: Reading = Reading(), model: Any = None):
        with open_keras(path) as file, scratch_folder() as folder:
            structure = read_structure(file.configuration, file.path, file.version)
            refuse_own_code(file, structure)
            self.input_type = input_type(file, structure, reading.image_shape)
            self.chosen = scores_choice(file, structure, Weights(file, structure), reading)
            self.output_names = tuple(structure.outputs)
            self._output, self._place = self.chosen.name, self.output_names.index(self.chosen.name)
            copy = write_plain_copy(file, folder) if model is None else None
            keras = _framework(path)
            self.name, self.path, self._file, self.batch_size = "Keras", Path(path), Path(path), None
            self.version = f"{keras.__version__} on {keras.backend.backend()}"
            try:
                self._model = keras.saving.load_model(copy, compile=False, safe_mode=True) if model is None else model
            except Exception as fault:  # Any fault of the framework's loader means the same to the user.
                raise SourceError(f"{path} cannot be loaded by Keras {self.version} ({first_line(fault)}).") from fault
        self._keras = keras

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            result = self._model(batch, training=False)
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run by Keras on tensors {list(batch.shape)} of {batch.dtype} "
                f"({first_line(fault)})."
            ) from fault
        if isinstance(result, dict):
            result = result[self._output]
        elif isinstance(result, (list, tuple)):
            result = result[self._place]
        return np.asarray(self._keras.ops.convert_to_numpy(result), np.float32)

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare call that a user makes for a batch, for timing. way: one of `ways`; the first unless given."""
        if way == EAGER:
            return lambda: self._keras.ops.convert_to_numpy(self._first(self._model(batch, training=False)))
        return lambda: self._model.predict_on_batch(batch)

    @staticmethod
    def _first(result: Any) -> Any:
        while isinstance(result, (dict, list, tuple)):
            result = next(iter(result.values() if isinstance(result, dict) else result))
        return result

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did. Only the PyTorch back end can be told."""
        if self._keras.backend.backend() != "torch":
            return False
        import torch

        if torch.get_num_threads() != count:
            torch.set_num_threads(count)
        return True

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name, its output."""
        with read_source(self._file) as source:
            # The output of a layer is what its last node makes.
            ends = {node.layer: node.outputs[0] for node in source.graph.nodes if node.layer}
        layers = [layer for layer in self._model.layers if layer.name in ends]
        outputs = [layer.output for layer in layers]
        single = [(layer, each) for layer, each in zip(layers, outputs) if not isinstance(each, (list, tuple, dict))]
        results = self._keras.Model(self._model.inputs[0], [each for _, each in single])(batch, training=False)
        results = results if isinstance(results, (list, tuple)) else [results]
        arrays = [np.asarray(self._keras.ops.convert_to_numpy(result), np.float32) for result in results]
        order = {value: position for position, value in enumerate(ends.values())}
        found = [(layer.name, ends[layer.name], array) for (layer, _), array in zip(single, arrays)]
        return sorted(found, key=lambda each: order[each[1]])


def _framework(path: str | Path):
    """Keras on a back end that is there."""
    use_installed_backend()
    try:
        import keras
    except Exception as fault:  # A back end that cannot be started raises what it likes.
        raise cannot_be_started(path, "Keras", "keras", fault, elsewhere=True) from fault
    if _release(keras.__version__) < OLDEST:
        raise EngineError(
            f"Keras {keras.__version__} is too old (its loader can run code of a file); at least "
            f"{'.'.join(map(str, OLDEST))} is needed: pip install --upgrade keras."
        )
    return keras


def _release(version: str) -> tuple[int, ...]:
    return tuple(int(part) for part in version.split(".")[:2] if part.isascii() and part.isdigit())
