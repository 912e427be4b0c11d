"""What all engines have in common."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

import numpy as np

if TYPE_CHECKING:
    from zygal.classifier.choice import Choice
    from zygal.graph import TensorType


class Engine(Protocol):
    """Runs one model. `batch_size` is the number of images it insists on, or None if any will do."""

    name: str
    batch_size: int | None

    def run(self, batch: np.ndarray) -> np.ndarray:
        """Scores [N, classes] of the tensors [N, ...]. Raises EngineError."""
        ...


class LiveEngine(Engine, Protocol):
    """A model in the framework that made it. path: its file. version: of the framework. chosen, output_names: the
    output that is taken, and all of them. ways: how it can be run for timing, the usual way first.
    captured_in_training: whether the file holds the model in training mode; it is run in evaluation mode
    nevertheless."""

    path: Path
    version: str
    input_type: TensorType
    chosen: Choice
    output_names: tuple[str, ...]
    ways: tuple[str, ...]
    captured_in_training: bool

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare call that a user makes for a batch, for timing."""
        ...

    def use_threads(self, count: int) -> bool:
        """Sets how many threads an operator may use; whether it did."""
        ...


def run_in_batches(engine: Engine, tensors: np.ndarray, most: int = 16) -> Iterator[np.ndarray]:
    """The scores of many tensors [N, ...], a batch at a time. A fixed batch is filled up by repeating the last
    image."""
    size = engine.batch_size or most
    for start in range(0, len(tensors), size):
        batch = tensors[start : start + size]
        missing = (engine.batch_size or len(batch)) - len(batch)
        if missing:
            batch = np.concatenate([batch, np.repeat(batch[-1:], missing, axis=0)])
        yield engine.run(batch)[: size - missing if missing else size]
