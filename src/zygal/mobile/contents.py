"""Inputs, outputs and scores of a flatbuffer, by names."""

from __future__ import annotations

import numpy as np

from zygal.classifier.choice import Candidate, Choice, choose_output, linear_place
from zygal.graph import Batch, TensorType
from zygal.mobile.model import MobileModel

_PLAIN_NAMES = {
    "LOGISTIC": "sigmoid",
    "SOFTMAX": "softmax",
    "LOG_SOFTMAX": "logsoftmax",
    "FULLY_CONNECTED": "linear",
    "BATCH_MATMUL": "matmul",
    "RESHAPE": "reshape",
    "SQUEEZE": "squeeze",
    "DEQUANTIZE": "cast",
    "QUANTIZE": "cast",
    "CAST": "cast",
    "ADD": "add",
    "MUL": "mul",
}
"""What the scores are is told by operators in the words of `zygal.classifier.scores`."""


def names_of(model: MobileModel, numbers: list[int], side: str) -> dict[str, int]:
    """Inputs or outputs by the names of the only signature, else by those of their tensors."""
    names = {number: model.tensors[number].name for number in numbers}
    if len(model.signatures) == 1:
        names.update({number: name for name, number in getattr(model.signatures[0], side).items() if number in names})
    return {name: number for number, name in names.items()}


def made_by_names(model: MobileModel) -> dict[str, tuple[str, list[str]]]:
    """The operator, in the words of `zygal.classifier.scores`, and the inputs of each tensor, by names."""
    tensors = model.tensors
    return {
        tensors[number].name: (
            _PLAIN_NAMES.get(each.name, each.name),
            [tensors[place].name for place in each.inputs if place >= 0 and tensors[place].data is None],
        )
        for each in model.operators
        for number in each.outputs
    }


def choice(
    where: str, model: MobileModel, outputs: dict[str, int], made_by, named: str | None, classes: int | None
) -> Choice:
    """The output that is taken for the class scores."""
    places = {
        model.tensors[number].name: place for place, each in enumerate(model.operators) for number in each.outputs
    }
    candidates = []
    for name, number in outputs.items():
        tensor = model.tensors[number]
        dtype = "float32" if tensor.quantization is not None else tensor.dtype
        known = dtype in ("float32", "float16", "int32", "int64", "uint8", "int8", "bool") and len(tensor.shape) > 0
        type = TensorType(np.dtype(dtype), (Batch(), *tensor.shape[1:])) if known else None
        candidates.append(Candidate(name, type, linear_place(tensor.name, made_by, places)))
    return choose_output(where, candidates, named, classes)
