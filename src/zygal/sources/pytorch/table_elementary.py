"""ATen's elementary functions beyond the common ones, each by the standard's operators."""

from __future__ import annotations

from math import inf, log, pi, sqrt

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_arithmetic import operands
from zygal.sources.pytorch.table_creation import in_dtype


def _by_itself(operator: str, name: str) -> None:
    aten(f"{name}.default")(lambda call: call.result(operator, call.tensor("self")))


for _operator, _name in {
    "Tan": "tan", "Asin": "asin", "Acos": "acos", "Atan": "atan", "Sinh": "sinh", "Cosh": "cosh", "Asinh": "asinh",
    "Acosh": "acosh", "Atanh": "atanh", "IsNaN": "isnan", "IsInf": "isinf", "Sigmoid": "special_expit",
}.items():  # fmt: skip
    _by_itself(_operator, _name)


def _times(name: str, factor: float) -> None:
    def scaled(call: Site):
        x = call.tensor("self")
        return call.result("Mul", x, call.number(factor, x))

    aten(f"{name}.default")(scaled)


_times("deg2rad", pi / 180)
_times("rad2deg", 180 / pi)


@aten("exp2.default")
def power_of_two(call: Site):
    x = call.tensor("self")
    return call.result("Exp", call.step("Mul", x, call.number(log(2), x)))


@aten("erfc.default")
def complementary_error(call: Site):
    x = call.tensor("self")
    return call.result("Sub", call.number(1.0, x), call.step("Erf", x))


@aten("special_ndtr.default")
def normal_distribution(call: Site):
    """(1 + erf(x / sqrt 2)) / 2."""
    x = call.tensor("self")
    bent = call.step("Erf", call.step("Mul", x, call.number(1 / sqrt(2), x)))
    return call.result("Mul", call.step("Add", bent, call.number(1.0, x)), call.number(0.5, x))


@aten("sinc.default")
def sinc(call: Site):
    """sin(pi x) / (pi x), and 1 at 0."""
    x = call.tensor("self")
    angle = call.step("Mul", x, call.number(pi, x))
    zero = call.step("Equal", x, call.number(0.0, x))
    one = call.number(1.0, x)
    divisor = call.step("Where", zero, one, angle)
    return call.result("Where", zero, one, call.step("Div", call.step("Sin", angle), divisor))


@aten("hypot.default")
def hypotenuse(call: Site):
    """The larger one times sqrt(1 + ratio^2), so that no square overflows."""
    sizes = [call.step("Abs", each) for each in operands(call)]
    large, small = call.step("Max", *sizes), call.step("Min", *sizes)
    zero, one, endless = (call.number(value, large) for value in (0.0, 1.0, inf))
    ratio = call.step("Div", small, call.step("Where", call.step("Equal", large, zero), one, large))
    made = call.step("Mul", large, call.step("Sqrt", call.step("Add", call.step("Mul", ratio, ratio), one)))
    return call.result("Where", call.step("Equal", large, endless), large, made)


@aten("atan2.default", "arctan2.default")
def angle(call: Site):
    """The angle of (other, self), in all four quadrants."""
    rise, run = (in_fractions(call, each) for each in operands(call))
    sizes = [call.step("Abs", each) for each in (rise, run)]
    # Two zeros, or two infinities, have no quotient; IEEE 754 takes them for 0 and for 1.
    zero, one = call.number(0.0, rise), call.number(1.0, rise)
    alike = call.step("Equal", *sizes)
    quotient = call.step("Where", alike, call.step("Where", call.step("Equal", sizes[0], zero), zero, one),
                         call.step("Div", *sizes))  # fmt: skip
    turned = call.step("Atan", quotient)
    turned = call.step("Where", sign_bit(call, run), call.step("Sub", call.number(pi, rise), turned), turned)
    return call.result("Where", sign_bit(call, rise), call.step("Neg", turned), turned)


