"""Operators on every element by itself, and on pairs of elements."""

from __future__ import annotations

from functools import reduce
from math import sqrt

import numpy as np

from zygal.sources.layouts import View
from zygal.sources.recipes import accurate, activations
from zygal.sources.recipes.elementary import ELEMENTARY
from zygal.sources.tensorflow.site import Chance, NodeSite, Value, dtype_name, operator
from zygal.sources.tensorflow.table_control import mask
from zygal.sources.tensorflow.tensors import in_float32


def unary(function, *names: str) -> None:
    @operator(*names)
    def one(call: NodeSite) -> View:
        return with_origin(call, call.x(), lambda view: call.elementwise(view, lambda x: function(call, x)))


def with_origin(call: NodeSite, view: View, function) -> View:
    """A function of a matrix that an image was reshaped to, and beside it of the image itself; what nobody reads is
    dropped."""
    made = function(view)
    return made if view.origin is None else View(made.name, made.order, made.permutation, function(view.origin))


for _row in ELEMENTARY:
    for _name in _row.tensorflow.split():
        unary(_row.apply, _name)


def _floor(call: NodeSite) -> Value:
    given = call.given(0)
    if isinstance(given, Chance):
        # The old form of dropout: floor(chance + kept) is 1 as often as `kept` says.
        return mask(call, given.added)
    return call.elementwise(call.x(), lambda x: call.step("Floor", x) if call.type_of(x).dtype.kind == "f" else x)


operator("Floor")(_floor)
unary(lambda call, x: activations.clipped(call, x, 0, 6), "Relu6")
unary(lambda call, x: _complementary_error(call, x), "Erfc")
unary(lambda call, x: activations.gelu(call, x, bool(call.attribute("approximate", True))), "Gelu")
unary(lambda call, x: activations.silu(call, x), "_Swish", "Swish")


@operator("Prelu")
def parametric(call: NodeSite) -> View:
    """A slope for each channel, or for each element."""
    return pair(call, lambda x, slope: call.step("PRelu", x, slope))


def _complementary_error(call: NodeSite, x: str) -> str:
    """1 - erf(x). Of -z c it is 1 + erf(z c), and where c is the root of one half it is what GELU is written with."""
    scaled = call.made_by(x)
    negative = call.made_by(scaled.inputs[0]) if scaled is not None and scaled.operator == "Mul" else None
    factor = call.array(scaled.inputs[1]) if negative is not None and negative.operator == "Neg" else None
    if factor is None or factor.size != 1:
        return accurate.complementary_error(call, x)
    z, one = negative.inputs[0], call.number(1.0, x)
    if np.float32(factor.reshape(-1)[0]) == np.float32(sqrt(0.5)):
        return call.step("Add", call.step("Erf", call.step("Div", z, call.number(sqrt(2), z))), one)
    return call.step("Add", call.step("Erf", call.step("Mul", z, scaled.inputs[1])), one)


@operator("LeakyRelu")
def leaky(call: NodeSite) -> View:
    slope = float(call.attribute("alpha", 0.2))
    return with_origin(
        call, call.x(), lambda view: call.elementwise(view, lambda x: call.step("LeakyRelu", x, alpha=slope))
    )


@operator("Cast")
def cast(call: NodeSite) -> Value:
    """Every floating point is computed in float32."""
    target = call.dtype("DstT")
    given = call.given(0)
    if isinstance(given, Chance):
        return given
    view, name = call.x(), dtype_name(call.attribute("DstT", 1))
    if name in ("float16", "bfloat16"):
        call.note(f"the graph computes in {name}; the artifact computes in float32")
    if call.type_of(view.name).dtype == target:
        return view
    return call.elementwise(view, lambda x: call.step("Cast", x, to=target.name))


@operator("Bitcast")
def same_bits(call: NodeSite) -> View:
    array, target = call.static(0, "bits"), call.dtype("type")
    return call.held(in_float32(array.view(target), target.name), "bits")


def pair(call: NodeSite, function) -> View:
    """A function of two tensors that are broadcast together."""
    first, second = call.xs()
    made = _together(call, [first, second], function)
    origins = _origins(call, first, second)
    return (
        made if origins is None else View(made.name, made.order, made.permutation, _together(call, origins, function))
    )


