"""The report of zygal survey."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

from zygal.classifier.layout import image_layout
from zygal.cli.tables import show_facts
from zygal.commands.survey.execute import KERAS_WEIGHTS, SurveyOutcome
from zygal.errors import some_of
from zygal.files import kinds
from zygal.files.families import family_named
from zygal.inlet.sizes import tensor_shape
from zygal.wording import counted, file_size, grouped

Rows = list[tuple[str, str]]


def show(out, outcome: SurveyOutcome) -> None:
    """What the file is and what is in it."""
    found = outcome.found
    describe = {
        kinds.SAFETENSORS: _weights,
        kinds.TORCH_PICKLE: _weights,
        kinds.PARAMETERS: _weights,
        KERAS_WEIGHTS: _weights,
        kinds.WITNESS: _witness,
        kinds.INLET: _inlet,
        kinds.LABELS: _labels,
        kinds.FOLDER: _labels,
        kinds.MODEL_FOLDER: _model_folder,
    }
    kind = found.kind
    rows = (_artifact if found.is_artifact else describe.get(found.kind, _trained))(found.facts)
    if found.kind == kinds.PARAMETERS:
        rows[-1] = ("can be converted", "only with the NAME-symbol.json that was saved with it")
    if found.is_artifact and found.kind == kinds.ARTIFACT and found.facts.metadata.origin is None:
        why_not = found.why_not.replace(f"{found.path} ", "it ", 1)
        kind = "an ONNX file of another maker"
        rows.append(("can be converted", f"no: {why_not}" if why_not else "yes, every operator is known"))
    show_facts(out, f"{found.path} is {kind}", rows)


def _trained(facts: Any) -> Rows:
    inputs = [_tensor(name, type.dtype, type.shape) for name, type in facts.inputs.items() if type]
    outputs = [
        f"{name}   {type or 'shape not known'}{_scores(type and type.shape, facts.scores, name != facts.chosen.name)}"
        for name, type in facts.outputs.items()
    ]
    operators = {name.removeprefix("aten.").partition(".")[0]: count for name, count in facts.operators.items()}
    of_layers = family_named(facts.framework).parts == "layer"
    what = "layer" if of_layers else "operator"
    calls = "" if of_layers else f", {counted(sum(operators.values()), 'operator call')}"
    unknown = ", ".join(facts.unknown_operators)
    from zygal.inlet.description import describe_inlet

    prepares = f"{', '.join(facts.preprocessing)}: inside the model, so leave it out of the inlet"
    return [
        ("written by", f"{facts.framework} {facts.framework_version}, {facts.file_format}"),
        *_signatures(facts.signatures),
        *_numbered("input", inputs),
        *_numbered("output", outputs),
        *([("captured in", f"{facts.mode} mode")] if facts.mode else []),
        *([("preprocessing", prepares)] if facts.preprocessing else []),
        *([("labels", _names(facts.labels))] if facts.labels else []),
        *([("inlet", describe_inlet(facts.inlet))] if facts.inlet else []),
        ("layers", f"{len(facts.layers)}{calls}"),
        (
            "layer classes" if of_layers else "operators",
            ", ".join(f"{name} {count}" for name, count in operators.items()),
        ),
        (
            "parameters",
            f"{grouped(facts.parameters)} "
            f"{'trained' if facts.framework != 'TensorFlow' else 'numbers in the weights'}, "
            f"{', '.join(map(str, facts.weight_dtypes)) or 'no floating-point weights'}",
        ),
        ("file size", file_size(facts.size_bytes)),
        (
            "can be converted",
            f"no, unknown {what}s: {unknown}"
            if unknown
            else f"no: {facts.why_not}"
            if facts.why_not
            else f"yes, every {what} is known",
        ),
    ]


def _signatures(signatures: Sequence[Any]) -> Rows:
    """Every signature, its keys beside the real names of the tensors; the one that is taken is marked."""
    rows = []
    for number, each in enumerate(signatures):
        rows.append(("signatures" if not number else "", f"{each.name}{_tags(each)}"))
        for arrow, listed in (("takes", each.inputs), ("returns", each.outputs)):
            for key, (name, dtype, sizes) in listed.items():
                layout = image_layout(sizes or ())
                shape = "any shape" if sizes is None else _shape(sizes)
                rows.append(("", f"  {arrow} {key} = {name}   {dtype} {shape}{f'   {layout}' if layout else ''}"))
    return rows


def _tags(each: Any) -> str:
    words = ([f"tags {', '.join(each.tags)}"] if each.tags else []) + (["taken"] if each.taken else [])
    return f" ({', '.join(words)})" if words else ""


def _model_folder(facts: Any) -> Rows:
    from zygal.inlet.description import describe_inlet

    shape, tensors = facts.image_shape, facts.tensors()
    weights = ", ".join(each.name for each in facts.weights[:3]) + (", ..." if len(facts.weights) > 3 else "")
    held = f"   {grouped(tensors.parameters)} parameters, {', '.join(tensors.dtypes)}" if tensors else ""
    inlet = facts.inlet
    return [
        ("written by", f"{facts.library} {facts.release}".strip()),
        ("architecture", facts.architecture),
        ("classes", str(facts.classes or "not said")),
        ("labels", _names(facts.labels.names) if facts.labels else "none"),
        ("image", f"{_shape(shape)}   {image_layout(('N', *shape))}" if shape else "size not said"),
        ("weights", f"{weights}{held}" if weights else "none in the folder"),
        ("preprocessing", inlet.said if inlet else f"not read: {facts.why_no_inlet}"),
        *([("inlet", describe_inlet(inlet.inlet))] if inlet else []),
        ("can be converted", f"where {facts.library} is installed, which builds the model"),
    ]


def _weights(facts: Any) -> Rows:
    first = [f"{each.name} {list(each.shape)}" for each in facts.weights[:4]]
    shown = ", ".join(first) + (", ..." if len(facts.weights) > 4 else "")
    beside = f"; beside it: {some_of(facts.beside, 6)}" if facts.beside else ""
    return [
        *([("found under", f"the key {facts.key}{beside}")] if facts.key else []),
        ("tensors", f"{len(facts.weights)}: {shown}"),
        ("parameters", f"{grouped(facts.parameters)}, {', '.join(facts.dtypes)}"),
        ("file size", file_size(facts.size_bytes)),
        ("can be converted", "only with the code that builds the model"),
    ]


def _artifact(facts: Any) -> Rows:
    from zygal.inlet.description import describe_inlet

    metadata = facts.metadata
    inputs = [_tensor(name, dtype, shape) for name, (dtype, shape) in facts.inputs.items()]
    outputs = [
        f"{name}   {dtype} {_shape(shape)}{_scores(shape, facts.scores, name != facts.chosen.name)}"
        for name, (dtype, shape) in facts.outputs.items()
    ]
    known = f"{facts.runtime} {facts.oldest_runtime} or newer" if facts.oldest_runtime else "no known runtime release"
    runtime = known if facts.opset else facts.runtime
    origin = metadata.origin
    return [
        ("written by", facts.producer),
        *_numbered("input", inputs),
        *(
            [("", "raw pixels: 8-bit RGB of any size, all images of a batch of one size; the preprocessing is inside")]
            if metadata.tensor
            else []
        ),
        *_numbered("output", outputs),
        *([("signatures", ", ".join(facts.signatures))] if facts.signatures else []),
        ("labels", _names(metadata.labels) if metadata.labels else "none inside"),
        *([("", f"class order: {metadata.labels_order}")] if metadata.labels_order else []),
        ("inlet", describe_inlet(metadata.inlet) if metadata.inlet else "none inside"),
        *(
            [
                (
                    "precision",
                    f"{metadata.shrunk.precision}, made from {metadata.shrunk.artifact} "
                    f"({metadata.shrunk.settings}; {counted(metadata.shrunk.images, 'image')})",
                )
            ]
            if metadata.shrunk
            else []
        ),
        (
            "origin",
            f"{origin.source} (SHA-256 {origin.source_sha256[:16]}...), {origin.framework} {origin.framework_version}"
            if origin
            else "not recorded",
        ),
        ("layers", f"{facts.layers}, {counted(facts.nodes, 'node')}"),
        ("operators", ", ".join(f"{name} {count}" for name, count in facts.operators.items())),
        ("parameters", f"{grouped(facts.parameters)} numbers in the weights"),
        ("format", f"{facts.format}{'' if facts.opset else ','} {facts.version}; needs {runtime}"),
        ("file size", file_size(facts.size_bytes)),
    ]


def _witness(facts: Any) -> Rows:
    from zygal.classifier.scores import recorded_scores_kind

    scores, tensors = facts.scores, facts.tensors
    how = {"inlet": "the inlet below", "training code": f"the training code {facts.preprocessing.text}"}
    kept = "not recorded"
    if tensors is not None:
        kept = f"{_tensor('each', tensors.dtype, tensors.shape)}   from {tensors.min():.3f} to {tensors.max():.3f}"
    rows = [
        ("recorded by", f"{facts.framework} {facts.framework_version}".strip() + f", Zygal {facts.zygal_version}"),
        ("source", f"{facts.source}, SHA-256 {facts.source_sha256[:16]}..." if facts.source_sha256 else "not recorded"),
        (
            "images",
            f"{len(facts.images)} recorded, {len(facts.skipped)} skipped; {facts.images[0].name} to "
            f"{facts.images[-1].name}",
        ),
        ("tensors", kept),
        ("made by", how.get(facts.preprocessing.kind, facts.preprocessing.text)),
        (
            "scores",
            f"{counted(scores.shape[1], 'class')}, {recorded_scores_kind(scores)}, from {scores.min():.3f} to "
            f"{scores.max():.3f}",
        ),
    ]
    rows.append(("labels", _names(facts.labels) if facts.labels else "not recorded"))
    if facts.layers is not None:
        rows.append(
            (
                "layers",
                f"outputs of {len(facts.layers.names)} layers for {counted(len(facts.layers.quantiles), 'image')}",
            )
        )
    if facts.preprocessing.kind == "inlet":
        rows.append(("inlet", facts.preprocessing.text.strip()))
    return rows


def _inlet(inlet: Any) -> Rows:
    from zygal.graph.shapes import shape_text
    from zygal.inlet.description import describe_stages

    shape = tensor_shape(inlet)
    size = shape_text(("N", *shape)) if shape else "of the size of each image"
    return [*describe_stages(inlet), ("tensor", f"{inlet.tensor.dtype} {size}, {inlet.tensor.layout}")]


def _labels(labels: Any) -> Rows:
    return [("labels", _names(labels.names)), ("class order", labels.order), ("all", ", ".join(labels.names))]


def _names(labels: Sequence[str]) -> str:
    return f"{len(labels)}: {', '.join(labels[:4])}{', ...' if len(labels) > 4 else ''}"


def _tensor(name: str, dtype: Any, shape: Any) -> str:
    layout = image_layout(shape)
    return f"{name}   {dtype} {_shape(shape)}{f'   {layout}' if layout else ''}"


_PLAIN_NAME = re.compile(r"\d*[A-Za-z_]\w{0,19}")
"""Of an open size; exporters also write formulas and inner numbers."""


def _shape(shape: Any) -> str:
    def said(size: Any) -> str:
        plain = isinstance(size, int) or size is not None and _PLAIN_NAME.fullmatch(str(size))
        return str(size) if plain else "?"

    return "[" + ", ".join(map(said, shape)) + "]"


def _scores(shape: Any, scores: str, index: int) -> str:
    if index or shape is None or len(shape) != 2:
        return ""
    return f"   {counted(shape[1], 'class') if isinstance(shape[1], int) else 'number of classes not known'}, {scores}"


def _numbered(name: str, lines: list[str]) -> Rows:
    return [(name if not index else "", line) for index, line in enumerate(lines)]
