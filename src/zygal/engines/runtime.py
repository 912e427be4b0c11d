"""ONNX Runtime on the CPU, through its session interface."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from zygal.engines.session import DTYPES, SessionSettings, open_session, runtime_name
from zygal.errors import ArtifactError, EngineError, first_line

if TYPE_CHECKING:
    from zygal.artifact.read import Artifact


class RuntimeEngine:
    """An artifact in a session of ONNX Runtime with `threads` threads (None: as many as there are cores). output: which of its
    outputs; the first unless named."""

    def __init__(self, path: str | Path, threads: int | None = None, output: str | None = None):
        self.name, self.path = runtime_name(), Path(path)
        self._session = open_session(path, SessionSettings(threads))
        inputs, outputs = self._session.get_inputs(), self._session.get_outputs()
        if len(inputs) != 1:
            names = ", ".join(each.name for each in inputs)
            raise ArtifactError(f"{path} takes {len(inputs)} inputs ({names}); an image classifier takes one.")
        self.input_name, self.output_name = inputs[0].name, output or outputs[0].name
        self.input_shape, self.input_dtype = inputs[0].shape, DTYPES.get(inputs[0].type, "float32")
        first = self.input_shape[0] if self.input_shape else None
        self.batch_size = first if isinstance(first, int) and first > 0 else None

    def run(self, batch: np.ndarray) -> np.ndarray:
        try:
            return self._session.run([self.output_name], {self.input_name: batch})[0]
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run on tensors {list(batch.shape)} of {batch.dtype} ({first_line(fault)})."
            ) from fault

    def values(self, batch: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
        """The values of those names that are in the graph, on a batch run image by image. Raises EngineError."""
        model = _without_weights(self.path)
        return _values(model, self.path, self.input_name, batch, names, self.batch_size or 1)


def open_engine(artifact: Artifact) -> RuntimeEngine | RawPixelEngine:
    """The engine of an artifact that was read: of one that takes raw pixels, the model behind its own inlet.

    Raises ArtifactError or EngineError.
    """
    metadata = artifact.metadata
    if metadata.tensor is None:
        return RuntimeEngine(artifact.path, output=artifact.chosen.name)
    inlet = metadata.inlet
    return RawPixelEngine(artifact.path, metadata.tensor, inlet.tensor_shape(), inlet.tensor.dtype)


class RawPixelEngine:
    """An artifact that takes raw pixels, in two parts: its own inlet, and the model behind it, whose input is `tensor`.

    `inspect` runs the whole; as an engine it is the model alone.
    """

    batch_size = None

    def __init__(self, path: str | Path, tensor: str, shape: tuple[int, ...], dtype: str):
        import onnx

        whole = RuntimeEngine(path)
        self.input_shape = ("N", *shape)
        self.name, self.path, self._tensor = whole.name, Path(path), tensor
        self.input_name, self.output_name = whole.input_name, whole.output_name
        self._whole = _session_fetching(_without_weights(path), [tensor], path)
        model = _without_weights(path)
        behind, needed = [], {self.output_name}
        for node in reversed(model.graph.node):
            if tensor not in node.output and needed & set(node.output):
                behind.append(node)
                needed |= set(node.input)
        kept = list(reversed(behind))
        del model.graph.node[:], model.graph.input[:]
        model.graph.node.extend(kept)
        kind = onnx.helper.np_dtype_to_tensor_dtype(np.dtype(dtype))
        model.graph.input.append(onnx.helper.make_tensor_value_info(tensor, kind, ["N", *shape]))
        self._behind, self._model = model, _session_fetching(model, [], path)

    def run(self, batch: np.ndarray) -> np.ndarray:
        """Scores of tensors [N, ...], past the artifact's own inlet. Raises EngineError."""
        return self._run(self._model, [self.output_name], {self._tensor: batch})[0]

    def values(self, batch: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
        """The values of those names that are behind the artifact's own inlet. Raises EngineError."""
        model = type(self._behind)()
        model.CopyFrom(self._behind)
        return _values(model, self.path, self._tensor, batch, names)

    def inspect(self, pixels: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The tensor [N, ...] that the artifact's own inlet makes of 8-bit images [N, H, W, 3], and the scores."""
        tensor, scores = self._run(self._whole, [self._tensor, self.output_name], {self.input_name: pixels})
        return tensor, scores

    def _run(self, session, names: list[str], feed: dict[str, np.ndarray]) -> list[np.ndarray]:
        try:
            return session.run(names, feed)
        except Exception as fault:
            shapes = ", ".join(f"{list(array.shape)} of {array.dtype}" for array in feed.values())
            raise EngineError(f"{self.path} cannot be run on {shapes} ({first_line(fault)}).") from fault


def _values(model, path: Path, feed: str, batch: np.ndarray, names: list[str], size: int = 1) -> dict[str, np.ndarray]:
    """Values of a graph's names on a batch, run image by image, each `size` times where the batch is fixed."""
    made = {output for node in model.graph.node for output in node.output}
    wanted = [name for name in dict.fromkeys(names) if name in made]
    session = _session_fetching(model, wanted, path)
    try:
        parts = [
            session.run(wanted, {feed: np.repeat(batch[index : index + 1], size, axis=0)})
            for index in range(len(batch))
        ]
    except Exception as fault:
        raise EngineError(f"the layers of {path} cannot be read ({first_line(fault)}).") from fault
    return {name: np.stack([part[position][0] for part in parts]) for position, name in enumerate(wanted)}


def _without_weights(path: str | Path):
    """The message of an artifact; external weights are not loaded."""
    import onnx

    return onnx.load(str(path), load_external_data=False)


def _session_fetching(model, names: list[str], path: str | Path):
    """A session of a changed model that gives more of its values. Raises EngineError."""
    import onnx
    import onnxruntime

    declared = {output.name for output in model.graph.output}
    model.graph.output.extend(onnx.ValueInfoProto(name=name) for name in names if name not in declared)
    options = onnxruntime.SessionOptions()
    # External weights are looked up in the artifact's folder.
    options.add_session_config_entry("session.model_external_initializers_file_folder_path", str(Path(path).parent))
    try:
        return onnxruntime.InferenceSession(model.SerializeToString(), options, providers=["CPUExecutionProvider"])
    except Exception as fault:
        raise EngineError(f"{path} cannot be opened for inspection ({first_line(fault)}).") from fault
