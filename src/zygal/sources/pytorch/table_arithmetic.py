"""ATen operators of arithmetic, comparison and choice, element by element."""

from __future__ import annotations

from math import inf, log

import numpy as np

from zygal.sources.pytorch.calls import Site, aten


def together(call: Site, left: str, right: str) -> tuple[str, str]:
    """Both operands in the dtype that the framework computes in: truth < integers < fractions."""
    types = [call.type_of(value).dtype for value in (left, right)]
    if types[0] == types[1]:
        return left, right
    target = np.dtype(np.float32) if "f" in (types[0].kind, types[1].kind) else np.promote_types(*types)
    left, right = (
        value if dtype == target else call.step("Cast", value, to=target.name)
        for value, dtype in zip((left, right), types)
    )
    return left, right


def operands(call: Site) -> tuple[str, str]:
    """The arguments self and other, of which either may be a plain number, in one dtype."""
    if call.is_tensor("self"):
        left = call.tensor("self")
        if not call.is_tensor("other"):
            left = _wide_enough(call, left, call.plain("other"))
            return left, call.number(call.plain("other"), left)
        return together(call, left, call.tensor("other"))
    right = _wide_enough(call, call.tensor("other"), call.plain("self"))
    return call.number(call.plain("self"), right), right


def _wide_enough(call: Site, value: str, number: float) -> str:
    """The value in a dtype that can hold the plain number it meets: truth meets integers, integers meet fractions."""
    kind = call.type_of(value).dtype.kind
    if isinstance(number, float) and kind != "f":
        return call.step("Cast", value, to="float32")
    if not isinstance(number, bool) and kind == "b":
        return call.step("Cast", value, to="int64")
    return value


OF_TRUTH = {"Add": "Or", "Mul": "And", "Max": "Or", "Min": "And"}
"""What arithmetic is on truth values."""


def _arithmetic(operator: str, *names: str) -> None:
    def arithmetic(call: Site):
        left, right = operands(call)
        if call.plain("alpha", 1) != 1:
            right = call.step("Mul", right, call.number(call.plain("alpha"), right))
        truth = call.type_of(left).dtype == bool
        return call.result(OF_TRUTH.get(operator, operator) if truth else operator, left, right)

    aten(*names)(arithmetic)


_arithmetic("Add", "add.Tensor", "add.Scalar")
_arithmetic("Sub", "sub.Tensor", "sub.Scalar", "subtract.Tensor", "subtract.Scalar")
_arithmetic("Mul", "mul.Tensor", "mul.Scalar", "multiply.Tensor", "multiply.Scalar")
_arithmetic("Max", "maximum.default", "max.other")
_arithmetic("Min", "minimum.default", "min.other")
_arithmetic("Equal", "eq.Tensor", "eq.Scalar")
_arithmetic("Less", "lt.Tensor", "lt.Scalar")
_arithmetic("Greater", "gt.Tensor", "gt.Scalar")
_arithmetic("LessOrEqual", "le.Tensor", "le.Scalar")
_arithmetic("GreaterOrEqual", "ge.Tensor", "ge.Scalar")


@aten("remainder.Scalar", "remainder.Tensor")
def remainder(call: Site):
    """With the sign of the divisor; the standard's operator has that for integers alone."""
    left, right = operands(call)
    if call.type_of(left).dtype.kind != "f":
        return call.result("Mod", left, right)
    rest, other = _rest_and_side(call, left, right)
    return call.result("Where", other, call.step("Add", rest, right), rest)


def _rest_and_side(call: Site, left: str, right: str) -> tuple[str, str]:
    """What is left of a division with the sign of the dividend, and whether it lies on the other side of zero than the divisor."""
    rest = call.step("Mod", left, right, fmod=1)
    zero = call.number(0.0, rest)
    some = call.step("Not", call.step("Equal", rest, zero))
    return rest, call.step("And", some, call.step("Xor", call.step("Less", rest, zero), call.step("Less", right, zero)))


def _floor_of_quotient(call: Site, left: str, right: str) -> str:
    """As the framework has it for fractions: from the rest, so that the quotient is exact; infinite where the divisor is zero."""
    rest, other = _rest_and_side(call, left, right)
    exact = call.step("Div", call.step("Sub", left, rest), right)
    one, zero = call.number(1.0, exact), call.number(0.0, exact)
    exact = call.step("Where", other, call.step("Sub", exact, one), exact)
    whole = call.step("Floor", exact)
    late = call.step("Greater", call.step("Sub", exact, whole), call.number(0.5, exact))
    whole = call.step("Where", late, call.step("Add", whole, one), whole)
    return call.step("Where", call.step("Equal", right, zero), call.step("Div", left, right), whole)


@aten("ne.Tensor", "ne.Scalar")
def differs(call: Site):
    return call.result("Not", call.step("Equal", *operands(call)))


def _logical(operator: str, *names: str) -> None:
    def logical(call: Site):
        both = [call.tensor("self"), call.tensor("other")]
        both = [v if call.type_of(v).dtype == bool else call.step("Cast", v, to="bool") for v in both]
        return call.result(operator, *both)

    aten(*names)(logical)


_logical("And", "logical_and.default", "bitwise_and.Tensor", "__and__.Tensor")
_logical("Or", "logical_or.default", "bitwise_or.Tensor", "__or__.Tensor")
_logical("Xor", "logical_xor.default", "bitwise_xor.Tensor")


@aten("div.Tensor", "div.Scalar", "true_divide.Tensor", "divide.Tensor")
def divide(call: Site):
    left, right = operands(call)
    if call.type_of(left).dtype.kind != "f":
        left, right = (call.step("Cast", value, to="float32") for value in (left, right))
    return call.result("Div", left, right)


