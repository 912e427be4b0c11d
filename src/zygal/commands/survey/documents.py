"""What `survey` found, as documents."""

from __future__ import annotations

from dataclasses import asdict
from typing import Any


def tensor_document(name: str, dtype: Any, shape: Any) -> dict[str, Any]:
    """shape: sizes, names of dynamic sizes, or None for what is not known."""
    from zygal.classifier.layout import image_layout

    sizes = None if shape is None else [size if isinstance(size, int) or size is None else str(size) for size in shape]
    return {
        "name": name,
        "dtype": "unknown" if dtype is None else str(dtype),
        "shape": sizes,
        "layout": image_layout(shape),
    }


def trained_document(facts: Any) -> dict[str, Any]:
    """A trained model as JSON data."""
    return {
        "framework": facts.framework,
        "framework_version": facts.framework_version,
        "file_format": facts.file_format,
        "inputs": [
            tensor_document(name, type and type.dtype, type and type.shape) for name, type in facts.inputs.items()
        ],
        "outputs": [
            tensor_document(name, type and type.dtype, type and type.shape) for name, type in facts.outputs.items()
        ],
        "scores": facts.scores,
        "scores_output": facts.chosen.name,
        "softmax_twice": facts.softmax_twice,
        "mode": facts.mode,
        "preprocessing_layers": list(facts.preprocessing),
        "operators": dict(facts.operators),
        "unknown_operators": list(facts.unknown_operators),
        "layers": list(facts.layers),
        "tensors": facts.tensors,
        "parameters": facts.parameters,
        "weight_dtypes": [str(each) for each in facts.weight_dtypes],
        "size_bytes": facts.size_bytes,
        "signatures": [_signature(each) for each in facts.signatures],
        "labels": list(facts.labels) if facts.labels else None,
        "inlet": facts.inlet and asdict(facts.inlet),
        "cannot_be_converted": facts.why_not or None,
    }


def folder_document(facts: Any) -> dict[str, Any]:
    """A model folder as JSON data."""
    tensors = facts.tensors()
    found = facts.inlet
    return {
        "library": facts.library,
        "library_version": facts.release or None,
        "architecture": facts.architecture,
        "classes": facts.classes,
        "labels": list(facts.labels.names) if facts.labels else None,
        "image_shape": list(facts.image_shape) if facts.image_shape else None,
        "weights_files": [each.name for each in facts.weights],
        "weights": tensors and tensors.document(),
        "preprocessing": found and {"name": found.name, "library": found.library, "computed_on": found.way},
        "inlet": found and asdict(found.inlet),
        "no_inlet_because": facts.why_no_inlet or None,
    }


def _signature(each: Any) -> dict[str, Any]:
    from zygal.classifier.layout import image_layout

    tensors = {
        side: [
            {
                "key": key,
                "name": name,
                "dtype": dtype,
                "shape": None if sizes is None else list(sizes),
                "layout": image_layout(sizes or ()),
            }
            for key, (name, dtype, sizes) in listed.items()
        ]
        for side, listed in (("inputs", each.inputs), ("outputs", each.outputs))
    }
    return {"name": each.name, "tags": list(each.tags), **tensors, "taken": each.taken}


def artifact_document(facts: Any) -> dict[str, Any]:
    """An artifact as JSON data."""
    metadata = facts.metadata
    return {
        "sha256": facts.sha256,
        "inputs": [tensor_document(name, dtype, shape) for name, (dtype, shape) in facts.inputs.items()],
        "outputs": [tensor_document(name, dtype, shape) for name, (dtype, shape) in facts.outputs.items()],
        "scores": facts.scores,
        "scores_output": facts.chosen.name,
        "format": facts.format,
        "format_version": facts.version,
        "signatures": list(facts.signatures),
        "opset": facts.opset,
        "ir_version": facts.ir_version,
        "oldest_runtime": facts.oldest_runtime,
        "producer": facts.producer,
        "operators": dict(facts.operators),
        "nodes": facts.nodes,
        "layers": facts.layers,
        "parameters": facts.parameters,
        "size_bytes": facts.size_bytes,
        "raw_pixels": metadata.tensor is not None,
        "inlet": metadata.inlet and asdict(metadata.inlet),
        "labels": list(metadata.labels) if metadata.labels else None,
        "labels_order": metadata.labels_order,
        "origin": metadata.origin and asdict(metadata.origin),
        "shrunk": metadata.shrunk and asdict(metadata.shrunk),
    }


def witness_document(facts: Any) -> dict[str, Any]:
    """A witness as JSON data."""
    from zygal.classifier.scores import recorded_scores_kind

    tensors = facts.tensors
    return {
        "framework": facts.framework,
        "framework_version": facts.framework_version,
        "source": facts.source,
        "source_sha256": facts.source_sha256,
        "images": [asdict(image) for image in facts.images],
        "skipped": [{"file": name, "reason": reason} for name, reason in facts.skipped],
        "tensors": None if tensors is None else {"dtype": str(tensors.dtype), "shape": list(tensors.shape)},
        "layers": list(facts.layers.names) if facts.layers else None,
        "classes": facts.scores.shape[1],
        "labels": list(facts.labels) if facts.labels else None,
        "scores": recorded_scores_kind(facts.scores),
        "preprocessing": asdict(facts.preprocessing),
    }


def labels_document(labels: Any) -> dict[str, Any]:
    """Labels as JSON data."""
    return {"labels": list(labels.names), "labels_order": labels.order}