def in_fractions(call: Site, value: str) -> str:
    """Whole numbers and truth as floating point, which is what the framework computes most functions in."""
    return value if call.type_of(value).dtype.kind == "f" else call.step("Cast", value, to="float32")


def sign_bit(call: Site, x: str) -> str:
    """Whether a number is negative, minus zero included."""
    zero = call.number(0.0, x)
    below = call.step("Less", x, zero)
    return call.step("Or", below, call.step("Less", call.step("Reciprocal", x), zero))


@aten("isfinite.default")
def is_finite(call: Site):
    x = call.tensor("self")
    return call.result("Not", call.step("Or", call.step("IsNaN", x), call.step("IsInf", x)))


@aten("nan_to_num.default")
def without_nan(call: Site):
    x = call.tensor("self")
    largest = float(np.finfo(np.float32).max)
    filled = call.step("Where", call.step("IsNaN", x), call.number(float(call.plain("nan", 0.0)), x), x)
    for name, limit, operator in (("posinf", largest, "Greater"), ("neginf", -largest, "Less")):
        beyond = call.step(operator, filled, call.number(limit, x))
        filled = call.step("Where", beyond, call.number(float(call.plain(name, limit)), x), filled)
    return filled


@aten("nansum.default")
def sum_without_nan(call: Site):
    from zygal.sources.pytorch.table_reduction import reduced_axes

    x = call.tensor("self")
    x = in_dtype(call, x)
    filled = call.step("Where", call.step("IsNaN", x), call.number(0.0, x), x)
    return call.result("ReduceSum", filled, axes=reduced_axes(call, x), keepdims=int(call.plain("keepdim", False)))


@aten("addcdiv.default")
def add_quotient(call: Site):
    quotient = call.step("Div", call.tensor("tensor1"), call.tensor("tensor2"))
    scaled = call.step("Mul", quotient, call.number(call.plain("value", 1), quotient))
    return call.result("Add", call.tensor("self"), scaled)


@aten("logaddexp.default")
def log_of_both(call: Site):
    """log(exp a + exp b), from the larger one on so that nothing overflows."""
    left, right = operands(call)
    apart = call.step("Neg", call.step("Abs", call.step("Sub", left, right)))
    made = call.step("Add", call.step("Max", left, right), call.step("Softplus", apart))
    # Two infinities have no distance.
    both = call.step("Add", left, call.number(log(2), left))
    return call.result("Where", call.step("Equal", left, right), both, made)


@aten("xlogy.Tensor", "xlogy.Scalar_Other", "xlogy.Scalar_Self", "special_xlogy.default")
def product_with_log(call: Site):
    """x log y, and 0 where x is 0."""
    left, right = operands(call)
    zero = call.number(0.0, left)
    product = call.step("Mul", left, call.step("Log", right))
    return call.result("Where", call.step("Equal", left, zero), zero, product)


@aten("signbit.default")
def has_sign_bit(call: Site):
    return sign_bit(call, in_fractions(call, call.tensor("self")))


@aten("copysign.Tensor", "copysign.Scalar")
def with_sign_of(call: Site):
    size, sign = (in_fractions(call, each) for each in operands(call))
    size = call.step("Abs", size)
    return call.result("Where", sign_bit(call, sign), call.step("Neg", size), size)


@aten("heaviside.default")
def unit_step(call: Site):
    x, middle = call.tensor("self"), call.tensor("values")
    zero = call.number(0.0, x)
    above = call.step("Cast", call.step("Greater", x, zero), to=call.type_of(x).dtype.name)
    return call.result("Where", call.step("Equal", x, zero), middle, above)


@aten("round.decimals")
def round_to_decimals(call: Site):
    x = call.tensor("self")
    factor = call.number(10.0 ** call.plain("decimals", 0), x)
    return call.result("Div", call.step("Round", call.step("Mul", x, factor)), factor)


@aten("float_power.Tensor_Scalar")
def power_in_fractions(call: Site):
    x = call.tensor("self")
    return call.result("Pow", x, call.number(float(call.plain("exponent")), x))
