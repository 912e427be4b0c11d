"""ATen operators of arithmetic, comparison and choice, element by element."""

from __future__ import annotations

from math import inf

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.recipes.activations import clipped


def together(site: Site, left: str, right: str) -> tuple[str, str]:
    """Both operands in the dtype that the framework computes in: truth < integers < fractions."""
    types = [site.type_of(value).dtype for value in (left, right)]
    if types[0] == types[1]:
        return left, right
    target = np.dtype(np.float32) if "f" in (types[0].kind, types[1].kind) else np.promote_types(*types)
    left, right = (
        value if dtype == target else site.step("Cast", value, to=target.name)
        for value, dtype in zip((left, right), types)
    )
    return left, right


def operands(site: Site) -> tuple[str, str]:
    """The arguments self and other, of which either may be a plain number, in one dtype."""
    if site.is_tensor("self"):
        left = site.tensor("self")
        if not site.is_tensor("other"):
            left = _wide_enough(site, left, site.plain("other"))
            return left, site.number(site.plain("other"), left)
        return together(site, left, site.tensor("other"))
    right = _wide_enough(site, site.tensor("other"), site.plain("self"))
    return site.number(site.plain("self"), right), right


def _wide_enough(site: Site, value: str, number: float) -> str:
    """The value in a dtype that can hold the plain number it meets: truth meets integers, integers meet fractions."""
    kind = site.type_of(value).dtype.kind
    if isinstance(number, float) and kind != "f":
        return site.step("Cast", value, to="float32")
    if not isinstance(number, bool) and kind == "b":
        return site.step("Cast", value, to="int64")
    return value


OF_TRUTH = {"Add": "Or", "Mul": "And", "Max": "Or", "Min": "And"}
"""What arithmetic is on truth values."""


def _arithmetic(operator: str, *names: str) -> None:
    def arithmetic(site: Site):
        left, right = operands(site)
        if site.plain("alpha", 1) != 1:
            right = site.step("Mul", right, site.number(site.plain("alpha"), right))
        truth = site.type_of(left).dtype == bool
        return site.step(OF_TRUTH.get(operator, operator) if truth else operator, left, right)

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
def remainder(site: Site):
    """With the sign of the divisor; the standard's operator has that for integers alone."""
    left, right = operands(site)
    if site.type_of(left).dtype.kind != "f":
        return site.step("Mod", left, right)
    rest, other = _rest_and_side(site, left, right)
    return site.step("Where", other, site.step("Add", rest, right), rest)


def _rest_and_side(site: Site, left: str, right: str) -> tuple[str, str]:
    """What is left of a division with the sign of the dividend, and whether it lies on the other side of zero than the
    divisor."""
    rest = site.step("Mod", left, right, fmod=1)
    zero = site.number(0.0, rest)
    some = site.step("Not", site.step("Equal", rest, zero))
    return rest, site.step("And", some, site.step("Xor", site.step("Less", rest, zero), site.step("Less", right, zero)))


def _floor_of_quotient(site: Site, left: str, right: str) -> str:
    """As the framework has it for fractions: from the rest, so that the quotient is exact; infinite where the divisor
    is zero."""
    rest, other = _rest_and_side(site, left, right)
    exact = site.step("Div", site.step("Sub", left, rest), right)
    one, zero = site.number(1.0, exact), site.number(0.0, exact)
    exact = site.step("Where", other, site.step("Sub", exact, one), exact)
    whole = site.step("Floor", exact)
    late = site.step("Greater", site.step("Sub", exact, whole), site.number(0.5, exact))
    whole = site.step("Where", late, site.step("Add", whole, one), whole)
    return site.step("Where", site.step("Equal", right, zero), site.step("Div", left, right), whole)


@aten("ne.Tensor", "ne.Scalar")
def differs(site: Site):
    return site.step("Not", site.step("Equal", *operands(site)))


def _logical(operator: str, *names: str) -> None:
    def logical(site: Site):
        both = [site.tensor("self"), site.tensor("other")]
        both = [v if site.type_of(v).dtype == bool else site.step("Cast", v, to="bool") for v in both]
        return site.step(operator, *both)

    aten(*names)(logical)


_logical("And", "logical_and.default", "bitwise_and.Tensor", "__and__.Tensor")
_logical("Or", "logical_or.default", "bitwise_or.Tensor", "__or__.Tensor")
_logical("Xor", "logical_xor.default", "bitwise_xor.Tensor")


@aten("div.Tensor", "div.Scalar", "true_divide.Tensor", "divide.Tensor")
def divide(site: Site):
    left, right = operands(site)
    if site.type_of(left).dtype.kind != "f":
        left, right = (site.step("Cast", value, to="float32") for value in (left, right))
    return site.step("Div", left, right)


