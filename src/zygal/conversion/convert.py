"""From a source to an artifact."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

from zygal import __version__
from zygal.artifact.formats import DEFAULT_OPSET, ONNX, Writing, format_for
from zygal.classifier.fit import check_fit
from zygal.classifier.labels import Labels
from zygal.classifier.layout import fed_as
from zygal.classifier.metadata import Metadata, Origin
from zygal.classifier.scores import LOGITS, PROBABILITIES, operators_before, softmax_twice
from zygal.conversion.free_batch import freed
from zygal.errors import InletError, SourceError, some_of
from zygal.files.writing import check_writable
from zygal.graph import Graph, TensorType
from zygal.graph.build import joined
from zygal.graph.passes import run_passes
from zygal.graph.shapes import shape_text
from zygal.inlet import Inlet
from zygal.inlet.front import front_of
from zygal.inlet.sizes import tensor_shape
from zygal.sources import Reading, Source, read_source
from zygal.sources.opened import SourceFile

SOFTMAX_TWICE = (
    "the model applies a softmax to the result of a softmax, so its probabilities are all nearly equal; this is nearly "
    "always a fault of the training code: remove one of the two"
)
TENSOR = "tensor"
"""The name of the model's own input in an artifact that takes raw pixels."""


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
    format: str
    opset: int | None
    notes: tuple[str, ...]
    raw_pixels: bool = False
    weights: Path | None = None
    """The file beside the artifact that holds its weights, if they are not inside."""
    inlet: Inlet | None = None
    """The inlet inside: the one that was given, else the source's own."""
    labels: Labels | None = None


@dataclass(frozen=True)
class Choices:
    """What can be chosen about a conversion.

    scores: the output to take, by the name that the source gives it; the one that looks like class scores unless named.
    any_shape: take it even if it is not [batch, classes]. keep_batch: keep a fixed batch that the source was captured
    with, instead of freeing the artifact from it. opset: the standard's version to aim at. layout: the order of the
    input's axes, NCHW or NHWC; that of the source unless given. image_shape: the shape of one image's tensor, for
    models that leave it open. signature, input: see `sources.Reading`. raw_pixels: the inlet goes into the artifact,
    which then takes 8-bit RGB images [N, H, W, 3] of any size. half: weights are stored as float16, in a format that
    has it. widen: what the source stores in few bits is computed in float32. weights_beside: the weights go to a second
    file, which processes share.
    """

    input_name: str = "image"
    output_name: str = "scores"
    scores: str | None = None
    any_shape: bool = False
    keep_batch: bool = False
    opset: int = DEFAULT_OPSET
    layout: str | None = None
    image_shape: tuple[int, ...] | None = None
    raw_pixels: bool = False
    signature: str | None = None
    input: str | None = None
    half: bool = False
    widen: bool = False
    weights_beside: bool = False

    def writing(self) -> Writing:
        """What of it concerns the form of the artifact."""
        return Writing(self.opset, self.half, self.raw_pixels, self.weights_beside)


def convert(
    source: str | Path | SourceFile,
    artifact_path: str | Path,
    inlet: Inlet | None = None,
    labels: Labels | None = None,
    choices: Choices = Choices(),
) -> Conversion:
    """Converts a trained classifier to an artifact with one input and one output [batch, classes].

    Raises any ZygalError; then no artifact is written.
    """
    check_writable(artifact_path)
    format_for(artifact_path).check(str(artifact_path), choices.writing())
    if choices.input_name == choices.output_name:
        raise SourceError(f"--input-name and --output-name are both {choices.input_name}; give two different names.")
    file = SourceFile.of(source)
    return _converted(file, artifact_path, inlet, labels, choices)


@contextmanager
def read_for_conversion(file: SourceFile, choices: Choices) -> Iterator[Source]:
    """The source as it is converted, before any pass. Raises ZygalError."""
    with _read(file, choices, choices.image_shape, None) as (source, _):
        yield source


