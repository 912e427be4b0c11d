"""PyTorch, live: a scripted or traced archive run by the framework."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import EngineError, SourceError, first_line, install_extra
from zygal.files.families import Reading
from zygal.sources.pytorch.choice import output_place, scores_choice
from zygal.sources.pytorch.scripted.archive import open_scripted
from zygal.sources.pytorch.scripted.program import scripted_program
from zygal.sources.pytorch.scripted.reader import NO_SHAPE


class ScriptedEngine:
    """A scripted archive in the live framework, in evaluation mode, with one of its outputs.

    Before the framework loads it, its code has been followed to the end: it consists of known operators alone. Raises
    EngineError if PyTorch is not installed, SourceError if the archive cannot be followed or there is no such output.
    """

    ways = ("archive",)

    def __init__(self, path: str | Path, reading: Reading = Reading(), _module: Any = None):
        try:
            import torch
        except ImportError as fault:
            raise EngineError(
                f"{path} can only be run by PyTorch, which is not installed; {install_extra('torch')}, or run this "
                "command where PyTorch is installed."
            ) from fault
        if reading.image_shape is None:
            raise SourceError(f"{path} is a scripted archive: {NO_SHAPE}, or an inlet.")
        self._torch = torch
        self.name, self.version, self.path = "PyTorch", torch.__version__, Path(path)
        with open_scripted(path) as archive:
            found = scripted_program(archive, reading.image_shape)
        program, self.captured_in_training = found.program, found.in_training
        self.chosen = scores_choice(program, reading.output, reading.classes)
        self.output_names = program.output_names
        self._place = output_place(program, self.chosen.name)
        try:
            self._module = torch.jit.load(str(path), map_location="cpu").eval()
        except Exception as fault:  # Any fault of the framework's loader means the same to the user.
            raise SourceError(f"{path} cannot be loaded by PyTorch {self.version} ({first_line(fault)}).") from fault
        self.input_type = program.types[program.inputs[0]]
        first = self.input_type.shape[0]
        self.batch_size = first if isinstance(first, int) else None

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        try:
            with self._torch.inference_mode():
                result = self._module(self._torch.from_numpy(batch))
        except Exception as fault:
            raise EngineError(
                f"{self.path} cannot be run by PyTorch on tensors {list(batch.shape)} of {batch.dtype} "
                f"({first_line(fault)})."
            ) from fault
        leaves, _ = self._torch.utils._pytree.tree_flatten(result)
        tensors = [each for each in leaves if isinstance(each, self._torch.Tensor)]
        return tensors[self._place].float().numpy()

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:  # noqa: ARG002
        """The bare call that a user makes for a batch, for timing."""
        module, tensor, inference_mode = self._module, self._torch.from_numpy(batch), self._torch.inference_mode

        def call() -> object:
            with inference_mode():
                return module(tensor)

        return call

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        if self._torch.get_num_threads() != count:
            self._torch.set_num_threads(count)
        return True

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:  # noqa: ARG002
        """None: the framework runs an archive as a whole."""
        return []
