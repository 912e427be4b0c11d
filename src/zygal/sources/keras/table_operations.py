"""The framework's functions that functional models keep as layers; of the second age under the names that it had for
them."""

from __future__ import annotations

from typing import Any

from zygal.sources.keras.handlers import operation
from zygal.sources.keras.site import LayerSite
from zygal.sources.layouts import View
from zygal.sources.layouts.arranging import softmax_along
from zygal.sources.recipes.activations import gelu as gelu_of
from zygal.sources.recipes.elementary import ELEMENTARY
from zygal.sources.recipes.normalisation import unit_length
from zygal.sources.recipes.normalisation import variance as variance_of


def _operands(call: LayerSite) -> list[View]:
    """Two arguments, of which either may be a number or an array."""
    given = [
        call.argument(at, names[0], call.named.get(names[1])) for at, names in enumerate((("x1", "x"), ("x2", "y")))
    ]
    if given[1] is None:
        given[1] = call.named.get("bias")
    tensor = next((each for each in given if isinstance(each, View)), None)
    if tensor is None:
        call.refuse("computes with no tensor")
    return [each if isinstance(each, View) else call.constant_view(each, tensor) for each in given]


def _binary(operator: str, *names: str) -> None:
    @operation(*names)
    def binary(call: LayerSite) -> View:
        names, lead = call.together(_operands(call))
        return View(call.step(operator, *names), lead.order, lead.permutation)


_binary("Add", "Add", "math.add", "__operators__.add", "add", "nn.bias_add")
_binary("Sub", "Subtract", "math.subtract", "__operators__.sub", "subtract")
_binary("Mul", "Multiply", "math.multiply", "__operators__.mul", "multiply")
_binary("Div", "TrueDivide", "Divide", "math.truediv", "math.divide", "__operators__.truediv", "realdiv")
_binary("Pow", "Power", "math.pow")
_binary("Max", "Maximum", "math.maximum")
_binary("Min", "Minimum", "math.minimum")
_binary("Greater", "Greater")
_binary("Less", "Less")


def _reverse(operator: str, *names: str) -> None:
    @operation(*names)
    def reverse(call: LayerSite) -> View:
        names, lead = call.together(_operands(call)[::-1])
        return View(call.step(operator, *names), lead.order, lead.permutation)


_reverse("Sub", "__operators__.rsub")
_reverse("Div", "__operators__.rtruediv")


for _row in ELEMENTARY:
    for _name in _row.keras.split():
        operation(_name)(lambda call, row=_row: call.elementwise(call.x, lambda x: row.apply(call, x)))


@operation("Round", "math.round")
def rounded(call: LayerSite) -> View:
    """To so many decimals, halves to the even one."""
    decimals = int(static(call, 1, "decimals", 0))
    if not decimals:
        return call.elementwise(call.x, lambda x: call.step("Round", x))

    def at_decimals(x: str) -> str:
        factor = call.number(10.0 ** abs(decimals), x)
        there, back = ("Mul", "Div") if decimals > 0 else ("Div", "Mul")
        return call.step(back, call.step("Round", call.step(there, x, factor)), factor)

    return call.elementwise(call.x, at_decimals)


@operation("Gelu", "nn.gelu")
def gelu(call: LayerSite) -> View:
    approximate = bool(call.config.get("approximate", call.argument(1, "approximate", call.shown.class_name == "Gelu")))
    return call.elementwise(call.x, lambda x: gelu_of(call, x, approximate))


@operation("Softmax", "nn.softmax", "LogSoftmax", "nn.log_softmax")
def softmax(call: LayerSite) -> View:
    axis = static(call, 1, "axis", -1)
    return softmax_along(call, call.x, int(axis), "log" in call.function.lower())


@operation("LeakyRelu", "nn.leaky_relu")
def leaky(call: LayerSite) -> View:
    slope = float(static(call, 1, "negative_slope", call.named.get("alpha", 0.2)))
    return call.elementwise(call.x, lambda x: call.step("LeakyRelu", x, alpha=slope))


@operation("Clip", "clip_by_value")
def clip(call: LayerSite) -> View:
    low = static(call, 1, "x_min", call.named.get("clip_value_min"))
    high = static(call, 2, "x_max", call.named.get("clip_value_max"))
    return call.elementwise(call.x, lambda x: call.step("Clip", x, min=float(low), max=float(high)))


