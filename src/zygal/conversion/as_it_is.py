"""An ONNX file that gets an inlet, labels, an origin and names, while its graph stays as it is."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from pathlib import Path

import numpy as np
import onnx

from zygal import __version__
from zygal.artifact.facts import Artifact
from zygal.artifact.formats import DEFAULT_OPSET, ONNX, format_for
from zygal.artifact.onnx.read import facts_of
from zygal.classifier.fit import check_inlet_fits
from zygal.classifier.labels import Labels, check_label_count
from zygal.classifier.metadata import Metadata, Origin
from zygal.conversion.convert import Choices, Conversion, own_labels
from zygal.errors import ArtifactError, SourceError
from zygal.files import kinds
from zygal.files.families import Reading
from zygal.files.recognition import kind_of
from zygal.files.writing import check_writable, whole_file
from zygal.graph import Batch, TensorType
from zygal.graph.shapes import OPEN
from zygal.inlet import Inlet
from zygal.inlet.sizes import tensor_shape
from zygal.onnx.read import LARGEST_BYTES, load_model
from zygal.sources.onnx.reader import FRAMEWORK, check_one_input, obstacle
from zygal.sources.onnx.tensors import input_type
from zygal.sources.opened import SourceFile

_OF_THE_GRAPH = {
    "--raw-pixels": lambda choices: choices.raw_pixels,
    "--half": lambda choices: choices.half,
    "--layout": lambda choices: choices.layout,
    "--keep-batch": lambda choices: choices.keep_batch,
    "--opset": lambda choices: choices.opset != DEFAULT_OPSET,
    "--weights-beside": lambda choices: choices.weights_beside,
}


def store(
    file: SourceFile, artifact_path: str | Path, inlet: Inlet | None, labels: Labels | None, choices: Choices
) -> Conversion:
    """Writes the file with what is said about it. Raises any ZygalError; then nothing is written."""
    _check(file, artifact_path, choices)
    check_writable(artifact_path)
    path, model = Path(file.path), load_model(file.path)
    facts = facts_of(path, model, choices.scores, len(labels.names) if labels else None)
    info = check_one_input(path, model)
    ((given, (dtype, sizes)),) = facts.inputs.items()
    own = facts.metadata
    inlet, labels = inlet or own.inlet, labels or own_labels(path, own)
    made_dtype, made = facts.outputs[facts.chosen.name]
    if len(made) != 2 and not choices.any_shape:
        raise SourceError(
            f"{path} returns {facts.chosen.name} with {len(made)} axes, which is not [batch, classes]; choose another "
            "output with --scores, or add --any-shape."
        )
    if labels is not None and len(made) == 2 and isinstance(made[1], int):
        check_label_count(labels.names, made[1], "the labels file")
    shape = choices.image_shape or (tensor_shape(inlet) if inlet is not None and own.tensor is None else None)
    if own.tensor is None and (inlet is not None or choices.image_shape):
        type = input_type(info, str(path), shape)
        if choices.image_shape and tuple(choices.image_shape) != type.shape[1:]:
            raise SourceError(f"--shape does not fit {path}, which takes {type}; leave it out.")
        if inlet is not None:
            check_inlet_fits(inlet, type)
    origin = own.origin or Origin(path.name, file.sha256, FRAMEWORK, f"opset {facts.opset}", __version__)
    metadata = replace(own, inlet=inlet, origin=origin)
    if labels is not None:
        metadata = replace(metadata, labels=labels.names, labels_order=labels.order)
    _write(model, path, artifact_path, {given: choices.input_name, facts.chosen.name: choices.output_name}, metadata)
    # A long function, but half of it only fills this record.
    return Conversion(
        source=path,
        artifact=Path(artifact_path),
        framework=FRAMEWORK,
        framework_version=f"opset {facts.opset}",
        input_name=choices.input_name,
        input_type=_declared_type(dtype, sizes),
        output_name=choices.output_name,
        output_type=_declared_type(made_dtype, made),
        nodes_before=facts.nodes,
        nodes_after=facts.nodes,
        operators=facts.operators,
        parameters=facts.parameters,
        artifact_bytes=Path(artifact_path).stat().st_size,
        format=ONNX.name,
        opset=facts.opset,
        notes=tuple(_notes(path, facts, shape)),
        raw_pixels=own.tensor is not None,
        inlet=inlet,
        labels=labels,
    )


def _check(file: SourceFile, artifact_path: str | Path, choices: Choices) -> None:
    """Raises SourceError or ArtifactError where a graph cannot stay as it is."""
    if file.live is not None or kind_of(file.path) != kinds.ARTIFACT:
        raise SourceError(f"--as-it-is keeps the graph of an ONNX file, which {file.name} is not; leave it out.")
    if format_for(artifact_path) is not ONNX:
        raise ArtifactError(f"--as-it-is keeps an ONNX file, but the name {artifact_path} asks for another format.")
    for option, value in _OF_THE_GRAPH.items():
        if value(choices):
            raise SourceError(f"{option} changes the graph, which --as-it-is keeps; leave one of the two out.")
    if choices.input_name == choices.output_name:
        raise SourceError(f"--input-name and --output-name are both {choices.input_name}; give two different names.")


def _notes(path: Path, facts: Artifact, shape: tuple[int, ...] | None) -> Iterator[str]:
    yield "the graph was stored as it came: not checked against a second reading, not arranged, its batch not freed"
    if facts.chosen.reason:
        yield facts.chosen.note(list(facts.outputs))
    why_not = obstacle(path, Reading(image_shape=shape))
    if why_not:
        yield f"it cannot be converted otherwise: {why_not.rstrip('.')}"
    else:
        yield "its graph can be read whole: without --as-it-is it is converted, and its batch freed and proven"


def _write(
    model: onnx.ModelProto, path: Path, artifact_path: str | Path, names: Mapping[str, str], metadata: Metadata
) -> None:
    _rename(model.graph, names)
    stated = metadata.to_properties()
    kept = {each.key: each.value for each in model.metadata_props if each.key not in stated}
    onnx.helper.set_model_props(model, {**kept, **stated})
    # The weights go into the file: beside it, they would have to be copied to the artifact's folder.
    onnx.external_data_helper.load_external_data_for_model(model, str(path.parent))
    if model.ByteSize() > LARGEST_BYTES - 1:
        raise ArtifactError(f"{path} has more than 2 GB of weights, which one ONNX file cannot hold.")
    with whole_file(artifact_path) as file:
        file.write(model.SerializeToString(deterministic=True))


def _rename(graph: onnx.GraphProto, wanted: Mapping[str, str]) -> None:
    """Renames values; one that has a wanted name already makes way."""
    names = dict(wanted)
    names.update({taken: f"{taken}_inside" for taken in wanted.values() if taken not in wanted})
    for part in _graphs(graph):
        for each in (*part.input, *part.output, *part.value_info, *part.initializer):
            each.name = names.get(each.name, each.name)
        for node in part.node:
            for listed in (node.input, node.output):
                listed[:] = [names.get(name, name) for name in listed]


def _graphs(graph: onnx.GraphProto) -> Iterator[onnx.GraphProto]:
    """A graph and all those inside its nodes."""
    yield graph
    for node in graph.node:
        for attribute in node.attribute:
            inner = [attribute.g] if attribute.type == onnx.AttributeProto.GRAPH else attribute.graphs
            for each in inner:
                yield from _graphs(each)


def _declared_type(dtype: str, sizes: tuple[int | str | None, ...]) -> TensorType:
    """As the file declares it; an open first size is the batch."""
    shape = [size if isinstance(size, int) else OPEN if axis else Batch() for axis, size in enumerate(sizes)]
    return TensorType(np.dtype(dtype if dtype != "unknown" else "float32"), tuple(shape))