@aten("div.Tensor_mode", "div.Scalar_mode", "floor_divide.default", "floor_divide.Scalar")
def divide_rounded(site: Site):
    mode = site.plain("rounding_mode", "floor" if "floor" in site.target else None)
    left, right = operands(site)
    if mode is None:
        return site.step("Div", left, right)
    recorded = site.type_of(left).dtype
    if recorded.kind != "f":
        left, right = (site.step("Cast", value, to="float64") for value in (left, right))
    if mode == "floor" and recorded.kind == "f":
        return _floor_of_quotient(site, left, right)
    quotient = site.step("Div", left, right)
    if mode == "floor":
        rounded = site.step("Floor", quotient)
    else:
        rounded = site.step("Mul", site.step("Sign", quotient), site.step("Floor", site.step("Abs", quotient)))
    return site.step("Cast", rounded, to=recorded.name)


@aten("rsub.Scalar", "rsub.Tensor")
def reverse_subtract(site: Site):
    left, right = operands(site)
    if site.plain("alpha", 1) != 1:
        left = site.step("Mul", left, site.number(site.plain("alpha"), left))
    return site.step("Sub", right, left)


@aten("pow.Tensor_Scalar")
def power(site: Site):
    x, exponent = site.tensor("self"), site.plain("exponent")
    if exponent == 2:
        return site.step("Mul", x, x)
    if exponent == 0.5:
        return site.step("Sqrt", x)
    return site.step("Pow", x, site.number(exponent, x))


@aten("pow.Tensor_Tensor")
def power_by_tensor(site: Site):
    return site.step("Pow", *together(site, site.tensor("self"), site.tensor("exponent")))


@aten("pow.Scalar")
def power_of_number(site: Site):
    exponent = site.tensor("exponent")
    return site.step("Pow", site.number(site.plain("self"), exponent), exponent)


@aten("where.self", "where.ScalarOther", "where.ScalarSelf", "where.Scalar")
def where(site: Site):
    condition = site.tensor("condition")
    if site.is_tensor("self") or site.is_tensor("other"):
        return site.step("Where", condition, *operands(site))
    fractions = any(isinstance(site.plain(name), float) for name in ("self", "other"))
    numbers = [np.array(site.plain(name), np.float32 if fractions else np.int64) for name in ("self", "other")]
    return site.step("Where", condition, *(site.constant(number, "number") for number in numbers))


@aten("masked_fill.Scalar", "masked_fill.Tensor")
def masked_fill(site: Site):
    x = site.tensor("self")
    filling = site.tensor("value") if site.is_tensor("value") else site.number(site.plain("value"), x)
    return site.step("Where", site.tensor("mask"), filling, x)


@aten("lerp.Scalar", "lerp.Tensor")
def interpolate_linearly(site: Site):
    start, end = site.tensor("self"), site.tensor("end")
    weight = site.tensor("weight") if site.is_tensor("weight") else site.number(site.plain("weight"), start)
    return site.step("Add", start, site.step("Mul", weight, site.step("Sub", end, start)))


@aten("addcmul.default")
def add_product(site: Site):
    product = site.step("Mul", site.tensor("tensor1"), site.tensor("tensor2"))
    return site.step(
        "Add", site.tensor("self"), site.step("Mul", product, site.number(site.plain("value", 1), product))
    )


@aten("trunc.default", "fix.default")
def truncate(site: Site):
    x = site.tensor("self")
    return site.step("Mul", site.step("Sign", x), site.step("Floor", site.step("Abs", x)))


@aten("frac.default")
def fraction(site: Site):
    return site.step("Sub", site.tensor("self"), truncate(site))


@aten("logit.default")
def logit(site: Site):
    x, margin = site.tensor("self"), site.plain("eps")
    if margin is not None:
        x = site.step("Clip", x, min=float(margin), max=1 - float(margin))
    return site.step("Log", site.step("Div", x, site.step("Sub", site.number(1, x), x)))


@aten("fmod.Scalar", "fmod.Tensor")
def remainder_of_dividend(site: Site):
    return site.step("Mod", *operands(site), fmod=1)


@aten("clamp.default", "clamp_min.default", "clamp_max.default", "clip.default")
def clamp(site: Site):
    limits = {name: site.plain(name) for name in ("min", "max")}
    given = {name: float(value) for name, value in limits.items() if value is not None and abs(float(value)) != inf}
    return clipped(site, site.tensor("self"), given.get("min"), given.get("max"))


@aten("clamp.Tensor", "clamp_min.Tensor", "clamp_max.Tensor")
def clamp_by_tensors(site: Site):
    x = site.tensor("self")
    if site.has("min"):
        x = site.step("Max", x, site.tensor("min"))
    return site.step("Min", x, site.tensor("max")) if site.has("max") else x
