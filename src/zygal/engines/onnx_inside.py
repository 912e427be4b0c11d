"""What is inside an ONNX artifact, for inspection: the values of its layers, and the model behind its own inlet."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.engines.onnx_session import OnnxSession, open_changed
from zygal.engines.session import open_session
from zygal.errors import EngineError, first_line


def values(path: Path, feed: str, batch: np.ndarray, names: list[str], size: int = 1) -> dict[str, np.ndarray]:
    """The values of those names that are in the graph, on a batch run image by image, each `size` times where the batch
    is fixed.

    Raises EngineError.
    """
    return _values(_without_weights(path), path, feed, batch, names, size)


class RawPixelEngine:
    """An artifact that takes raw pixels, in two parts: its own inlet, and the model behind it, whose input is `tensor`.

    `inspect` runs the whole; as an engine it is the model alone.
    """

    batch_size = None

    def __init__(self, path: str | Path, tensor: str, shape: tuple[int, ...], dtype: str):
        import onnx

        whole = open_session(path)
        self.input_shape = ("N", *shape)
        self.name, self.path, self._tensor = whole.runtime, Path(path), tensor
        self.input_name, self.output_name = whole.inputs[0].name, whole.outputs[0].name
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
    return {
        name: np.stack([np.atleast_1d(part[position])[0] for part in parts]) for position, name in enumerate(wanted)
    }


def _without_weights(path: str | Path):
    """The message of an artifact; external weights are not loaded."""
    import onnx

    return onnx.load(str(path), load_external_data=False)


def _session_fetching(model, names: list[str], path: str | Path) -> OnnxSession:
    """A session of a changed model that gives more of its values. Raises EngineError."""
    import onnx

    declared = {output.name for output in model.graph.output}
    model.graph.output.extend(onnx.ValueInfoProto(name=name) for name in names if name not in declared)
    return open_changed(model, Path(path).parent, path)
