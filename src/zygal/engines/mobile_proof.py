"""Flatbuffers run once after they were written: their runtime refuses to resize what the format can state."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from zygal.errors import ArtifactError, EngineError, first_line
from zygal.graph import Batch, Graph

BATCHES = (1, 3, 2)


def check_written(path: str | Path, graph: Graph, named: str | Path) -> None:
    """Runs a file that was just written at three sizes of its batch, where that is open and the runtime is installed.
    named: what the file is going to be called. Raises ArtifactError."""
    from zygal.engines.mobile_session import open_session

    (name,) = graph.inputs
    type = graph.types[name]
    if not type.shape or not isinstance(type.shape[0], Batch):
        return
    try:
        session = open_session(path, validated=True)
    except EngineError:  # The runtime is not installed here.
        return
    (port,) = session.inputs
    for batch in BATCHES:
        try:
            (scores,) = session.run(
                [session.outputs[0].name], {port.name: np.zeros((batch, *type.shape[1:]), port.dtype or type.dtype)}
            )
        except Exception as fault:  # The runtime raises what it likes.
            raise ArtifactError(
                f"the mobile runtime does not run {named} at a batch of {batch} ({first_line(fault)}); it is not "
                "written. Capture the model with a fixed batch and add --keep-batch, or write ONNX."
            ) from fault
