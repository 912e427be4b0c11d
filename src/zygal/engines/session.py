"""Opening an artifact in the runtime of its format, and what can be set about that. The one place where runtimes are
started."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import Protocol

import numpy as np

LEVELS = ("off", "basic", "extended", "all")
"""How far the runtime may rewrite a graph when it loads it."""
EXECUTIONS = ("sequential", "parallel")
"""Whether operators that do not need each other wait for each other."""


@dataclass(frozen=True)
class SessionSettings:
    """threads: None for as many as there are cores. profile: beginning of the name of a file for the runtime's profile.
    rewritten: where the runtime writes the graph that it runs."""

    threads: int | None = None
    level: str = "all"
    execution: str = "sequential"
    profile: str | None = None
    rewritten: str | None = None


@dataclass(frozen=True)
class Port:
    """An input or an output. dtype: None for one that is not computed with here; stated: the runtime's own word for it.
    shape: numbers, and names or None for open sizes. steps: scale and zero point, where whole numbers stand for real
    ones."""

    name: str
    dtype: str | None
    shape: tuple[int | str | None, ...]
    stated: str = ""
    steps: tuple[np.float32, int] | None = None

    @property
    def takes_real(self) -> bool:
        """Whether real numbers are what is meant: images of unsigned pixels are taken as they are."""
        return self.steps is not None and self.dtype != "uint8"

    def stored(self, array: np.ndarray) -> np.ndarray:
        """Real numbers as the port takes them: halves rounded to even, held within the range."""
        if not self.takes_real or array.dtype.kind != "f":
            return array
        (scale, zero), limits = self.steps, np.iinfo(self.dtype)
        return np.clip(np.rint(array / scale) + zero, limits.min, limits.max).astype(self.dtype)

    def real(self, array: np.ndarray) -> np.ndarray:
        """What the port gives as real numbers."""
        if self.steps is None or array.dtype.kind == "f":
            return array
        scale, zero = self.steps
        return (array.astype(np.int32) - np.int32(zero)).astype(np.float32) * scale


class Session(Protocol):
    """An artifact, ready to run. runtime: its name and release."""

    runtime: str
    inputs: tuple[Port, ...]
    outputs: tuple[Port, ...]

    def run(self, names: Sequence[str] | None, feed: Mapping[str, np.ndarray]) -> list[np.ndarray]:
        """The outputs of those names, or all. Raises whatever the runtime raises."""
        ...


def open_session(
    artifact: str | Path | bytes,
    settings: SessionSettings = SessionSettings(),
    validated: bool = False,
    tried: bool = False,
) -> Session:
    """A session on the CPU: of a file in the runtime of its format, or of the bytes of an ONNX message. validated: the
    file was looked at before. tried: it was run before; else one that Zygal did not write is run in a process of its
    own first. Raises FileError or ArtifactError; EngineError if the runtime is not installed."""
    from zygal.artifact.formats import ONNX, format_of

    format = ONNX if isinstance(artifact, bytes) else format_of(artifact)
    if not tried and not isinstance(artifact, bytes) and not format.is_own(artifact):
        from zygal.engines.first_run import try_first

        try_first(artifact)
    return import_module(format.sessions).open_session(artifact, settings, validated)


def import_runtime(artifact: str | Path) -> None:
    """Imports what runs an artifact, so that opening it is timed alone."""
    from zygal.artifact.formats import format_of

    import_module(format_of(artifact).sessions).import_runtime()
