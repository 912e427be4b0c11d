"""A graph to a mobile flatbuffer that explains itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np

from zygal import __version__
from zygal.artifact.formats import Writing, Written
from zygal.artifact.mobile import spelling  # noqa: F401  (fills the table of spellings)
from zygal.artifact.mobile.fusing import fused
from zygal.artifact.mobile.gelu import join_gelu
from zygal.artifact.mobile.lowering import lowered, of_one_image
from zygal.classifier.metadata import Metadata
from zygal.errors import ArtifactError
from zygal.graph import Graph
from zygal.inlet import Inlet
from zygal.mobile.meaning import LABELS_FILE, meaning_bytes
from zygal.mobile.model import MobileModel, Operator, Tensor
from zygal.mobile.own import METADATA_NAME, own_bytes
from zygal.mobile.schema import METADATA_BUFFER
from zygal.mobile.write import write_model

FEWEST_HALVED = 64
"""Smaller constants stay as they are: nothing would be saved."""


def write(
    graph: Graph,
    path: str | Path,
    metadata: Metadata,
    writing: Writing = Writing(),
    check: Callable[[Path], None] | None = None,
) -> Written:
    """Writes the graph to `path`, whole or not at all; the same graph gives the same bytes. check: is given the
    complete file before it takes the place of an older one, and raises what keeps it from that.

    Raises ArtifactError naming the layers that the format cannot express, OutputError if it cannot be written.
    """
    if len(graph.inputs) != 1 or len(graph.outputs) != 1:
        raise ArtifactError(
            f"{path} would have {len(graph.inputs)} inputs and {len(graph.outputs)} outputs; a classifier has "
            f"one of each."
        )
    model, notes = _model(join_gelu(graph), str(path))
    if writing.half:
        model = halved(model)
    model.description = f"zygal {__version__}"
    made = {tensor.name for tensor in model.tensors}
    layers = {name: node.layer for node in graph.nodes for name in node.outputs if node.layer and name in made}
    model.metadata[METADATA_NAME] = own_bytes(metadata, layers)
    (image,), (scores,) = graph.inputs, graph.outputs
    inlet = metadata.inlet
    grey = inlet.decode.colour == "grey" if inlet is not None and inlet.decode.colour in ("rgb", "grey") else None
    model.metadata[METADATA_BUFFER] = meaning_bytes(image, scores, metadata.labels, _normalisation(inlet), grey)
    if metadata.labels:
        model.files[LABELS_FILE] = "".join(f"{_one_line(label)}\n" for label in metadata.labels).encode()
    write_model(model, path, check)
    return Written(dict(Counter(each.name for each in model.operators).most_common()), notes)


def _model(graph: Graph, where: str) -> tuple[MobileModel, tuple[str, ...]]:
    """The model with an open batch where the format can have one, else with a batch of 1."""
    try:
        return fused(lowered(graph, where)), ()
    except ArtifactError as fault:
        pinned = of_one_image(graph)
        if pinned is None:
            raise
        try:
            model = fused(lowered(pinned, where))
        except ArtifactError:
            raise fault from None
    return model, ("the artifact takes one image at a time: the format cannot state this model for an open batch",)


def _one_line(label: str) -> str:
    return " ".join(label.split())


def _normalisation(inlet: Inlet | None) -> tuple[list[float], list[float]] | None:
    """Mean and std of pixels of 0 to 255, where the inlet's values stage is that."""
    if inlet is None or inlet.tensor.dtype != "float32" or inlet.values.per_image != "none":
        return None
    low, high = inlet.values.range
    scale = (high - low) / 255
    mean, std = (
        np.broadcast_to(each or (neutral,), (inlet.channels,))
        for each, neutral in ((inlet.values.mean, 0.0), (inlet.values.std, 1.0))
    )
    return [float(each) for each in (mean - low) / scale], [float(each) for each in std / scale]


def halved(model: MobileModel) -> MobileModel:
    """The model with its larger constants stored as float16, each widened by an operator of its own when the model is
    loaded."""
    tensors, widened = list(model.tensors), []
    for number, tensor in enumerate(model.tensors):
        if tensor.data is None or tensor.dtype != "float32" or tensor.data.size < FEWEST_HALVED:
            continue
        with np.errstate(over="ignore"):
            half = np.ascontiguousarray(tensor.data).astype(np.float16)
        if not np.isfinite(half).all():
            continue
        tensors.append(Tensor(f"{tensor.name}.half", tensor.shape, "float16", data=half))
        tensors[number] = Tensor(tensor.name, tensor.shape, "float32")
        widened.append(Operator("DEQUANTIZE", [len(tensors) - 1], [number], {}, 3))
    model.tensors, model.operators = tensors, [*widened, *model.operators]
    return model