def _together(call: NodeSite, views: list[View], function) -> View:
    names, lead = call.together(views)
    return View(function(*names), lead.order, lead.permutation)


def _origins(call: NodeSite, first: View, second: View) -> list[View] | None:
    """The images behind two matrices, or behind one whose other is the same for every row."""
    if first.origin is not None and second.origin is not None and call.shape(first.origin) == call.shape(second.origin):
        return [first.origin, second.origin]
    for one, other, turned in ((first, second, False), (second, first, True)):
        width = call.shape(other)
        if one.origin is not None and other.origin is None and (len(width) < 2 and call.array(other.name) is not None):
            return [other, one.origin] if turned else [one.origin, other]
    return None


def binary(function, *names: str) -> None:
    @operator(*names)
    def two(call: NodeSite) -> Value:
        call.attribute("incompatible_shape_error")
        return pair(call, lambda left, right: function(call, left, right))


def _step(name: str):
    return lambda call, left, right: call.step(name, left, right)


for _name, _operator in {
    "Sub": "Sub",
    "Mul": "Mul",
    "Maximum": "Max",
    "Minimum": "Min",
    "Pow": "Pow",
    "Greater": "Greater",
    "GreaterEqual": "GreaterOrEqual",
    "Less": "Less",
    "LessEqual": "LessOrEqual",
    "Equal": "Equal",
    "LogicalAnd": "And",
    "LogicalOr": "Or",
    "RealDiv": "Div",
}.items():
    binary(_step(_operator), _name)


@operator("Add", "AddV2")
def add(call: NodeSite) -> Value:
    given = [call.given(0), call.given(1)]
    chance = next((each for each in given if isinstance(each, Chance)), None)
    if chance is not None:
        return Chance(chance.added + float(call.static_number(1 - given.index(chance), "a probability")))
    return pair(call, lambda left, right: call.step("Add", left, right))


@operator("GreaterEqual", "Greater", "Less", "LessEqual")
def compared(call: NodeSite) -> Value:
    """Comparing chance with a rate keeps as many as the rate says."""
    names = {"GreaterEqual": "GreaterOrEqual", "Greater": "Greater", "Less": "Less", "LessEqual": "LessOrEqual"}
    if isinstance(call.given(0), Chance):
        rate = float(call.static_number(1, "a rate")) - call.given(0).added
        return mask(call, 1 - rate if call.kind.startswith("Greater") else rate)
    return pair(call, lambda left, right: call.step(names[call.kind], left, right))


def _divided(call: NodeSite, left: str, right: str) -> str:
    """Of whole numbers the quotient without its fraction, towards zero."""
    return call.step("Div", left, right)


def _floor_divided(call: NodeSite, left: str, right: str) -> str:
    if call.type_of(left).dtype.kind == "f":
        return call.step("Floor", call.step("Div", left, right))
    if (
        call.contents(left) is not None
        and call.contents(right) is not None
        and (
            np.array(
                [
                    not isinstance(each, int) or each >= 0
                    for known in (call.contents(left), call.contents(right))
                    for each in known.flat
                ]
            ).all()
        )
    ):
        return call.step("Div", left, right)
    return call.step("Div", call.step("Sub", left, call.step("Mod", left, right)), right)


def _floor_modulus(call: NodeSite, left: str, right: str) -> str:
    if call.type_of(left).dtype.kind != "f":
        return call.step("Mod", left, right)
    whole = call.step("Floor", call.step("Div", left, right))
    return call.step("Sub", left, call.step("Mul", whole, right))


def _zero_where(call: NodeSite, other: str, made: str) -> str:
    zero = call.number(0.0, made)
    return call.step("Where", call.step("Equal", other, call.number(0.0, other)), zero, made)


binary(_divided, "Div")
binary(_floor_divided, "FloorDiv")
binary(_divided, "TruncateDiv")
binary(_floor_modulus, "FloorMod")
binary(lambda call, a, b: call.step("Mod", a, b, fmod=1), "Mod", "TruncateMod")
binary(lambda call, a, b: call.step("Not", call.step("Equal", a, b)), "NotEqual")
binary(lambda call, a, b: (lambda d: call.step("Mul", d, d))(call.step("Sub", a, b)), "SquaredDifference")
binary(lambda call, a, b: _zero_where(call, b, call.step("Div", a, b)), "DivNoNan")
binary(lambda call, a, b: _zero_where(call, b, call.step("Mul", a, b)), "MulNoNan")
binary(lambda call, a, b: _zero_where(call, a, call.step("Div", a, b)), "Xdivy")
binary(lambda call, a, b: _zero_where(call, a, call.step("Mul", a, call.step("Log", b))), "Xlogy")


