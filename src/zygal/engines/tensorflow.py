"""TensorFlow, live: a saved-model folder or a frozen graph run by the framework that made it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import EngineError, SourceError, cannot_be_started, first_line
from zygal.files.families import Reading
from zygal.machine.libraries import without_native_messages
from zygal.sources.tensorflow.flat import FlatGraph, flat_graph
from zygal.sources.tensorflow.harmless import refuse_harmful
from zygal.sources.tensorflow.model import Model, open_model
from zygal.sources.tensorflow.reader import scores_choice

COMPILED = "compiled"
"""The way to run a graph: the framework's own compiled function of a signature."""


class TensorFlowEngine:
    """One output of a signature, or of a frozen graph, in the live framework.

    A folder is loaded by the framework itself. A frozen graph, and a model that takes encoded images and is run behind
    its decoder, come in as the flat graph of what is run. Raises EngineError if TensorFlow is not installed,
    SourceError if a graph holds anything that could do harm, or if there is no such output.
    """

    name, ways = "TensorFlow", (COMPILED,)

    def __init__(self, path: str | Path, reading: Reading = Reading(), model: Any = None):
        self._model = opened = open_model(path, reading)
        refuse_harmful(opened.file)
        self.chosen = scores_choice(opened, reading)
        graph = opened.graph_of(self.chosen.name)
        self.input_type, self.output_names = graph.types[graph.inputs[0]], tuple(opened.output_names)
        first = self.input_type.shape[0]
        self.batch_size = first if isinstance(first, int) else None
        self.captured_in_training = opened.in_training
        self._tensorflow = tensorflow = _framework(path)
        self.version, self.path = tensorflow.__version__, Path(path)
        # What is loaded must stay, or its variables go.
        self._kept: Any = None
        alone = self._is_taken_alone(opened)
        flat = None if alone else flat_graph(opened, self.chosen.name)
        try:
            with without_native_messages():
                self._function = self._by_framework(opened) if alone else self._flat(flat)
        except Exception as fault:  # Any fault of the framework's loader means the same to the user.
            raise SourceError(f"{path} cannot be loaded by TensorFlow {self.version} ({first_line(fault)}).") from fault

    @staticmethod
    def _is_taken_alone(opened: Model) -> bool:
        """Whether the framework can load the signature itself, and its one input is what the artifact takes."""
        signature = opened.signature
        if opened.file.meta is None or signature is None or signature.function is not None or opened.image.is_text:
            return False
        return len(signature.inputs) == 1 and not opened.hidden_inputs

    def _by_framework(self, opened: Model) -> Callable[[Any], Any]:
        self._kept = self._tensorflow.saved_model.load(str(opened.file.path), tags=list(opened.signature.tags))
        function, key = self._kept.signatures[opened.signature.name], opened.image.key
        return lambda batch: function(**{key: batch})[self.chosen.name]

    def _flat(self, flat: FlatGraph) -> Callable[[Any], Any]:
        self._kept = self._imported(flat.content, flat.feed, [flat.output])
        return lambda batch: self._kept(batch)[0]

    def _imported(self, content: bytes, feed: str, fetches: list[str]) -> Any:
        """A function of a graph that is stated as bytes."""
        tensorflow = self._tensorflow
        graph = tensorflow.compat.v1.GraphDef()
        graph.ParseFromString(content)
        wrapped = tensorflow.compat.v1.wrap_function(lambda: tensorflow.compat.v1.import_graph_def(graph, name=""), [])
        return wrapped.prune(
            [wrapped.graph.get_tensor_by_name(feed)], [wrapped.graph.get_tensor_by_name(each) for each in fetches]
        )

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            result = self._function(self._tensorflow.constant(batch))
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run by TensorFlow on tensors {list(batch.shape)} of {batch.dtype} "
                f"({first_line(fault)})."
            ) from fault
        return np.asarray(self._tensorflow.cast(result, self._tensorflow.float32))

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare call that a user makes for a batch, for timing."""
        tensor = self._tensorflow.constant(batch)
        return lambda: np.asarray(self._function(tensor))

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did. The framework is told once, before it runs
        anything."""
        return False

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name, its output."""
        flat = flat_graph(self._model, self.chosen.name)
        function = self._imported(flat.content, flat.feed, [tensor for tensor, _ in flat.layers.values()])
        size = self.batch_size or len(batch)
        results = function(self._tensorflow.constant(np.repeat(batch, size // len(batch), axis=0)))
        return [
            (layer, value, np.asarray(self._tensorflow.cast(result, self._tensorflow.float32))[: len(batch)])
            for (layer, (_, value)), result in zip(flat.layers.items(), results)
            if result.shape.rank
        ]


def _framework(path: str | Path) -> Any:
    try:
        with without_native_messages():
            import tensorflow
    except Exception as fault:  # A package that does not fit this machine raises what it likes.
        raise cannot_be_started(path, "TensorFlow", "tensorflow", fault, elsewhere=True) from fault
    return tensorflow
