"""A Keras model as a source, and what it says of itself."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zygal.errors import SourceError
from zygal.files import sha256_of
from zygal.graph import Graph, TensorType
from zygal.scores import operators_before, scores_by_operators
from zygal.sources.keras.containers import KerasFile, open_keras
from zygal.sources.keras.structure import Model, read_structure
from zygal.sources.keras.translate import PREPROCESSING, all_layers, input_type, translate, unknown_layers
from zygal.sources.keras.weights import Weights
from zygal.sources.source import Source, SourceFacts


@contextmanager
def read_model(
    path: str | Path, output: str | None = None, image_shape: tuple[int, ...] | None = None
) -> Iterator[Source]:
    """The graph of a Keras model with one of its outputs. Raises FileError, SourceError or UnknownOperators."""
    with open_keras(path) as file:
        model = read_structure(file.configuration, file.path, file.version)
        weights = Weights(file, model)
        graph = translate(file, model, weights, output, image_shape)
        yield Source(
            path=Path(path),
            sha256=sha256_of(path),
            framework="Keras",
            framework_version=file.version,
            graph=graph,
            output_names=tuple(model.outputs),
            freed_from_batch=None,
            notes=tuple(_notes(model, weights)),
        )


def model_facts(path: str | Path) -> SourceFacts:
    """What a Keras model says of itself. Raises FileError or SourceError."""
    with open_keras(path) as file:
        model = read_structure(file.configuration, file.path, file.version)
        layers, weights = all_layers(model), Weights(file, model)
        stored = weights.stored()
        given = _declared_input(file, model)
        graphs = {name: _graph(file, model, weights, name) for name in model.outputs}
        first = next(iter(graphs.values()))
        classes = Counter(layer.class_name for layer in layers if layer.class_name != "InputLayer")
        return SourceFacts(
            path=Path(path),
            framework="Keras",
            framework_version=file.version,
            file_format=".keras archive" if file.by_place else "HDF5",
            inputs={model.inputs[0].layer: given},
            outputs={name: graph and graph.types[graph.outputs[0]] for name, graph in graphs.items()},
            scores=_scores(first),
            preprocessing=[
                f"{layer.name} ({layer.class_name})" for layer in layers if layer.class_name in PREPROCESSING
            ],
            operators=dict(classes.most_common()),
            unknown_operators=sorted(unknown_layers(model)),
            layers=[layer.name for layer in layers if layer.name != "/input"],
            tensors=len(stored),
            parameters=weights.trained(model),
            weight_dtypes=sorted({dataset.dtype.name for dataset in stored if dataset.dtype.kind == "f"}),
            size_bytes=Path(path).stat().st_size,
        )


def _declared_input(file: KerasFile, model: Model) -> TensorType | None:
    """The input's type, or None where the model leaves its size open."""
    try:
        return input_type(file, model)
    except SourceError:
        return None


def _graph(file: KerasFile, model: Model, weights: Weights, output: str) -> Graph | None:
    """The graph of one output, or None if it cannot be made."""
    try:
        return translate(file, model, weights, output)
    except SourceError:
        return None


def _scores(graph: Graph | None) -> str:
    """What the output is, by the operator that makes it."""
    if graph is None:
        return "logits"
    made_by = {name: (node.operator, node.inputs) for node in graph.nodes for name in node.outputs}
    return scores_by_operators(operators_before(graph.outputs[0], made_by))


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
    return str(dtype.get("config", {}).get("name")) if isinstance(dtype, dict) else str(dtype)
