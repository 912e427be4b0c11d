"""A TensorFlow graph as a source, and what it says of itself."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zygal.classifier.choice import Candidate, Choice, choose_output, linear_place
from zygal.classifier.scores import operators_before, scores_by_operators, softmax_twice
from zygal.errors import SourceError, UnknownOperators
from zygal.files.families import Reading
from zygal.sources.opened import SourceFile
from zygal.sources.source import SignatureFacts, Source, SourceFacts
from zygal.sources.tensorflow.graph_file import Signature
from zygal.sources.tensorflow.messages import DTYPES
from zygal.sources.tensorflow.model import Model, open_model
from zygal.sources.tensorflow.program import open_graph
from zygal.sources.tensorflow.tensors import shown_type, sizes_of

_STORAGE = frozenset(("Const", "VarHandleOp", "VariableV2", "Variable", "ReadVariableOp", "Identity", "NoOp"))
"""Operators that hold numbers or pass them on."""


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """The graph of a signature or a frozen graph, with one of its outputs. Raises FileError, SourceError or
    UnknownOperators."""
    model = open_model(path, reading)
    chosen = scores_choice(model, reading)
    graph = model.graph_of(chosen.name)
    yield Source(
        path=Path(path),
        framework="TensorFlow",
        framework_version=model.file.version,
        graph=graph,
        output_names=tuple(model.output_names),
        chosen=chosen,
        notes=tuple(model.notes()),
        labels=model.labels(chosen.name),
        inlet=model.inlet,
    )


def scores_choice(model: Model, reading: Reading) -> Choice:
    """The output of that name, else the one that looks like class scores. Raises SourceError if there is none of that
    name."""
    candidates, places = [], {}
    for name in model.output_names:
        type, linear = None, None
        if reading.output is None:
            try:
                graph = model.graph_of(name)
            except SourceError:
                graph = None
            if graph is not None:
                type, made_by = graph.types[graph.outputs[0]], graph.made_by()
                places = places or {value: place for place, node in enumerate(graph.nodes) for value in node.outputs}
                linear = linear_place(graph.outputs[0], made_by, places)
        candidates.append(Candidate(name, type, linear))
    known = [each for each in candidates if each.type is not None and each.type.dtype.kind == "f"]
    if reading.output is None and known:
        candidates = known
    return choose_output(str(model.file.path), candidates, reading.output, reading.classes)


def facts(path: str | Path, reading: Reading) -> SourceFacts:
    """What a folder or a graph says of itself. Raises FileError or SourceError."""
    model, why_not = None, ""
    file = open_graph(path)
    try:
        model = open_model(path, reading, file)
        chosen = scores_choice(model, reading)
        graph = model.graph_of(chosen.name)
    except UnknownOperators:
        chosen, graph = Choice(model.output_names[0]), None
    except SourceError as fault:
        chosen, graph, why_not = (
            Choice(model.output_names[0] if model is not None and model.output_names else ""),
            None,
            str(fault),
        )
    ending = [] if graph is None else list(operators_before(graph.outputs[0], graph.made_by()))
    signature = model.signature if model is not None else None
    inputs, outputs = _declared(model, graph, chosen)
    numbers = model.context.numbers if model is not None else {}
    files = [Path(each) for each in SourceFile.of(path).files]
    return SourceFacts(
        path=Path(path),
        framework="TensorFlow",
        framework_version=file.version,
        file_format=file.file_format,
        inputs=inputs,
        outputs=outputs,
        scores=scores_by_operators(ending),
        chosen=chosen,
        softmax_twice=softmax_twice(ending),
        mode="training" if model is not None and model.in_training else "evaluation" if graph is not None else None,
        preprocessing=[],
        operators={name: count for name, count in model.context.operators.most_common() if name not in _STORAGE}
        if model is not None
        else {},
        unknown_operators=sorted(model.context.unknown) if model is not None else [],
        layers=graph.layer_names() if graph is not None else [],
        tensors=len(numbers),
        parameters=sum(numbers.values()),
        weight_dtypes=sorted(model.context.widths | model.context.weights.widths) if model is not None else [],
        size_bytes=sum(each.stat().st_size for each in files),
        signatures=tuple(_signature_facts(each, signature) for each in file.signatures),
        labels=model.labels(chosen.name) if model is not None and graph is not None else None,
        inlet=model.inlet if model is not None else None,
        why_not=why_not,
    )


def _declared(model: Model | None, graph, chosen: Choice):
    """What goes in and comes out, as far as it can be shown."""
    if model is None:
        return {}, {}
    image = model.image
    inputs = {image.tensor: graph.types[graph.inputs[0]] if graph is not None else None}
    outputs = {}
    for name in model.output_names:
        declared = model.signature.outputs[name] if model.signature is not None else None
        type = shown_type(declared[1], declared[2]) if declared is not None and declared[2] is not None else None
        outputs[name] = graph.types[graph.outputs[0]] if graph is not None and name == chosen.name else type
    return inputs, outputs


def _signature_facts(each: Signature, taken: Signature | None) -> SignatureFacts:
    inputs, outputs = (
        {
            key: (tensor, DTYPES.get(dtype, str(dtype)), None if shape is None else sizes_of(shape))
            for key, (tensor, dtype, shape) in listed.items()
        }
        for listed in (each.inputs, each.outputs)
    )
    return SignatureFacts(each.name, each.tags, inputs, outputs, taken is not None and taken.name == each.name)
