"""Functions whose plain spelling loses its digits where the result is small, or is wrong at zeros, spelt so that it is
not."""

from __future__ import annotations

from math import pi

from zygal.sources.emitter import Emitter

ERFC = (
    -1.26551223,
    1.00002368,
    0.37409196,
    0.09678418,
    -0.18628806,
    0.27886807,
    -1.13520398,
    1.48851587,
    -0.82215223,
    0.17087277,
)
"""Of the Chebyshev fit of the complementary error function: relative error below 1.2e-7 everywhere (Press, Teukolsky,
Vetterling and Flannery, Numerical Recipes, section 6.2)."""


def exponential_minus_one(emit: Emitter, x: str) -> str:
    """e^x - 1: near 0 as 2 t / (1 - t) with t = tanh(x / 2), which is the same."""
    one, two = emit.number(1.0, x), emit.number(2.0, x)
    near = emit.step("Less", emit.step("Abs", x), one)
    bent = emit.step("Tanh", emit.step("Div", emit.step("Where", near, x, emit.number(0.0, x)), two))
    small = emit.step("Div", emit.step("Mul", two, bent), emit.step("Sub", one, bent))
    return emit.step("Where", near, small, emit.step("Sub", emit.step("Exp", x), one))


def log_one_plus(emit: Emitter, x: str) -> str:
    """log(1 + x): with u = 1 + x as it is rounded, log(u) x / (u - 1), and x where u is 1 (Goldberg, "What every
    computer scientist should know about floating-point arithmetic", ACM Computing Surveys 23, 1991, theorem 4). Where u
    - 1 is x there is nothing to correct."""
    one = emit.number(1.0, x)
    sum_ = emit.step("Add", x, one)
    kept = emit.step("Sub", sum_, one)
    exact = emit.step("Or", emit.step("Equal", kept, x), emit.step("Equal", kept, emit.number(0.0, x)))
    factor = emit.step("Where", exact, one, emit.step("Div", x, emit.step("Where", exact, one, kept)))
    return emit.step(
        "Where", emit.step("Equal", kept, emit.number(0.0, x)), x, emit.step("Mul", emit.step("Log", sum_), factor)
    )


def complementary_error(emit: Emitter, x: str) -> str:
    """1 - erf(x); above 1/2, where that loses its digits, by a fit of its logarithm."""
    half, one = emit.number(0.5, x), emit.number(1.0, x)
    far = emit.step("Greater", x, half)
    size = emit.step("Where", far, x, one)
    t = emit.step("Div", one, emit.step("Add", one, emit.step("Mul", half, size)))
    total = emit.number(ERFC[-1], x)
    for coefficient in ERFC[-2::-1]:
        total = emit.step("Add", emit.step("Mul", total, t), emit.number(coefficient, x))
    fitted = emit.step("Mul", t, emit.step("Exp", emit.step("Sub", total, emit.step("Mul", size, size))))
    return emit.step("Where", far, fitted, emit.step("Sub", one, emit.step("Erf", x)))


def angle(emit: Emitter, rise: str, run: str) -> str:
    """The angle of (run, rise), in all four quadrants."""
    sizes = [emit.step("Abs", each) for each in (rise, run)]
    # Two zeros, or two infinities, have no quotient; IEEE 754 takes them for 0 and for 1.
    zero, one = emit.number(0.0, rise), emit.number(1.0, rise)
    alike = emit.step("Equal", *sizes)
    quotient = emit.step(
        "Where", alike, emit.step("Where", emit.step("Equal", sizes[0], zero), zero, one), emit.step("Div", *sizes)
    )
    turned = emit.step("Atan", quotient)
    turned = emit.step("Where", sign_bit(emit, run), emit.step("Sub", emit.number(pi, rise), turned), turned)
    return emit.step("Where", sign_bit(emit, rise), emit.step("Neg", turned), turned)


def sign_bit(emit: Emitter, x: str) -> str:
    """Whether a number is negative, minus zero included."""
    zero = emit.number(0.0, x)
    below = emit.step("Less", x, zero)
    return emit.step("Or", below, emit.step("Less", emit.step("Reciprocal", x), zero))