@contextmanager
def _read(file: SourceFile, choices: Choices, shape: tuple[int, ...] | None, classes: int | None):
    """The source, freed from a fixed batch unless that is kept, with the estimator behind it, if there is one; and the
    batch that it was freed from, or None."""
    estimator, columns = file.estimator, file.columns_wanted(classes)
    reading = Reading(choices.scores, columns, shape, choices.signature, choices.input, choices.widen, file.weights)
    with read_source(file.path, reading=reading) as source:
        freed_from = None
        first = source.graph.types[source.graph.inputs[0]].shape[:1]
        _check_shape(source, choices)
        if estimator is None:
            _check_scores(source, choices)
        if not choices.keep_batch and first and isinstance(first[0], int):
            source, freed_from = replace(source, graph=freed(source, first[0], choices.opset)), first[0]
        if estimator is not None:
            from zygal.sources.estimators import notes_on, with_estimator

            graph, notes = with_estimator(source.graph, estimator), (*source.notes, *notes_on(estimator))
            source = replace(source, graph=graph, framework=f"{source.framework} and scikit-learn", notes=notes)
            _check_scores(source, choices)
        yield source, freed_from


def _converted(
    file: SourceFile,
    artifact_path: str | Path,
    inlet: Inlet | None,
    labels: Labels | None,
    choices: Choices,
) -> Conversion:
    format, writing = format_for(artifact_path), choices.writing()
    shape = _image_shape(inlet, choices)
    classes = len(labels.names) if labels else None
    with _read(file, choices, shape, classes) as (source, freed_from):
        proof = _proof_of_reading(source, choices, shape, classes)
        before = _fed_as_chosen(source, choices)
        inlet, labels = inlet or source.inlet, labels or own_labels(source.path, source.metadata, source.labels)
        if choices.raw_pixels and inlet is None:
            raise InletError("--raw-pixels puts the inlet into the artifact, so it needs --inlet FILE.")
        if inlet is not None and choices.layout:
            inlet = replace(inlet, tensor=replace(inlet.tensor, layout=choices.layout))
        check_fit(before, inlet, labels)
        graph = format.arranged(run_passes(before, format.expressed(writing)), writing)
        graph = graph.renamed({graph.inputs[0]: choices.input_name, graph.outputs[0]: choices.output_name})
        notes = [*source.notes, *proof, *_notes(source, freed_from)]
        metadata = Metadata(
            inlet,
            origin=Origin(source.path.name, file.sha256, source.framework, source.framework_version, __version__),
            scores=_kind_by_estimator(file),
        )
        if source.metadata is not None:
            # What an artifact of ours says of where it comes from stays true.
            own = source.metadata
            metadata = replace(own, inlet=inlet, tensor=None, origin=own.origin or metadata.origin)
        if labels is not None:
            metadata = replace(metadata, labels=labels.names, labels_order=labels.order)
        whole = graph
        if choices.raw_pixels:
            graph = graph.renamed({choices.input_name: TENSOR})
            metadata = replace(metadata, tensor=TENSOR)
            whole = joined(front_of(inlet, choices.input_name, TENSOR), graph)
        written = format.write(whole, artifact_path, metadata, writing, proven=True)
        # A long function, but half of it only fills this record.
        return Conversion(
            source=Path(file.path),
            artifact=Path(artifact_path),
            framework=source.framework,
            framework_version=source.framework_version,
            input_name=choices.input_name,
            input_type=graph.types[graph.inputs[0]],
            raw_pixels=choices.raw_pixels,
            output_name=choices.output_name,
            output_type=before.types[before.outputs[0]],
            nodes_before=len(before.nodes),
            nodes_after=sum(written.operators.values()),
            operators=written.operators,
            parameters=graph.parameter_count(),
            artifact_bytes=sum(each.stat().st_size for each in (Path(artifact_path), written.weights) if each),
            weights=written.weights,
            format=format.name,
            opset=choices.opset if format is ONNX else None,
            notes=(*notes, *written.notes),
            inlet=inlet,
            labels=labels,
        )


