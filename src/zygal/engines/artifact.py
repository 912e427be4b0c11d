"""Artifacts as engines, each in the runtime of its format."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from zygal.engines.session import SessionSettings, open_session
from zygal.errors import ArtifactError, EngineError, first_line
from zygal.inlet.sizes import tensor_shape

if TYPE_CHECKING:
    from zygal.artifact.facts import Artifact


class RuntimeEngine:
    """An artifact in a session of its runtime with `threads` threads (None: as many as there are cores). output: which
    of its outputs; the first unless named."""

    def __init__(self, path: str | Path, threads: int | None = None, output: str | None = None):
        self.path = Path(path)
        self._session = open_session(path, SessionSettings(threads))
        self.name, inputs, outputs = self._session.runtime, self._session.inputs, self._session.outputs
        if len(inputs) != 1:
            names = ", ".join(each.name for each in inputs)
            raise ArtifactError(f"{path} takes {len(inputs)} inputs ({names}); an image classifier takes one.")
        self.input_name, self.output_name = inputs[0].name, output or outputs[0].name
        self._given, self._made = (
            inputs[0],
            next((each for each in outputs if each.name == self.output_name), outputs[0]),
        )
        self.input_shape, self.input_dtype = (
            inputs[0].shape,
            "float32" if self._given.takes_real else inputs[0].dtype or "float32",
        )
        first = self.input_shape[0] if self.input_shape else None
        self.batch_size = first if isinstance(first, int) and first > 0 else None

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            return self._made.real(
                self._session.run([self.output_name], {self.input_name: self._given.stored(batch)})[0]
            )
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run on tensors {list(batch.shape)} of {batch.dtype} ({first_line(fault)})."
            ) from fault

    def values(self, batch: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
        """The values of those names that are in the artifact, on a batch run image by image. Raises EngineError."""
        from zygal.artifact.formats import format_of

        inside = import_module(format_of(self.path).inside)
        return inside.values(self.path, self.input_name, self._given.stored(batch), names, self.batch_size or 1)


def open_engine(artifact: Artifact | str | Path, threads: int | None = None, output: str | None = None) -> Any:
    """The engine of an artifact, the only way to run one.

    Of one that was read: its scores; if it takes raw pixels, of the model behind its own inlet. Of a path: the whole,
    and of its outputs the one that is named, or the first. Raises FileError, ArtifactError or EngineError.
    """
    if isinstance(artifact, (str, Path)):
        return RuntimeEngine(artifact, threads, output)
    metadata = artifact.metadata
    if metadata.tensor is None:
        return RuntimeEngine(artifact.path, threads, output or artifact.chosen.name)
    from zygal.engines.onnx_inside import RawPixelEngine

    return RawPixelEngine(artifact.path, metadata.tensor, tensor_shape(metadata.inlet), metadata.inlet.tensor.dtype)