@aten("div.Tensor_mode", "div.Scalar_mode", "floor_divide.default", "floor_divide.Scalar")
def divide_rounded(call: Site):
    mode = call.plain("rounding_mode", "floor" if "floor" in call.call.target else None)
    left, right = operands(call)
    if mode is None:
        return call.result("Div", left, right)
    recorded = call.type_of(left).dtype
    if recorded.kind != "f":
        left, right = (call.step("Cast", value, to="float64") for value in (left, right))
    if mode == "floor" and recorded.kind == "f":
        return _floor_of_quotient(call, left, right)
    quotient = call.step("Div", left, right)
    if mode == "floor":
        rounded = call.step("Floor", quotient)
    else:
        rounded = call.step("Mul", call.step("Sign", quotient), call.step("Floor", call.step("Abs", quotient)))
    return call.result("Cast", rounded, to=recorded.name)


@aten("rsub.Scalar", "rsub.Tensor")
def reverse_subtract(call: Site):
    left, right = operands(call)
    if call.plain("alpha", 1) != 1:
        left = call.step("Mul", left, call.number(call.plain("alpha"), left))
    return call.result("Sub", right, left)


@aten("pow.Tensor_Scalar")
def power(call: Site):
    x, exponent = call.tensor("self"), call.plain("exponent")
    if exponent == 2:
        return call.result("Mul", x, x)
    if exponent == 0.5:
        return call.result("Sqrt", x)
    return call.result("Pow", x, call.number(exponent, x))


@aten("pow.Tensor_Tensor")
def power_by_tensor(call: Site):
    return call.result("Pow", *together(call, call.tensor("self"), call.tensor("exponent")))


@aten("pow.Scalar")
def power_of_number(call: Site):
    exponent = call.tensor("exponent")
    return call.result("Pow", call.number(call.plain("self"), exponent), exponent)


@aten("where.self", "where.ScalarOther", "where.ScalarSelf", "where.Scalar")
def where(call: Site):
    condition = call.tensor("condition")
    if call.is_tensor("self") or call.is_tensor("other"):
        return call.result("Where", condition, *operands(call))
    fractions = any(isinstance(call.plain(name), float) for name in ("self", "other"))
    numbers = [np.array(call.plain(name), np.float32 if fractions else np.int64) for name in ("self", "other")]
    return call.result("Where", condition, *(call.constant(number, "number") for number in numbers))


@aten("masked_fill.Scalar", "masked_fill.Tensor")
def masked_fill(call: Site):
    x = call.tensor("self")
    filling = call.tensor("value") if call.is_tensor("value") else call.number(call.plain("value"), x)
    return call.result("Where", call.tensor("mask"), filling, x)


@aten("lerp.Scalar", "lerp.Tensor")
def interpolate_linearly(call: Site):
    start, end = call.tensor("self"), call.tensor("end")
    weight = call.tensor("weight") if call.is_tensor("weight") else call.number(call.plain("weight"), start)
    return call.result("Add", start, call.step("Mul", weight, call.step("Sub", end, start)))


@aten("addcmul.default")
def add_product(call: Site):
    product = call.step("Mul", call.tensor("tensor1"), call.tensor("tensor2"))
    return call.result(
        "Add", call.tensor("self"), call.step("Mul", product, call.number(call.plain("value", 1), product))
    )


@aten("rsqrt.default")
def reciprocal_root(call: Site):
    return call.result("Reciprocal", call.step("Sqrt", call.tensor("self")))


def _logarithm(name: str, base: float) -> None:
    def logarithm(call: Site):
        x = call.tensor("self")
        return call.result("Mul", call.step("Log", x), call.number(1 / log(base), x))

    aten(name)(logarithm)


_logarithm("log2.default", 2)
_logarithm("log10.default", 10)


@aten("trunc.default", "fix.default")
def truncate(call: Site):
    x = call.tensor("self")
    return call.result("Mul", call.step("Sign", x), call.step("Floor", call.step("Abs", x)))


@aten("frac.default")
def fraction(call: Site):
    return call.result("Sub", call.tensor("self"), truncate(call))


@aten("logit.default")
def logit(call: Site):
    x, margin = call.tensor("self"), call.plain("eps")
    if margin is not None:
        x = call.step("Clip", x, min=float(margin), max=1 - float(margin))
    return call.result("Log", call.step("Div", x, call.step("Sub", call.number(1, x), x)))


@aten("fmod.Scalar", "fmod.Tensor")
def remainder_of_dividend(call: Site):
    return call.result("Mod", *operands(call), fmod=1)


@aten("square.default")
def square(call: Site):
    x = call.tensor("self")
    return call.result("Mul", x, x)


@aten("expm1.default")
def exponential_minus_one(call: Site):
    x = call.tensor("self")
    return call.result("Sub", call.step("Exp", x), call.number(1, x))


@aten("log1p.default")
def log_one_plus(call: Site):
    x = call.tensor("self")
    return call.result("Log", call.step("Add", x, call.number(1, x)))


@aten("clamp.default", "clamp_min.default", "clamp_max.default", "clip.default")
def clamp(call: Site):
    limits = {name: call.plain(name) for name in ("min", "max")}
    given = {name: float(value) for name, value in limits.items() if value is not None and abs(float(value)) != inf}
    return call.clipped(call.tensor("self"), given.get("min"), given.get("max"))


@aten("clamp.Tensor", "clamp_min.Tensor", "clamp_max.Tensor")
def clamp_by_tensors(call: Site):
    x = call.tensor("self")
    if call.has("min"):
        x = (call.step if call.has("max") else call.result)("Max", x, call.tensor("min"))
    return call.result("Min", x, call.tensor("max")) if call.has("max") else x
