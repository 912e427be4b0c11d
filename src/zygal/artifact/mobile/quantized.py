"""Operators between stored numbers compute with them as they are stored: the real numbers around them are left out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from zygal.mobile.model import MobileModel, Operator, Quantization, Tensor

_FREE = (
    "ADD",
    "SUB",
    "MUL",
    "MEAN",
    "LEAKY_RELU",
    "HARD_SWISH",
    "RELU",
    "RELU6",
    "RELU_N1_TO_1",
    "CONV_2D",
    "DEPTHWISE_CONV_2D",
    "FULLY_CONNECTED",
)
"""Operators that take any steps at both ends."""
_SAME = (
    "MAX_POOL_2D",
    "AVERAGE_POOL_2D",
    "RESHAPE",
    "TRANSPOSE",
    "CONCATENATION",
    "SLICE",
    "STRIDED_SLICE",
    "GATHER",
    "PAD",
    "RESIZE_BILINEAR",
    "RESIZE_NEAREST_NEIGHBOR",
    "MAXIMUM",
    "MINIMUM",
    "SPACE_TO_DEPTH",
    "DEPTH_TO_SPACE",
)
"""Operators whose results have the steps of what they are given."""
_FIXED = {"LOGISTIC": (1 / 256, -128), "SOFTMAX": (1 / 256, -128), "TANH": (1 / 128, 0)}
"""Operators whose results have these steps, by the format's specification of 8-bit operators (int8)."""
_WEIGHTED = ("CONV_2D", "DEPTHWISE_CONV_2D", "FULLY_CONNECTED")
_VERSIONS = {"CONV_2D": 3, "DEPTHWISE_CONV_2D": 3, "FULLY_CONNECTED": 4, "HARD_SWISH": 1}


def computed_as_stored(model: MobileModel) -> MobileModel:
    """Replaces operators whose inputs are all widened and whose result is stored again at once."""
    model = _stored_once(_read_after_moving(_stored_once(_stored_before_reshaping(_stored_once(model)))))
    uses, makers = model.uses(), model.makers()
    quantized = dict(model.quantized) | {
        each.outputs[0]: each.inputs[0] for each in model.operators if each.name == "DEQUANTIZE"
    }
    operators: list[Operator | None] = list(model.operators)
    for at, after in enumerate(model.operators):
        before = makers.get(after.inputs[0]) if after.name == "QUANTIZE" else None
        if before is None or operators[before] is None or uses[after.inputs[0]] != 1:
            continue
        made = _as_stored(model, operators[before], after.outputs[0], quantized)
        if made is not None:
            operators[before], operators[at] = None, made
            makers[after.outputs[0]] = at
    return replace(model, operators=[each for each in operators if each is not None])


def _stored_once(model: MobileModel) -> MobileModel:
    """What is widened and stored again in the same steps is what it was."""
    widened = {each.outputs[0]: each.inputs[0] for each in model.operators if each.name == "DEQUANTIZE"}
    same: dict[int, int] = {}
    operators = []
    for each in model.operators:
        each = replace(each, inputs=[same.get(number, number) for number in each.inputs])
        before = (
            model.tensors[widened[each.inputs[0]]] if each.name == "QUANTIZE" and each.inputs[0] in widened else None
        )
        result = model.tensors[each.outputs[0]]
        if (
            before is not None
            and before.dtype == result.dtype
            and before.quantization.same_as(result.quantization)
            and each.outputs[0] not in model.outputs
        ):
            same[each.outputs[0]] = same.get(widened[each.inputs[0]], widened[each.inputs[0]])
        else:
            operators.append(each)
    return replace(model, operators=operators)


def _stored_before_reshaping(model: MobileModel) -> MobileModel:
    """What is reshaped and then stored is stored first: reshaping does not care."""
    uses, makers = model.uses(), model.makers()
    tensors, changed, gone = list(model.tensors), {}, set()
    for after in model.operators:
        place = makers.get(after.inputs[0]) if after.name == "QUANTIZE" else None
        moved = None if place is None else model.operators[place]
        if (
            moved is None
            or moved.name != "RESHAPE"
            or uses[after.inputs[0]] != 1
            or tensors[after.outputs[0]].quantization.per_axis
        ):
            continue
        before, result = tensors[moved.inputs[0]], tensors[after.outputs[0]]
        tensors.append(
            replace(before, name=f"{result.name}.before", dtype=result.dtype, quantization=result.quantization)
        )
        inner = len(tensors) - 1
        changed[id(after)] = [
            replace(after, inputs=[moved.inputs[0]], outputs=[inner]),
            replace(moved, inputs=[inner, *moved.inputs[1:]], outputs=after.outputs),
        ]
        gone.add(id(moved))
    operators = [new for each in model.operators if id(each) not in gone for new in changed.get(id(each), [each])]
    return replace(model, tensors=tensors, operators=operators)


