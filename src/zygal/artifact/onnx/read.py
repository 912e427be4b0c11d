"""ONNX files read back: what they say of themselves."""

from __future__ import annotations

from pathlib import Path

import onnx

from zygal.artifact.facts import Artifact
from zygal.classifier.metadata import Metadata
from zygal.errors import ArtifactError
from zygal.files.opening import sha256_of_all
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
from zygal.onnx.read import beside_of, files_beside, is_own, load_model

__all__ = ["facts_of", "files_beside", "is_own", "read"]
RUNTIME_FOR_OPSET = {
    13: "1.7",
    14: "1.8",
    15: "1.10",
    16: "1.11",
    17: "1.12",
    18: "1.14",
    19: "1.15",
    20: "1.17",
    21: "1.18",
    22: "1.21",
    23: "1.23",
}
"""The oldest release of ONNX Runtime that runs each opset, from its compatibility table."""


def read(path: str | Path, output: str | None = None) -> Artifact:
    """What an ONNX file says of itself. output: which of its outputs are the class scores, if it has several; the one
    that looks like them unless named. Raises FileError, ArtifactError or InletError; SourceError if there is no such
    output."""
    return facts_of(Path(path), load_model(path), output)


def facts_of(path: Path, model: onnx.ModelProto, output: str | None = None, classes: int | None = None) -> Artifact:
    """The same of a message that was read. classes: how many there are, if it is known; else by the labels inside."""
    try:
        return _facts(path, model, output, classes)
    except (TypeError, AttributeError, ValueError) as fault:
        # The protobuf library hands damaged text out as bytes.
        raise ArtifactError(f"{path} is damaged ({fault}); convert it again from its source.") from fault


def _facts(path: Path, model: onnx.ModelProto, output: str | None, classes: int | None) -> Artifact:
    opset, beside = opset_of(model), beside_of(model, path)
    metadata = Metadata.from_properties(properties_of(model), str(path))
    chosen = choice_of(path, model.graph, output, classes or (len(metadata.labels) if metadata.labels else None))
    return Artifact(
        path=path,
        sha256=sha256_of_all([path, *beside]),
        format="ONNX",
        version=f"opset {opset}, IR version {model.ir_version}",
        runtime="ONNX Runtime",
        oldest_runtime=RUNTIME_FOR_OPSET.get(max(opset, 13)),
        inputs={info.name: declared(info) for info in inputs_of(model)},
        outputs={info.name: declared(info) for info in model.graph.output},
        opset=opset,
        ir_version=model.ir_version,
        producer=f"{model.producer_name} {model.producer_version}".strip() or "unknown",
        operators=operators_in(model),
        nodes=len(model.graph.node),
        layers=len({node.name.rpartition("/")[0] or node.name for node in model.graph.node}),
        parameters=parameter_count(model),
        scores=metadata.scores or scores_of(model, chosen.name),
        chosen=chosen,
        size_bytes=sum(each.stat().st_size for each in (path, *beside)),
        metadata=metadata,
    )
