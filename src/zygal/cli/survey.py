"""zygal survey: what a file is and what is in it."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any

from zygal.cli.options import new_command
from zygal.cli.output import check_json, console, counted, file_size, show_facts, write_json


def register(commands) -> None:
    command = new_command(
        commands,
        "survey",
        "Says what a source, an artifact, a witness or an inlet is: what to feed and fetch, layers, sizes, versions.",
        "zygal survey channel_marks.pt2",
    )
    command.add_argument("file", metavar="FILE", help="a trained model, an artifact, a witness, an inlet or labels")
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal import kinds
    from zygal.survey import survey

    check_json(options.json)
    found = survey(options.file)
    describe = {
        kinds.PROGRAM: _trained,
        kinds.KERAS_ARCHIVE: _trained,
        kinds.HDF5: _trained,
        kinds.ARTIFACT: _artifact,
        kinds.WITNESS: _witness,
        kinds.INLET: _inlet,
        kinds.LABELS: _labels,
    }[found.kind]
    rows, document = describe(found.facts)
    show_facts(console(), f"{found.path} is {found.kind}", rows)
    write_json(options.json, {"file": found.path, "kind": found.kind, **document})
    return 0


Description = tuple[list[tuple[str, str]], dict[str, Any]]


def _trained(facts) -> Description:
    inputs = [_tensor_line(name, type.dtype, type.shape) for name, type in facts.inputs.items() if type]
    outputs = [
        f"{name}   {type or 'of unknown shape'}{_scores_note(type and type.shape, facts.scores, place)}"
        for place, (name, type) in enumerate(facts.outputs.items())
    ]
    operators = {_short(name): count for name, count in facts.operators.items()}
    unknown = ", ".join(facts.unknown_operators)
    of_layers = facts.framework == "Keras"
    what = "layer" if of_layers else "operator"
    rows = [
        ("made by", f"{facts.framework} {facts.framework_version}, {facts.file_format}"),
        *_numbered("feed", inputs),
        *_numbered("fetch", outputs),
        *(
            [("prepares", f"images itself, in {', '.join(facts.preprocessing)}; do not do that in the inlet again")]
            if facts.preprocessing
            else []
        ),
        (
            "layers",
            f"{len(facts.layers)} layers"
            + ("" if of_layers else f", {counted(sum(operators.values()), 'call')} of operators"),
        ),
        ("kinds" if of_layers else "operators", ", ".join(f"{name} {count}" for name, count in operators.items())),
        (
            "parameters",
            f"{_grouped(facts.parameters)} trained, in {', '.join(facts.weight_dtypes) or 'no float dtype'}",
        ),
        ("file size", file_size(facts.size_bytes)),
        ("converts", f"no: unknown {what}s {unknown}" if unknown else f"every {what} is known"),
    ]
    document = asdict(facts) | {
        "inputs": [_tensor_json(name, type.dtype, type.shape) for name, type in facts.inputs.items() if type],
        "outputs": [_tensor_json(name, type.dtype, type.shape) for name, type in facts.outputs.items() if type],
        "layers": facts.layers,
    }
    return rows, document


def _artifact(facts) -> Description:
    from zygal.inlet.description import describe_inlet

    inputs = [_tensor_line(name, dtype, shape) for name, (dtype, shape) in facts.inputs.items()]
    outputs = [
        f"{name}   {dtype} {_open_shape(shape)}{_scores_note(shape, facts.scores, place)}"
        for place, (name, (dtype, shape)) in enumerate(facts.outputs.items())
    ]
    metadata = facts.metadata
    oldest = f"ONNX Runtime {facts.oldest_runtime} or newer" if facts.oldest_runtime else "not known for this opset"
    rows = [
        ("made by", facts.producer),
        *_numbered("feed", inputs),
        *([("", "raw pixels: 8-bit RGB of any size, all images of a batch of one size; the inlet is inside")]
          if metadata.tensor else []),
        *_numbered("fetch", outputs),
        ("labels", _label_line(metadata.labels) if metadata.labels else "none inside"),
        *([("", f"in the order of: {metadata.labels_order}")] if metadata.labels_order else []),
        ("inlet", describe_inlet(metadata.inlet) if metadata.inlet else "none inside"),
        ("origin", _origin_line(metadata.origin) if metadata.origin else "not said"),
        ("layers", f"{facts.layers} layers in {counted(facts.nodes, 'node')}"),
        ("operators", ", ".join(f"{name} {count}" for name, count in facts.operators.items())),
        ("parameters", f"{_grouped(facts.parameters)} numbers in the weights"),
        ("format", f"ONNX opset {facts.opset}, IR version {facts.ir_version}; runs on {oldest}"),
        ("file size", file_size(facts.size_bytes)),
    ]  # fmt: skip
    document = asdict(facts) | {
        "inputs": [_tensor_json(name, dtype, shape) for name, (dtype, shape) in facts.inputs.items()],
        "outputs": [_tensor_json(name, dtype, shape) for name, (dtype, shape) in facts.outputs.items()],
        "oldest_runtime": facts.oldest_runtime,
        "metadata": {
            "labels": metadata.labels,
            "labels_order": metadata.labels_order,
            "inlet": asdict(metadata.inlet) if metadata.inlet else None,
            "origin": asdict(metadata.origin) if metadata.origin else None,
        },
    }
    return rows, document


def _witness(facts) -> Description:
    from zygal.scores import recorded_scores_kind

    scores = recorded_scores_kind(facts.scores)
    classes = facts.scores.shape[1]
    tensors = facts.tensors
    how = {"inlet": "this inlet", "training code": f"the training code {facts.preprocessing.text}"}
    rows = [
        ("recorded by", f"{facts.framework} {facts.framework_version}".strip() + f", Zygal {facts.zygal_version}"),
        ("source", f"{facts.source}, SHA-256 {facts.source_sha256[:16]}..." if facts.source_sha256 else "not said"),
        (
            "images",
            f"{len(facts.images)} recorded, {len(facts.skipped)} skipped; {facts.images[0].name} to {facts.images[-1].name}",
        ),
        (
            "tensors",
            "none were kept"
            if tensors is None
            else f"{_tensor_line('each', tensors.dtype, tensors.shape)}   from {tensors.min():.3f} to {tensors.max():.3f}",
        ),
        ("scores", f"{counted(classes, 'class')}, {scores}, from {facts.scores.min():.3f} to {facts.scores.max():.3f}"),
        ("tensors by", how.get(facts.preprocessing.kind, facts.preprocessing.text)),
    ]
    if facts.layers is not None:
        rows.append(("layers", f"outputs of {len(facts.layers.names)} layers for {len(facts.layers.quantiles)} images"))
    if facts.preprocessing.kind == "inlet":
        rows.append(("", facts.preprocessing.text.strip()))
    document = {
        "framework": facts.framework,
        "framework_version": facts.framework_version,
        "source": facts.source,
        "source_sha256": facts.source_sha256,
        "images": [asdict(image) for image in facts.images],
        "skipped": [{"name": name, "reason": reason} for name, reason in facts.skipped],
        "tensors": None if tensors is None else {"dtype": tensors.dtype, "shape": tensors.shape},
        "layers": list(facts.layers.names) if facts.layers else None,
        "classes": classes,
        "scores": scores,
        "preprocessing": asdict(facts.preprocessing),
    }
    return rows, document


def _inlet(inlet) -> Description:
    from zygal.graph.shapes import shape_text
    from zygal.inlet.description import describe_stages

    shape = inlet.tensor_shape()
    made = shape_text(("N", *shape)) if shape else "of a size that depends on each image"
    return [*describe_stages(inlet), ("feeds", f"{inlet.tensor.dtype} {made}, {inlet.tensor.layout}")], asdict(inlet)


def _labels(labels) -> Description:
    rows = [("labels", _label_line(labels.names)), ("order", labels.order), ("all", ", ".join(labels.names))]
    return rows, {"labels": labels.names, "labels_order": labels.order, "notes": labels.notes}


def _label_line(labels) -> str:
    return f"{len(labels)}: {', '.join(labels[:4])}{', ...' if len(labels) > 4 else ''}"


def _origin_line(origin) -> str:
    return f"{origin.source} (SHA-256 {origin.source_sha256[:16]}...), {origin.framework} {origin.framework_version}"


def _tensor_line(name: str, dtype, shape) -> str:
    from zygal.layout import image_layout

    layout = image_layout(shape)
    return f"{name}   {dtype} {_open_shape(shape)}{f'   {layout}' if layout else ''}"


def _open_shape(shape) -> str:
    return "[" + ", ".join("?" if size is None else str(size) for size in shape) + "]"


def _scores_note(shape, scores: str, place: int) -> str:
    if place or shape is None or len(shape) != 2:
        return ""
    return f"   {counted(shape[1], 'class') if isinstance(shape[1], int) else 'classes not said'}, {scores}"


def _tensor_json(name: str, dtype, shape) -> dict[str, Any]:
    from zygal.layout import image_layout

    return {"name": name, "dtype": str(dtype), "shape": _shape_json(shape), "layout": image_layout(shape)}


def _shape_json(shape) -> list | None:
    return None if shape is None else [size if isinstance(size, int) or size is None else str(size) for size in shape]


def _numbered(name: str, lines: list[str]) -> list[tuple[str, str]]:
    return [(name if not place else "", line) for place, line in enumerate(lines)]


def _short(target: str) -> str:
    return target.removeprefix("aten.").partition(".")[0]


def _grouped(number: int) -> str:
    return f"{number:,}".replace(",", " ")