@operator("FakeQuantWithMinMaxVars", "FakeQuantWithMinMaxArgs", "FakeQuantWithMinMaxVarsPerChannel")
def as_if_quantised(call: NodeSite) -> View:
    """The nearest of so many even steps between two limits, one of which is 0; Jacob et al., 2018."""
    if call.kind.endswith("Args"):
        low, high = (
            np.array(call.attribute(name, default), np.float32) for name, default in (("min", -6.0), ("max", 6.0))
        )
    else:
        low, high = (call.static(place, "limits").astype(np.float32) for place in (1, 2))
    first, last = int(bool(call.attribute("narrow_range", False))), 2 ** int(call.attribute("num_bits", 8)) - 1
    step = (high - low) / np.float32(last - first)
    zero = np.clip(np.floor(first - low / step + np.float32(0.5)), first, last)
    least, most = ((np.asarray(end - zero) * step).astype(np.float32) for end in (first, last))

    def stepped(x: str) -> str:
        limits = [call.constant(np.asarray(each, np.float32), "limit") for each in (least, most, step)]
        inside = call.step("Min", call.step("Max", x, limits[0]), limits[1])
        counted = call.step("Div", call.step("Sub", inside, limits[0]), limits[2])
        whole = call.step("Floor", call.step("Add", counted, call.number(0.5, x)))
        return call.step("Add", call.step("Mul", whole, limits[2]), limits[0])

    view = call.x() if step.ndim == 0 else call.value(call.plain(call.x()))
    return call.elementwise(view, stepped)


@operator("AddN", "AccumulateNV2")
def sum_of_all(call: NodeSite) -> View:
    call.attribute("shape")
    return reduce(lambda left, right: _together(call, [left, right], lambda a, b: call.step("Add", a, b)), call.xs())


@operator("ClipByValue")
def clip(call: NodeSite) -> View:
    low, high = (call.static(place, "limits") for place in (1, 2))
    if low.size == high.size == 1:
        ends = [float(each.reshape(-1)[0]) for each in (low, high)]
        return call.elementwise(call.x(), lambda x: activations.clipped(call, x, *ends))
    above = _together(call, [call.x(), call.x(1)], lambda a, b: call.step("Max", a, b))
    return _together(call, [above, call.x(2)], lambda a, b: call.step("Min", a, b))


@operator("SelectV2")
def select(call: NodeSite) -> View:
    condition, left, right = (call.given(place) for place in range(3))
    if isinstance(condition, View) and call.type_of(condition.name).dtype.kind == "f":
        # A mask of dropout that stands for its probability.
        return _together(call, [left, condition], lambda a, b: call.step("Mul", a, b))
    names, lead = call.together(call.xs())
    return View(call.step("Where", *names), lead.order, lead.permutation)


@operator("Select")
def select_rows(call: NodeSite) -> View:
    """A condition with fewer axes chooses whole rows."""
    condition, left, right = call.xs()
    missing = len(left.order) - len(condition.order)
    if missing and condition.order:
        wide = call.step("Unsqueeze", call.plain(condition), axes=list(range(len(condition.order), len(left.order))))
        condition = call.value(wide)
    names, lead = call.together([condition, left, right])
    return View(call.step("Where", *names), lead.order, lead.permutation)


@operator("Softmax", "LogSoftmax")
def softmax(call: NodeSite) -> View:
    view = call.x()
    return View(call.step(call.kind, call.gathered(view), axis=view.order.index(len(view.order) - 1)), view.order)


@operator("Atan2")
def angle(call: NodeSite) -> View:
    return pair(call, lambda rise, run: accurate.angle(call, rise, run))


@operator("Ndtri", "Lgamma", "Digamma", "Igamma")
def special(call: NodeSite) -> View:
    return call.refuse("is a special function, which an artifact does not have")
