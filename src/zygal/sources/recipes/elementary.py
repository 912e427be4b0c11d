"""Elementary functions of one value: what each computes, once, and what each family calls it.

Mobile flatbuffers have no rows of their own: their operators are handled under the names of TensorFlow.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from math import log

from zygal.sources.emitter import Emitter
from zygal.sources.recipes import accurate

Formula = Callable[[Emitter, str], str]
"""Takes the name of a value, gives that of the result."""


@dataclass(frozen=True)
class Elementary:
    """compute: an operator of the graph, or a formula. The names by which a family calls it, separated by spaces; those
    of PyTorch without the overload "default"."""

    compute: str | Formula
    pytorch: str = ""
    tensorflow: str = ""
    keras: str = ""

    def apply(self, emit: Emitter, x: str) -> str:
        """The value after the function."""
        return emit.step(self.compute, x) if isinstance(self.compute, str) else self.compute(emit, x)


def _square(emit: Emitter, x: str) -> str:
    return emit.step("Mul", x, x)


def _reciprocal_root(emit: Emitter, x: str) -> str:
    return emit.step("Reciprocal", emit.step("Sqrt", x))


def _is_finite(emit: Emitter, x: str) -> str:
    return emit.step("Not", emit.step("Or", emit.step("IsNaN", x), emit.step("IsInf", x)))


def _logarithm(base: float) -> Formula:
    return lambda emit, x: emit.step("Mul", emit.step("Log", x), emit.number(1 / log(base), x))


ELEMENTARY = (
    Elementary("Abs", "abs", "Abs", "Absolute Abs math.abs"),
    Elementary("Neg", "neg", "Neg", "Negative math.negative __operators__.neg"),
    Elementary("Reciprocal", "reciprocal", "Reciprocal Inv", "Reciprocal math.reciprocal"),
    Elementary("Sqrt", "sqrt", "Sqrt", "Sqrt math.sqrt"),
    Elementary(_reciprocal_root, "rsqrt", "Rsqrt", "Rsqrt math.rsqrt"),
    Elementary(_square, "square", "Square", "Square math.square"),
    Elementary("Exp", "exp", "Exp", "Exp math.exp"),
    Elementary(accurate.exponential_minus_one, "expm1", "Expm1", "Expm1 math.expm1"),
    Elementary("Log", "log", "Log", "Log math.log"),
    Elementary(accurate.log_one_plus, "log1p", "Log1p", "Log1p math.log1p"),
    Elementary(_logarithm(2), "log2", keras="Log2"),
    Elementary(_logarithm(10), "log10", keras="Log10"),
    Elementary("Erf", "erf", "Erf", "Erf math.erf"),
    Elementary("Ceil", "ceil", "Ceil", "Ceil math.ceil"),
    Elementary("Floor", "floor", "", "Floor math.floor"),
    Elementary("Round", "round", "Round Rint"),
    Elementary("Sign", "", "Sign", "Sign math.sign"),
    Elementary("Sin", "sin", "Sin", "Sin math.sin"),
    Elementary("Cos", "cos", "Cos", "Cos math.cos"),
    Elementary("Tan", "tan", "Tan", "Tan math.tan"),
    Elementary("Asin", "asin", "Asin", "Arcsin math.asin"),
    Elementary("Acos", "acos", "Acos", "Arccos math.acos"),
    Elementary("Atan", "atan", "Atan", "Arctan math.atan"),
    Elementary("Sinh", "sinh", "Sinh", "Sinh math.sinh"),
    Elementary("Cosh", "cosh", "Cosh", "Cosh math.cosh"),
    Elementary("Tanh", "tanh", "Tanh", "Tanh math.tanh"),
    Elementary("Asinh", "asinh", "Asinh", "Arcsinh math.asinh"),
    Elementary("Acosh", "acosh", "Acosh", "Arccosh math.acosh"),
    Elementary("Atanh", "atanh", "Atanh", "Arctanh math.atanh"),
    Elementary("Relu", "relu", "Relu"),
    Elementary("Sigmoid", "sigmoid special_expit", "Sigmoid"),
    Elementary("Softplus", "", "Softplus"),
    Elementary("Softsign", "softsign", "Softsign"),
    Elementary("Selu", "", "Selu"),
    Elementary("Elu", "", "Elu"),
    Elementary("HardSwish", "hardswish"),
    Elementary("Not", "logical_not bitwise_not", "LogicalNot", "LogicalNot"),
    Elementary("IsNaN", "isnan", "IsNan", "Isnan"),
    Elementary("IsInf", "isinf", "IsInf", "Isinf"),
    Elementary(_is_finite, "isfinite", "IsFinite", "Isfinite"),
)
