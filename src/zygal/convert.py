"""The whole way from a source to an artifact."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from zygal import __version__
from zygal.artifact.metadata import Metadata, Origin
from zygal.errors import InletError, SourceError
from zygal.files import check_writable
from zygal.graph import Graph, TensorType
from zygal.graph.passes import run_passes
from zygal.graph.shapes import shape_text
from zygal.inlet import Inlet
from zygal.labels import check_label_count
from zygal.sources import Source, read_source


@dataclass(frozen=True)
class Conversion:
    """What a conversion did. `notes` are sentences that a person should read."""

    source: Path
    artifact: Path
    framework: str
    framework_version: str
    input_name: str
    input_type: TensorType
    output_name: str
    output_type: TensorType
    nodes_before: int
    nodes_after: int
    operators: dict[str, int]
    parameters: int
    artifact_bytes: int
    opset: int
    notes: tuple[str, ...]


def convert(
    source_path: str | Path,
    artifact_path: str | Path,
    inlet: Inlet | None = None,
    labels: list[str] | None = None,
    input_name: str = "image",
    output_name: str = "scores",
) -> Conversion:
    """Converts a trained classifier's file to an artifact with one input and one output [batch, classes].

    Raises any ZygalError; then no artifact is written.
    """
    from zygal.artifact.write import DEFAULT_OPSET, write_artifact

    check_writable(artifact_path)
    if input_name == output_name:
        raise SourceError(f"input and output cannot both be named {input_name}; choose two names.")
    with read_source(source_path) as source:
        before = source.graph
        _check_classifier(before, source_path)
        output_type = before.types[before.outputs[0]]
        if labels is not None:
            check_label_count(labels, output_type.shape[1], "the labels file")
        if inlet is not None:
            check_inlet_fits(inlet, before.types[before.inputs[0]])
        graph = run_passes(_first_output(before))
        graph = graph.renamed({graph.inputs[0]: input_name, graph.outputs[0]: output_name})
        metadata = Metadata(inlet, tuple(labels) if labels is not None else None, _origin(source))
        write_artifact(graph, artifact_path, metadata)
        return Conversion(
            source=Path(source_path),
            artifact=Path(artifact_path),
            framework=source.framework,
            framework_version=source.framework_version,
            input_name=input_name,
            input_type=graph.types[input_name],
            output_name=output_name,
            output_type=output_type,
            nodes_before=len(before.nodes),
            nodes_after=len(graph.nodes),
            operators=dict(Counter(node.operator for node in graph.nodes).most_common()),
            parameters=graph.parameter_count(),
            artifact_bytes=Path(artifact_path).stat().st_size,
            opset=DEFAULT_OPSET,
            notes=source.notes,
        )


def check_inlet_fits(inlet: Inlet, model_input: TensorType) -> None:
    """Raises InletError if the inlet's tensor is not what the model takes."""
    made, wanted = inlet.tensor_shape(), model_input.shape[1:]
    if made is None:
        raise InletError(
            f"the inlet leaves the size to each image, but the model takes {shape_text(model_input.shape)}; "
            "end its frame with a crop, or with a resize to a size."
        )
    if made != wanted:
        raise InletError(
            f"the inlet makes tensors {shape_text(made)} ({inlet.tensor.layout[1:]}), but the model takes "
            f"{shape_text(wanted)} an image; check the crop, the colour and the layout in the inlet."
        )
    if inlet.tensor.dtype != model_input.dtype.name:
        raise InletError(f"the inlet makes {inlet.tensor.dtype}, but the model takes {model_input.dtype}.")


def _check_classifier(graph: Graph, path: str | Path) -> None:
    type = graph.types[graph.outputs[0]]
    if type.rank != 2 or not isinstance(type.shape[1], int):
        raise SourceError(
            f"{path} returns {shape_text(type.shape)}, which is not [batch, classes]; "
            "capture a model whose (first) result is one row of scores an image."
        )


def _first_output(graph: Graph) -> Graph:
    return Graph(graph.inputs, graph.outputs[:1], graph.nodes, graph.constants, graph.types)


def _origin(source: Source) -> Origin:
    return Origin(source.path.name, source.sha256, source.framework, source.framework_version, __version__)
