"""A Keras model as a source, and what it says of itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zygal.classifier.choice import Candidate, Choice, choose_output, linear_place
from zygal.classifier.scores import operators_before, scores_by_operators, softmax_twice
from zygal.errors import SourceError
from zygal.files import kinds
from zygal.files.families import Reading
from zygal.files.recognition import kind_of
from zygal.graph import Graph, TensorType
from zygal.sources.keras.containers import KerasFile, open_keras
from zygal.sources.keras.structure import Model, read_structure
from zygal.sources.keras.translate import PREPROCESSING, all_layers, input_type, translate, unknown_layers
from zygal.sources.keras.weights import Weights
from zygal.sources.opened import SourceFile
from zygal.sources.source import Source, SourceFacts

_FORMATS = {kinds.KERAS_ARCHIVE: ".keras archive", kinds.HDF5: "HDF5", kinds.WEB_LAYERS: "web model of layers"}


@contextmanager
def read(path: str | Path, reading: Reading) -> Iterator[Source]:
    """The graph of a Keras model with one of its outputs: the one that looks like class scores, unless one is named.

    Raises FileError, SourceError or UnknownOperators.
    """
    with open_keras(path) as file:
        model = read_structure(file.configuration, file.path, file.version)
        weights = Weights(file, model)
        chosen = scores_choice(file, model, weights, reading)
        graph = translate(file, model, weights, chosen.name, reading.image_shape)
        yield Source(
            path=Path(path),
            framework="Keras",
            framework_version=file.version,
            graph=graph,
            output_names=tuple(model.outputs),
            chosen=chosen,
            notes=(*file.notes, *_notes(model, weights)),
        )


def facts(path: str | Path, reading: Reading) -> SourceFacts:
    """What a Keras model says of itself. Raises FileError or SourceError."""
    with open_keras(path) as file:
        model = read_structure(file.configuration, file.path, file.version)
        layers, weights = all_layers(model), Weights(file, model)
        stored = weights.stored()
        given = _declared_input(file, model, reading)
        graphs = {name: _graph(file, model, weights, name, reading.image_shape) for name in model.outputs}
        chosen = _choice(file, model, graphs, None, None)
        ending = _operators(graphs[chosen.name])
        classes = Counter(layer.class_name for layer in layers if layer.class_name != "InputLayer")
        return SourceFacts(
            path=Path(path),
            framework="Keras",
            framework_version=file.version,
            file_format=_FORMATS[kind_of(path)],
            inputs={model.inputs[0].layer: given},
            outputs={name: graph and graph.types[graph.outputs[0]] for name, graph in graphs.items()},
            scores=scores_by_operators(ending),
            chosen=chosen,
            softmax_twice=softmax_twice(ending),
            mode=None,
            preprocessing=[
                f"{layer.name} ({layer.class_name})" for layer in layers if layer.class_name in PREPROCESSING
            ],
            operators=dict(classes.most_common()),
            unknown_operators=sorted(unknown_layers(model)),
            layers=[layer.name for layer in layers if layer.name != "/input"],
            tensors=len(stored),
            parameters=weights.trained(model),
            weight_dtypes=sorted({dataset.dtype.name for dataset in stored if dataset.dtype.kind == "f"}),
            size_bytes=sum(Path(each).stat().st_size for each in SourceFile.of(path).files),
        )


def _declared_input(file: KerasFile, model: Model, reading: Reading) -> TensorType | None:
    """The input's type, or None where the model leaves its size open."""
    try:
        return input_type(file, model, reading.image_shape)
    except SourceError:
        return None


def scores_choice(file: KerasFile, model: Model, weights: Weights, reading: Reading) -> Choice:
    """The output of that name, else the one that looks like class scores. Raises SourceError if there is none of that
    name."""
    several = reading.output is None and len(model.outputs) > 1
    graphs = {
        name: _graph(file, model, weights, name, reading.image_shape) if several else None for name in model.outputs
    }
    return _choice(file, model, graphs, reading.output, reading.classes)


def _choice(
    file: KerasFile, model: Model, graphs: dict[str, Graph | None], named: str | None, classes: int | None
) -> Choice:
    places = {layer.name: place for place, layer in enumerate(all_layers(model))}
    candidates = []
    for name, graph in graphs.items():
        type = graph and graph.types[graph.outputs[0]]
        linear = None
        if graph is not None:
            values = {value: places.get(node.layer, 0) for node in graph.nodes for value in node.outputs}
            linear = linear_place(graph.outputs[0], graph.made_by(), values)
        candidates.append(Candidate(name, type, linear))
    return choose_output(str(file.path), candidates, named, classes)


def _graph(
    file: KerasFile, model: Model, weights: Weights, output: str, image_shape: tuple[int, ...] | None = None
) -> Graph | None:
    """The graph of one output, or None if it cannot be made."""
    try:
        return translate(file, model, weights, output, image_shape)
    except SourceError:
        return None


def _operators(graph: Graph | None) -> list[str]:
    """The operators that lead to the output, the last one first; none if there is no graph."""
    if graph is None:
        return []
    return list(operators_before(graph.outputs[0], graph.made_by()))


def _notes(model: Model, weights: Weights) -> Iterator[str]:
    """What a person should know about the conversion."""
    widths = weights.widths - {"float32"}
    policies = {_policy(layer.config.get("dtype")) for layer in all_layers(model)} & {
        "mixed_float16",
        "mixed_bfloat16",
        "float16",
        "bfloat16",
        "float64",
    }
    if widths:
        yield f"the weights are {', '.join(sorted(widths))}; the artifact computes in float32"
    elif policies:
        yield f"the model computes in {', '.join(sorted(policies))}; the artifact computes in float32"
    inside = [layer.name for layer in all_layers(model) if layer.class_name in PREPROCESSING]
    if inside:
        yield f"the model preprocesses its images itself ({', '.join(inside)}); leave these steps out of the inlet"


def _policy(dtype) -> str:
    return str((dtype.get("config") or {}).get("name")) if isinstance(dtype, dict) else str(dtype)
