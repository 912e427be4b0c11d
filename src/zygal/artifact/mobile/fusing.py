"""Joins operators that the format can express as one, and leaves out what no output needs."""

from __future__ import annotations

from dataclasses import replace

from zygal.artifact.mobile.quantized import computed_as_stored, widened
from zygal.mobile.model import MobileModel, Operator
from zygal.mobile.schema import ACTIVATION_NUMBERS

_ACTIVATED = (
    "CONV_2D",
    "DEPTHWISE_CONV_2D",
    "FULLY_CONNECTED",
    "ADD",
    "SUB",
    "MUL",
    "DIV",
    "AVERAGE_POOL_2D",
    "MAX_POOL_2D",
)


def fused(model: MobileModel) -> MobileModel:
    """The model with biases and activations inside the operators before them."""
    model = _without_dead(model)
    for join in (_bias_into, _activation_into):
        model = _joined(model, join)
    return _without_unread(widened(_without_dead(computed_as_stored(model))))


def _joined(model: MobileModel, join) -> MobileModel:
    uses, maker = model.uses(), model.makers()
    operators: list[Operator | None] = list(model.operators)
    for at, operator in enumerate(model.operators):
        for place, number in enumerate(operator.inputs[:2]):
            before = maker.get(number)
            if before is None or uses[number] != 1 or operators[before] is None:
                continue
            made = join(model, operators[before], operator, place)
            if made is not None:
                # The joined operator stands where the later one was: all that it reads is there by then.
                operators[before], operators[at] = None, made
                maker[made.outputs[0]] = at
                break
    return replace(model, operators=[each for each in operators if each is not None])


def _bias_into(model: MobileModel, product: Operator, addition: Operator, place: int) -> Operator | None:
    """x W + b with one number for each column."""
    if (
        product.name != "FULLY_CONNECTED"
        or len(product.inputs) != 2
        or addition.name != "ADD"
        or addition.options["activation"]
    ):
        return None
    bias = model.tensors[addition.inputs[1 - place]]
    columns = model.tensors[product.outputs[0]].shape[-1]
    if (
        bias.data is None
        or bias.shape != (columns,)
        or model.tensors[addition.outputs[0]].shape != model.tensors[product.outputs[0]].shape
    ):
        return None
    return replace(product, inputs=[*product.inputs, addition.inputs[1 - place]], outputs=addition.outputs)


def _activation_into(model: MobileModel, before: Operator, activation: Operator, place: int) -> Operator | None:  # noqa: ARG001
    number = ACTIVATION_NUMBERS.get(activation.name) if activation.name in ("RELU", "RELU6", "RELU_N1_TO_1") else None
    if (
        number is None
        or before.name not in _ACTIVATED
        or before.options["activation"]
        or model.tensors[before.outputs[0]].dtype != "float32"
    ):
        return None
    return replace(before, options={**before.options, "activation": number}, outputs=activation.outputs)


def _without_dead(model: MobileModel) -> MobileModel:
    needed, kept = set(model.outputs), []
    for operator in reversed(model.operators):
        if needed.intersection(operator.outputs):
            needed.update(operator.inputs)
            kept.append(operator)
    return replace(model, operators=kept[::-1])


def _without_unread(model: MobileModel) -> MobileModel:
    """Only the tensors that an operator reads or makes, numbered anew."""
    read = {number for operator in model.operators for number in (*operator.inputs, *operator.outputs)} | {
        *model.inputs,
        *model.outputs,
    }
    numbers = {old: new for new, old in enumerate(sorted(read - {-1}))} | {-1: -1}
    operators = [
        replace(
            each,
            inputs=[numbers[number] for number in each.inputs],
            outputs=[numbers[number] for number in each.outputs],
        )
        for each in model.operators
    ]
    signatures = [
        replace(
            each,
            inputs={name: numbers[at] for name, at in each.inputs.items()},
            outputs={name: numbers[at] for name, at in each.outputs.items()},
        )
        for each in model.signatures
    ]
    return replace(
        model,
        tensors=[model.tensors[old] for old in sorted(read - {-1})],
        operators=operators,
        inputs=[numbers[each] for each in model.inputs],
        outputs=[numbers[each] for each in model.outputs],
        signatures=signatures,
    )
