"""ATen's elementary functions beyond the common ones, each by the standard's operators."""

from __future__ import annotations

from math import inf, log, pi, sqrt

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_arithmetic import operands
from zygal.sources.pytorch.table_creation import in_dtype
from zygal.sources.recipes import accurate


def _times(name: str, factor: float) -> None:
    def scaled(site: Site):
        x = site.tensor("self")
        return site.step("Mul", x, site.number(factor, x))

    aten(f"{name}.default")(scaled)


_times("deg2rad", pi / 180)
_times("rad2deg", 180 / pi)


@aten("exp2.default")
def power_of_two(site: Site):
    x = site.tensor("self")
    return site.step("Exp", site.step("Mul", x, site.number(log(2), x)))


@aten("erfc.default")
def complementary_error(site: Site):
    return accurate.complementary_error(site, site.tensor("self"))


@aten("special_ndtr.default")
def normal_distribution(site: Site):
    """(1 + erf(x / sqrt 2)) / 2."""
    x = site.tensor("self")
    bent = site.step("Erf", site.step("Mul", x, site.number(1 / sqrt(2), x)))
    return site.step("Mul", site.step("Add", bent, site.number(1.0, x)), site.number(0.5, x))


@aten("sinc.default")
def sinc(site: Site):
    """sin(pi x) / (pi x), and 1 at 0."""
    x = site.tensor("self")
    angle = site.step("Mul", x, site.number(pi, x))
    zero = site.step("Equal", x, site.number(0.0, x))
    one = site.number(1.0, x)
    divisor = site.step("Where", zero, one, angle)
    return site.step("Where", zero, one, site.step("Div", site.step("Sin", angle), divisor))


@aten("hypot.default")
def hypotenuse(site: Site):
    """The larger one times sqrt(1 + ratio^2), so that no square overflows."""
    sizes = [site.step("Abs", each) for each in operands(site)]
    large, small = site.step("Max", *sizes), site.step("Min", *sizes)
    zero, one, endless = (site.number(value, large) for value in (0.0, 1.0, inf))
    ratio = site.step("Div", small, site.step("Where", site.step("Equal", large, zero), one, large))
    made = site.step("Mul", large, site.step("Sqrt", site.step("Add", site.step("Mul", ratio, ratio), one)))
    return site.step("Where", site.step("Equal", large, endless), large, made)


@aten("atan2.default", "arctan2.default")
def angle(site: Site):
    return accurate.angle(site, *(in_fractions(site, each) for each in operands(site)))


def in_fractions(site: Site, value: str) -> str:
    """Whole numbers and truth as floating point, which is what the framework computes most functions in."""
    return value if site.type_of(value).dtype.kind == "f" else site.step("Cast", value, to="float32")


@aten("nan_to_num.default")
def without_nan(site: Site):
    x = site.tensor("self")
    largest = float(np.finfo(np.float32).max)
    filled = site.step("Where", site.step("IsNaN", x), site.number(float(site.plain("nan", 0.0)), x), x)
    for name, limit, operator in (("posinf", largest, "Greater"), ("neginf", -largest, "Less")):
        beyond = site.step(operator, filled, site.number(limit, x))
        filled = site.step("Where", beyond, site.number(float(site.plain(name, limit)), x), filled)
    return filled


@aten("nansum.default")
def sum_without_nan(site: Site):
    from zygal.sources.pytorch.table_reduction import reduced_axes

    x = site.tensor("self")
    x = in_dtype(site, x)
    filled = site.step("Where", site.step("IsNaN", x), site.number(0.0, x), x)
    return site.step("ReduceSum", filled, axes=reduced_axes(site, x), keepdims=int(site.plain("keepdim", False)))


@aten("addcdiv.default")
def add_quotient(site: Site):
    quotient = site.step("Div", site.tensor("tensor1"), site.tensor("tensor2"))
    scaled = site.step("Mul", quotient, site.number(site.plain("value", 1), quotient))
    return site.step("Add", site.tensor("self"), scaled)


@aten("logaddexp.default")
def log_of_both(site: Site):
    """log(exp a + exp b), from the larger one on so that nothing overflows."""
    left, right = operands(site)
    apart = site.step("Neg", site.step("Abs", site.step("Sub", left, right)))
    made = site.step("Add", site.step("Max", left, right), site.step("Softplus", apart))
    # Two infinities have no distance.
    both = site.step("Add", left, site.number(log(2), left))
    return site.step("Where", site.step("Equal", left, right), both, made)


@aten("xlogy.Tensor", "xlogy.Scalar_Other", "xlogy.Scalar_Self", "special_xlogy.default")
def product_with_log(site: Site):
    """x log y, and 0 where x is 0."""
    left, right = operands(site)
    zero = site.number(0.0, left)
    product = site.step("Mul", left, site.step("Log", right))
    return site.step("Where", site.step("Equal", left, zero), zero, product)


@aten("signbit.default")
def has_sign_bit(site: Site):
    return accurate.sign_bit(site, in_fractions(site, site.tensor("self")))


@aten("copysign.Tensor", "copysign.Scalar")
def with_sign_of(site: Site):
    size, sign = (in_fractions(site, each) for each in operands(site))
    size = site.step("Abs", size)
    return site.step("Where", accurate.sign_bit(site, sign), site.step("Neg", size), size)


@aten("heaviside.default")
def unit_step(site: Site):
    x, middle = site.tensor("self"), site.tensor("values")
    zero = site.number(0.0, x)
    above = site.step("Cast", site.step("Greater", x, zero), to=site.type_of(x).dtype.name)
    return site.step("Where", site.step("Equal", x, zero), middle, above)


@aten("round.decimals")
def round_to_decimals(site: Site):
    x = site.tensor("self")
    factor = site.number(10.0 ** site.plain("decimals", 0), x)
    return site.step("Div", site.step("Round", site.step("Mul", x, factor)), factor)


@aten("float_power.Tensor_Scalar")
def power_in_fractions(site: Site):
    x = site.tensor("self")
    return site.step("Pow", x, site.number(float(site.plain("exponent")), x))
