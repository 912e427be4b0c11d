"""MXNet, live: it runs in environments of its time alone, never beside this program."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zygal.errors import EngineError
from zygal.files.families import Reading


class MXNetEngine:
    """Raises EngineError with the way to record elsewhere."""

    def __init__(self, path: str | Path, reading: Reading = Reading(), model: Any = None):  # noqa: ARG002
        raise EngineError(
            f"{path} cannot be run here: MXNet is retired and installs beside no current Python. Record its "
            "tensors and scores where it runs, with the few lines of docs/witness.md, and give them with --from-arrays."
        )