_MOVING = ("TRANSPOSE", "RESHAPE", "PAD", "MAX_POOL_2D")
"""Operators that do to stored numbers what they do to real ones; a border of zeros is one of zero points."""


def _read_after_moving(model: MobileModel) -> MobileModel:
    """What is widened and then moved is moved as it is stored, and widened then: so it stands directly before what
    computes with it."""
    tensors, operators = list(model.tensors), []
    widened = {each.outputs[0]: each.inputs[0] for each in model.operators if each.name == "DEQUANTIZE"}
    for each in model.operators:
        quantized = tensors[widened[each.inputs[0]]] if each.name in _MOVING and each.inputs[0] in widened else None
        plain = (
            quantized is not None
            and quantized.dtype in ("int8", "uint8")
            and not quantized.quantization.per_axis
            and not each.options.get("activation")
        )
        if not plain or each.outputs[0] in model.outputs:
            operators.append(each)
            continue
        result = tensors[each.outputs[0]]
        tensors.append(
            replace(result, name=f"{result.name}.stored", dtype=quantized.dtype, quantization=quantized.quantization)
        )
        moved = len(tensors) - 1
        operators += [
            replace(
                each,
                inputs=[widened[each.inputs[0]], *each.inputs[1:]],
                outputs=[moved],
                version=max(each.version, 2 if each.name != "RESHAPE" else 1),
            ),
            Operator("DEQUANTIZE", [moved], [each.outputs[0]], {}, 2),
        ]
        widened[each.outputs[0]] = moved
    return replace(model, tensors=tensors, operators=_needed(operators, model.outputs))


def _needed(operators: list[Operator], outputs: list[int]) -> list[Operator]:
    """Without the widening that nothing reads any more."""
    read = {number for each in operators for number in each.inputs} | set(outputs)
    return [each for each in operators if each.name != "DEQUANTIZE" or each.outputs[0] in read]


def _as_stored(model: MobileModel, operator: Operator, result: int, quantized: dict[int, int]) -> Operator | None:
    tensors, quantization = model.tensors, model.tensors[result].quantization
    real = [number for number in operator.inputs if tensors[number].dtype == "float32"]
    weighted = operator.name in _WEIGHTED
    if any(number not in quantized for number in (real[:2] if weighted else real)) or not real:
        return None
    first = tensors[quantized[real[0]]]
    if first.dtype != tensors[result].dtype or any(
        tensors[quantized[each]].dtype != first.dtype for each in (real[:2] if weighted else real)
    ):
        return None
    if operator.name in _SAME:
        fits = all(quantization.same_as(tensors[quantized[each]].quantization) for each in real)
    elif operator.name in _FIXED:
        fits = first.dtype == "int8" and np.allclose(
            [quantization.scales[0], quantization.zero_points[0]], _FIXED[operator.name], rtol=1e-6
        )
    else:
        fits = operator.name in _FREE
    if not fits:
        return None
    inputs = [quantized.get(number, number) for number in operator.inputs]
    if weighted:
        bias = _bias(model, operator, quantized)
        if bias is None:
            return None
        inputs[2:] = [bias]
    return replace(
        operator, inputs=inputs, outputs=[result], version=max(operator.version, _VERSIONS.get(operator.name, 2))
    )


def _bias(model: MobileModel, operator: Operator, quantized: dict[int, int]) -> int | None:
    """The bias in steps of the products of what is stored; None where it cannot be had."""
    given, weight = (model.tensors[quantized[number]].quantization for number in operator.inputs[:2])
    scales = (given.scales[0] * weight.scales).astype(np.float32)
    place = operator.inputs[2] if len(operator.inputs) > 2 else -1
    if place in quantized:
        kept = model.tensors[quantized[place]]
        return (
            quantized[place]
            if kept.dtype == "int32" and np.allclose(kept.quantization.scales, scales, rtol=1e-5)
            else None
        )
    numbers = model.tensors[place].data if place >= 0 else np.zeros(weight.scales.size, np.float32)
    if numbers is None or numbers.any():
        return None
    count = model.tensors[operator.outputs[0]].shape[-1]
    model.tensors.append(
        Tensor(
            f"{model.tensors[operator.outputs[0]].name}.bias",
            (count,),
            "int32",
            data=np.zeros(count, np.int32),
            quantization=Quantization(scales, np.zeros(scales.size, np.int64)),
        )
    )
    return len(model.tensors) - 1


def widened(model: MobileModel) -> MobileModel:
    """Stored constants that are read as real numbers, each through an operator that widens it."""
    read = {number for operator in model.operators for number in operator.inputs}
    added, tensors = [], list(model.tensors)
    for real, kept in model.quantized.items():
        if real in read and tensors[kept].dtype in ("int8", "uint8"):
            tensors[real] = replace(tensors[real], data=None)
            added.append(Operator("DEQUANTIZE", [kept], [real], {}, 2))
    return replace(model, tensors=tensors, operators=[*added, *model.operators])