def static(call: LayerSite, position: int, name: str, default: Any = None) -> Any:
    """An argument that is no tensor: given in the call, or kept in the function's configuration."""
    value = call.argument(position, name, call.config.get(name, default))
    if isinstance(value, View):
        call.refuse(f"has a tensor for {name}")
    return default if value is None else value


def _reduction(operator: str, *names: str) -> None:
    @operation(*names)
    def reduction(call: LayerSite) -> View:
        view = call.x
        axes, keep = axes_of(call, view), bool(static(call, 2, "keepdims", False))
        positions = sorted(view.order.index(axis) for axis in axes)
        made = call.step(operator, call.gathered(view), axes=positions, keepdims=int(keep))
        first = static(call, 3, "initial") if operator in _WITH_INITIAL else None
        if first is not None:
            made = call.step(_WITH_INITIAL[operator], made, call.number(float(first), made))
        return View(made, view.order if keep else _without(view.order, axes))


_WITH_INITIAL = {"ReduceMax": "Max", "ReduceMin": "Min"}
"""Reductions that may begin with a number of their own, and what joins it to the rest."""


def axes_of(call: LayerSite, view: View) -> list[int]:
    axes = static(call, 1, "axis")
    rank = call.rank(view)
    if axes is None:
        call.refuse("reduces everything, the batch included")
    return sorted(axis % rank for axis in ([axes] if isinstance(axes, int) else axes))


def _without(order: tuple[int, ...], axes: list[int]) -> tuple[int, ...]:
    left = [axis for axis in order if axis not in axes]
    return tuple(sorted(left).index(axis) for axis in left)


_reduction("ReduceMean", "Mean", "math.reduce_mean")
_reduction("ReduceSum", "Sum", "math.reduce_sum")
_reduction("ReduceMax", "Max", "Amax", "math.reduce_max")
_reduction("ReduceMin", "Min", "Amin", "math.reduce_min")
_reduction("ReduceProd", "Prod", "math.reduce_prod")


@operation("Var", "Std", "math.reduce_variance", "math.reduce_std")
def variance(call: LayerSite) -> View:
    view = call.x
    axes, keep = axes_of(call, view), bool(static(call, 2, "keepdims", False))
    made = variance_of(call, call.gathered(view), sorted(view.order.index(axis) for axis in axes), keep)
    made = call.step("Sqrt", made) if call.function.lower().endswith("std") else made
    return View(made, view.order if keep else _without(view.order, axes))


@operation("Normalize", "math.l2_normalize")
def normalize(call: LayerSite) -> View:
    view = call.x
    axis, order = int(static(call, 1, "axis", -1)), static(call, 2, "order", 2)
    if order not in (1, 2):
        call.refuse(f"normalises by the norm {order}, which is not supported")
    if call.function == "math.l2_normalize":  # The second age compares squares.
        least = float(static(call, 2, "epsilon", 1e-12)) ** 0.5
    else:
        least = float(static(call, 3, "epsilon", 1e-7))
    if least <= 0:
        call.refuse(f"normalises by lengths of at least {least}")
    position = view.order.index(axis % call.rank(view))
    return View(unit_length(call, call.gathered(view), [position], least, order), view.order)


@operation("Matmul", "linalg.matmul", "Dot")
def product(call: LayerSite) -> View:
    left, right = _operands(call)
    names = []
    for view, turned in ((left, call.named.get("transpose_a")), (right, call.named.get("transpose_b"))):
        name, rank = call.plain(view), call.rank(view)
        names.append(call.step("Transpose", name, perm=[*range(rank - 2), rank - 1, rank - 2]) if turned else name)
    return call.named_view(call.step("MatMul", *names))


@operation("Einsum", "einsum")
def einsum(call: LayerSite) -> View:
    equation = call.config.get("subscripts") or call.argument(0, "subscripts")
    given = [each for each in call.positional if not isinstance(each, str)]
    given = given[0] if len(given) == 1 and isinstance(given[0], (list, tuple)) else given
    if "..." in equation:
        call.refuse("leaves axes of its equation open, which is not supported")
    return call.named_view(
        call.step("Einsum", *(call.plain(view) for view in given), equation=equation.replace(" ", ""))
    )
