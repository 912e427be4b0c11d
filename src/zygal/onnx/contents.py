"""What an ONNX message declares: its inputs and outputs, its operators and weights, and which output has the scores."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import numpy as np
import onnx
from onnx import helper

from zygal.classifier.choice import Candidate, Choice, choose_output, depths, linear_place
from zygal.classifier.scores import OF_UNKNOWN_MEANING, operators_before, scores_by_operators
from zygal.graph import Batch, TensorType
from zygal.onnx.validate import STANDARD, tensors_of


def opset_of(model: onnx.ModelProto) -> int:
    """The version of the standard's operators that a valid message uses."""
    return next(each.version for each in model.opset_import if each.domain in STANDARD)


def declared(info: onnx.ValueInfoProto) -> tuple[str, tuple[int | str | None, ...]]:
    """The dtype of a declared tensor and its sizes; open ones by their names."""
    tensor = info.type.tensor_type
    sizes = []
    for size in tensor.shape.dim:
        known = size.HasField("dim_value") and size.dim_value >= 0
        sizes.append(size.dim_value if known else size.dim_param or None)
    try:
        dtype = helper.tensor_dtype_to_np_dtype(tensor.elem_type).name
    except KeyError:
        dtype = "unknown"
    return dtype, tuple(sizes)


def made_by(graph: onnx.GraphProto) -> dict[str, tuple[str, list[str]]]:
    """By value the operator that makes it, and what it reads. Those of other domains mean what they like."""
    return {
        name: (node.op_type if node.domain in STANDARD else OF_UNKNOWN_MEANING, list(node.input))
        for node in graph.node
        for name in node.output
    }


def choice_of(path: Path, graph: onnx.GraphProto, named: str | None, classes: int | None) -> Choice:
    """The output that is taken for the class scores. Raises SourceError if there is none of that name."""
    makers = made_by(graph)
    places = depths(makers)
    candidates = []
    for info in graph.output:
        dtype, shape = declared(info)
        known = dtype != "unknown" and all(isinstance(size, int) for size in shape[1:])
        type = TensorType(np.dtype(dtype), (Batch(), *shape[1:])) if known and shape else None
        candidates.append(Candidate(info.name, type, linear_place(info.name, makers, places)))
    return choose_output(str(path), candidates, named, classes)


def properties_of(model: onnx.ModelProto) -> dict[str, str]:
    """The text properties by their keys."""
    return {each.key: each.value for each in model.metadata_props}


def inputs_of(model: onnx.ModelProto) -> list[onnx.ValueInfoProto]:
    """The inputs that a caller gives; older files list their weights among them as well."""
    weights = {tensor.name for tensor in model.graph.initializer}
    return [info for info in model.graph.input if info.name not in weights]


def operators_in(model: onnx.ModelProto) -> dict[str, int]:
    """How often each operator is used, the commonest first."""
    return dict(Counter(node.op_type for node in model.graph.node).most_common())


def parameter_count(model: onnx.ModelProto) -> int:
    """How many numbers the weights hold: floating-point ones, or those stored in 8 bits, of which a single one is a
    zero point. Some exporters write weights as constants in nodes."""
    weights = (
        each
        for each in tensors_of(model)
        if each.data_type in (1, 10, 11, 16) or each.data_type in (2, 3) and len(each.dims) > 1
    )
    return sum(int(np.prod(each.dims, dtype=np.int64)) for each in weights)


def scores_of(model: onnx.ModelProto, name: str) -> str:
    """What the scores of an output are, by the operators that lead to it."""
    return scores_by_operators(operators_before(name, made_by(model.graph)))