def _proof_of_reading(
    source: Source, choices: Choices, shape: tuple[int, ...] | None, classes: int | None
) -> tuple[str, ...]:
    """Of an ONNX file, which can be run here as it came: notes. Not of one that takes raw pixels, whose model is behind
    its inlet. Raises SourceError."""
    if source.framework != "ONNX" or source.metadata is not None and source.metadata.tensor is not None:
        return ()
    from zygal.conversion.reading_proof import prove_reading

    return prove_reading(source, Reading(choices.scores, classes, shape))


def own_labels(path: Path, metadata: Metadata | None, names: tuple[str, ...] | None = None) -> Labels | None:
    """The labels that a source holds, with what it says of their order."""
    names, order = names or (metadata and metadata.labels), metadata and metadata.labels_order
    return Labels(names, order or f"the labels inside {path.name}") if names else None


def _kind_by_estimator(file: SourceFile) -> str | None:
    """What the scores are, where an estimator makes them: its last operator says nothing of it."""
    if file.estimator is None:
        return None
    from zygal.sources.estimators import score_method

    return PROBABILITIES if score_method(file.estimator) == "predict_proba" else LOGITS


def _image_shape(inlet: Inlet | None, choices: Choices) -> tuple[int, ...] | None:
    """The shape of one image's tensor, for a model that leaves it open: as chosen, else as the inlet makes it."""
    return choices.image_shape or (tensor_shape(inlet) if inlet is not None else None)


def _fed_as_chosen(source: Source, choices: Choices) -> Graph:
    """The source's graph, its input in the layout that was chosen. Raises SourceError."""
    if not choices.layout:
        return source.graph
    try:
        return fed_as(source.graph, choices.layout)
    except ValueError as fault:
        raise SourceError(f"{source.path} cannot be converted to another layout: {fault}.") from fault


def _check_shape(source: Source, choices: Choices) -> None:
    """Raises SourceError if the user's own shape is not the one that the source fixes."""
    found = source.graph.types[source.graph.inputs[0]].shape[1:]
    if choices.image_shape and tuple(choices.image_shape) != found:
        raise SourceError(
            f"--shape {','.join(map(str, choices.image_shape))} does not fit {source.path}, which takes images of "
            f"{','.join(map(str, found))}; leave it out."
        )


def _check_scores(source: Source, choices: Choices) -> None:
    """Raises SourceError unless the output is a classifier's."""
    graph, names = source.graph, source.output_names
    type = graph.types[graph.outputs[0]]
    if type.dtype.kind != "f":
        raise SourceError(
            f"{source.path} returns {type}, which are not scores (floating-point numbers){_others(names)}."
        )
    if not _depends(graph):
        raise SourceError(
            f"{source.path} returns {type}, which does not depend on the image{_others(names)}; capture the scores."
        )
    first = graph.types[graph.inputs[0]].shape[:1]
    fits = type.rank == 2 and isinstance(type.shape[1], int) and type.shape[:1] == first
    if not choices.any_shape and not fits:
        raise SourceError(
            f"{source.path} returns {shape_text(type.shape)}, which is not [batch, classes]{_others(names)}; capture a "
            "model that returns one row of scores per image, or add --any-shape."
        )


def _others(names: tuple[str, ...]) -> str:
    return f" (its outputs are {some_of(list(names), 8)}; choose one with --scores)" if len(names) > 1 else ""


def _depends(graph: Graph) -> bool:
    """Whether the output depends on the input."""
    reached = set(graph.inputs)
    for node in graph.nodes:
        # The batch's size alone says nothing of the image.
        if node.operator != "Shape" and reached.intersection(node.inputs):
            reached.update(node.outputs)
    return graph.outputs[0] in reached


def _notes(source: Source, freed_from: int | None) -> list[str]:
    notes = []
    if source.chosen.reason:
        notes.append(source.chosen.note(source.output_names))
    if softmax_twice(operators_before(source.graph.outputs[0], source.graph.made_by())):
        notes.append(SOFTMAX_TWICE)
    if freed_from:
        notes.append(
            f"the model was captured with a fixed batch of {freed_from}; the artifact takes any batch size "
            "(verified at two other sizes)"
        )
    elif isinstance(source.graph.types[source.graph.inputs[0]].shape[0], int):
        notes.append("the artifact keeps the fixed batch that the model was captured with")
    return notes
