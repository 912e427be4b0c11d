"""What all engines have in common."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Protocol

import numpy as np


class Engine(Protocol):
    """Runs one model. `batch_size` is the number of images it insists on, or None if any will do."""

    name: str
    batch_size: int | None

    def run(self, batch: np.ndarray) -> np.ndarray:
        """Scores [N, classes] of the tensors [N, ...]. Raises EngineError."""
        ...


def run_in_batches(engine: Engine, tensors: np.ndarray, most: int = 16) -> Iterator[np.ndarray]:
    """The scores of many tensors [N, ...], a batch at a time. A fixed batch is filled up by repeating the last image."""
    size = engine.batch_size or most
    for start in range(0, len(tensors), size):
        batch = tensors[start : start + size]
        missing = (engine.batch_size or len(batch)) - len(batch)
        if missing:
            batch = np.concatenate([batch, np.repeat(batch[-1:], missing, axis=0)])
        yield engine.run(batch)[: size - missing if missing else size]


def first_line(fault: Exception) -> str:
    """What a framework's or a runtime's exception says, without the pages that may follow."""
    return (str(fault).strip().splitlines() or [type(fault).__name__])[0].rstrip(".")
