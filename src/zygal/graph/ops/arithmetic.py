"""Element-wise arithmetic, and the operators that change nothing but a dtype, or nothing at all."""

from __future__ import annotations

from collections.abc import Callable
from functools import reduce
from typing import ClassVar

import numpy as np

from zygal.graph.ops.base import (
    ANYTHING,
    FLOATS,
    NUMBERS,
    TRUTH,
    WIDE,
    Binary,
    Elementwise,
    Operator,
    Parameter,
    register,
)
from zygal.graph.shapes import TensorType, broadcast


def _divide(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    if left.dtype.kind not in "iu":
        return left / right
    # On integers the standard's Div drops the fraction, towards zero; float64 would not hold all of int64.
    floored, rest = np.divmod(left, right)
    return floored + ((rest != 0) & ((left < 0) != (right < 0)))


@register
class Add(Binary):
    name = "Add"
    accepts = (NUMBERS,)
    function = np.add


@register
class Sub(Binary):
    name = "Sub"
    accepts = (NUMBERS,)
    function = np.subtract


@register
class Mul(Binary):
    name = "Mul"
    accepts = (NUMBERS,)
    function = np.multiply


@register
class Div(Binary):
    name = "Div"
    accepts = (NUMBERS,)
    function = staticmethod(_divide)


@register
class Pow(Binary):
    name = "Pow"
    apart = frozenset((1,))
    accepts = (FLOATS | WIDE, NUMBERS)
    function = np.power


def _simple(
    operator_name: str, function_of: Callable[[np.ndarray], np.ndarray], dtypes: frozenset[str] = FLOATS
) -> None:
    members = {"name": operator_name, "function": staticmethod(function_of), "accepts": (dtypes,)}
    register(type(operator_name, (Elementwise,), members))


_simple("Sqrt", np.sqrt)
_simple("Exp", np.exp)
_simple("Abs", np.abs, NUMBERS)
_simple("Neg", np.negative, FLOATS | {"int8", "int16", "int32", "int64"})
_simple("Reciprocal", np.reciprocal)
_simple("Ceil", np.ceil)
_simple("Floor", np.floor)
_simple("Round", np.round)
_simple("Sign", np.sign, NUMBERS)
_simple("Sin", np.sin)
_simple("Cos", np.cos)
_simple("Log", np.log)
_simple("Tan", np.tan)
_simple("Asin", np.arcsin)
_simple("Acos", np.arccos)
_simple("Atan", np.arctan)
_simple("Sinh", np.sinh)
_simple("Cosh", np.cosh)
_simple("Asinh", np.arcsinh)
_simple("Acosh", np.arccosh)
_simple("Atanh", np.arctanh)
_simple("Not", np.logical_not, TRUTH)


@register
class Mod(Binary):
    """The remainder: with the divisor's sign, or with the dividend's if `fmod` is set."""

    name = "Mod"
    accepts = (NUMBERS,)
    parameters = (Parameter("fmod", 0),)

    def compute(self, inputs, attributes):
        left, right = inputs
        return [np.asarray(np.fmod(left, right) if attributes["fmod"] else np.mod(left, right), left.dtype)]


class Extreme(Operator):
    """The element-wise largest or smallest of any number of tensors."""

    function: ClassVar[Callable[[np.ndarray, np.ndarray], np.ndarray]]

    def infer(self, inputs, attributes):
        if len({each.dtype for each in inputs}) > 1:
            raise ValueError("its operands have different dtypes")
        return [TensorType(inputs[0].dtype, reduce(broadcast, (each.shape for each in inputs)))]

    def compute(self, inputs, attributes):
        return [reduce(self.function, inputs)]


@register
class Max(Extreme):
    name = "Max"
    accepts = (NUMBERS,)
    function = np.maximum


@register
class Min(Extreme):
    name = "Min"
    accepts = (NUMBERS,)
    function = np.minimum


class Comparison(Binary):
    """A truth value for each pair of elements."""

    def infer(self, inputs, attributes):
        (result,) = super().infer(inputs, attributes)
        return [TensorType(np.dtype(bool), result.shape)]

    def compute(self, inputs, attributes):
        return [np.asarray(self.function(*inputs), bool)]


def _comparison(operator_name: str, function_of: np.ufunc, dtypes: frozenset[str] = NUMBERS) -> None:
    register(type(operator_name, (Comparison,), {"name": operator_name, "function": function_of, "accepts": (dtypes,)}))


_comparison("Equal", np.equal, ANYTHING)
_comparison("Less", np.less)
_comparison("Greater", np.greater)
_comparison("LessOrEqual", np.less_equal)
_comparison("GreaterOrEqual", np.greater_equal)
_comparison("And", np.logical_and, TRUTH)
_comparison("Or", np.logical_or, TRUTH)
_comparison("Xor", np.logical_xor, TRUTH)


class Question(Elementwise):
    """A truth value for each element."""

    def infer(self, inputs, attributes):
        return [TensorType(np.dtype(bool), inputs[0].shape)]

    def compute(self, inputs, attributes):
        return [np.asarray(self.function(*inputs), bool)]


@register
class IsNaN(Question):
    name = "IsNaN"
    function = np.isnan


@register
class IsInf(Question):
    name = "IsInf"
    accepts = (FLOATS - {"float16"},)
    function = np.isinf


@register
class Where(Operator):
    """The second operand where the first is true, the third elsewhere."""

    name = "Where"
    apart = frozenset((0,))
    accepts = (TRUTH, ANYTHING)

    def infer(self, inputs, attributes):
        condition, left, right = inputs
        if condition.dtype != bool or left.dtype != right.dtype:
            raise ValueError("it needs a boolean condition and two tensors of one dtype")
        return [TensorType(left.dtype, reduce(broadcast, (each.shape for each in inputs)))]

    def compute(self, inputs, attributes):
        return [np.where(*inputs)]


@register
class Identity(Operator):
    """Nothing happens: what dropout and its like are at inference. A pass takes it out."""

    name = "Identity"
    accepts = (ANYTHING,)

    def infer(self, inputs, attributes):
        return [inputs[0]]

    def compute(self, inputs, attributes):
        return [inputs[0]]


@register
class Cast(Operator):
    """To another dtype, given by its NumPy name."""

    name = "Cast"
    accepts = (ANYTHING,)
    parameters = (Parameter("to"),)

    def infer(self, inputs, attributes):
        wanted = np.dtype(attributes["to"])
        if wanted.name not in ANYTHING:
            raise ValueError(f"it casts to {wanted}, which is not supported")
        return [TensorType(wanted, inputs[0].shape)]

    def compute(self, inputs, attributes):
        return [inputs[0].astype(attributes["to"])]
