"""PyTorch, live: a scripted or traced archive run by the framework."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import numpy as np

from zygal.engines.pytorch import ARCHIVE, TorchEngine
from zygal.errors import EngineError, SourceError, first_line
from zygal.files.families import Reading
from zygal.sources.pytorch.choice import scores_choice
from zygal.sources.pytorch.scripted.archive import open_scripted
from zygal.sources.pytorch.scripted.program import scripted_program
from zygal.sources.pytorch.scripted.reader import NO_SHAPE


class ScriptedEngine(TorchEngine):
    """A scripted archive in the live framework, in evaluation mode, with one of its outputs.

    Before the framework loads it, its code has been followed to the end: it consists of known operators alone. Raises
    EngineError if PyTorch is not installed, SourceError if the archive cannot be followed or there is no such output.
    """

    def __init__(self, path: str | Path, reading: Reading = Reading(), _module: Any = None):
        super().__init__(path)
        if reading.image_shape is None:
            raise SourceError(f"{path} is a scripted archive: {NO_SHAPE}, or an inlet.")
        with open_scripted(path) as archive:
            found = scripted_program(archive, reading.image_shape)
        self.describe(found.program, scores_choice(found.program, reading.output, reading.classes))
        self.captured_in_training = found.in_training
        try:
            self.use({ARCHIVE: self._torch.jit.load(str(path), map_location="cpu").eval()})
        except Exception as fault:  # Any fault of the framework's loader means the same to the user.
            raise SourceError(f"{path} cannot be loaded by PyTorch {self.version} ({first_line(fault)}).") from fault

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:  # noqa: ARG002
        """Raises EngineError: the framework runs an archive as a whole."""
        raise EngineError(f"the layers of {self.path}, a scripted archive, cannot be recorded; leave --layers out.")
