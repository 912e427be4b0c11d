"""ONNX files as sources: a graph, and what the files say of themselves."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import onnx

from zygal.classifier.metadata import Metadata
from zygal.classifier.scores import operators_before, softmax_twice
from zygal.errors import SourceError, UnknownOperators, shown
from zygal.files.families import Reading
from zygal.graph import Batch, TensorType
from zygal.onnx.contents import (
    choice_of,
    declared,
    inputs_of,
    operators_in,
    opset_of,
    parameter_count,
    properties_of,
    scores_of,
)
from zygal.onnx.read import beside_of, load_model
from zygal.sources.onnx.translate import Translator
from zygal.sources.source import Source, SourceFacts

FRAMEWORK = "ONNX"


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """See `sources.read_source`."""
    yield _source(Path(path), load_model(path), reading)


def _source(path: Path, model: onnx.ModelProto, reading: Reading) -> Source:
    metadata = Metadata.from_properties(properties_of(model), str(path))
    classes = reading.classes or (len(metadata.labels) if metadata.labels else None)
    chosen = choice_of(path, model.graph, reading.output, classes)
    check_one_input(path, model)
    translator = Translator(model, str(path), reading.image_shape)
    translator.run()
    graph = translator.graph([chosen.name])
    names = tuple(info.name for info in model.graph.output)
    version = f"opset {opset_of(model)}"
    return Source(
        path, FRAMEWORK, version, graph, names, chosen, (), metadata.labels, metadata.inlet, metadata=metadata
    )


def check_one_input(path: str | Path, model: onnx.ModelProto) -> onnx.ValueInfoProto:
    """The one input. Raises SourceError if there are several, or none."""
    infos = inputs_of(model)
    if len(infos) != 1:
        names = ", ".join(shown(info.name) for info in infos)
        raise SourceError(f"{path} takes {len(infos)} inputs ({names}); an image classifier takes one.")
    return infos[0]


def obstacle(path: str | Path, reading: Reading = Reading()) -> str:
    """What stands in the way of a conversion, as a sentence; empty if nothing does."""
    try:
        with read(path, reading):
            return ""
    except SourceError as fault:
        return str(fault)


def facts(path: str | Path, reading: Reading) -> SourceFacts:
    """What an ONNX file says of itself as a source. Raises FileError, ArtifactError or SourceError."""
    path, model = Path(path), load_model(path)
    metadata = Metadata.from_properties(properties_of(model), str(path))
    chosen = choice_of(path, model.graph, reading.output, len(metadata.labels) if metadata.labels else None)
    why_not, unknown, graph = "", [], None
    try:
        graph = _source(path, model, reading).graph
    except UnknownOperators as fault:
        unknown = sorted(fault.layers)
    except SourceError as fault:
        why_not = str(fault)
    inputs = {info.name: _type(info) for info in inputs_of(model)}
    outputs = {info.name: _type(info) for info in model.graph.output}
    made_by = {}
    if graph is not None:
        (name,) = graph.inputs
        inputs[name] = graph.types[name]
        outputs[chosen.name] = graph.types[graph.outputs[0]]
        made_by = graph.made_by()
    ending = list(operators_before(graph.outputs[0], made_by)) if graph is not None else []
    constants = list(graph.constants.values()) if graph is not None else []
    return SourceFacts(
        path=path,
        framework=FRAMEWORK,
        framework_version=f"opset {opset_of(model)}",
        file_format=f"IR version {model.ir_version}, by {model.producer_name or 'an unknown program'}",
        inputs=inputs,
        outputs=outputs,
        scores=metadata.scores or scores_of(model, chosen.name),
        chosen=chosen,
        softmax_twice=softmax_twice(ending),
        mode=None,
        preprocessing=[],
        operators=operators_in(model),
        unknown_operators=unknown,
        layers=graph.layer_names() if graph is not None else [],
        tensors=len(constants),
        parameters=parameter_count(model),
        weight_dtypes=sorted({str(each.dtype) for each in constants if each.size > 1}),
        size_bytes=sum(each.stat().st_size for each in (path, *beside_of(model, path))),
        labels=metadata.labels,
        inlet=metadata.inlet,
        why_not=why_not,
    )


def _type(info: onnx.ValueInfoProto) -> TensorType | None:
    dtype, sizes = declared(info)
    try:
        return TensorType(np.dtype(dtype), tuple(size if isinstance(size, int) else Batch() for size in sizes))
    except TypeError:
        return None
