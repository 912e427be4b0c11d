"""Element-wise arithmetic, and the operators that change nothing but a dtype, or nothing at all."""

from __future__ import annotations

from collections.abc import Callable
from functools import reduce
from typing import ClassVar

import numpy as np

from zygal.graph.ops.base import Binary, Elementwise, Operator, Parameter, register
from zygal.graph.shapes import TensorType, broadcast


def _divide(left: np.ndarray, right: np.ndarray) -> np.ndarray:
    # On integers the standard's Div drops the fraction, towards zero.
    return np.trunc(left / right) if left.dtype.kind in "iu" else left / right


@register
class Add(Binary):
    name = "Add"
    function = np.add


@register
class Sub(Binary):
    name = "Sub"
    function = np.subtract


@register
class Mul(Binary):
    name = "Mul"
    function = np.multiply


@register
class Div(Binary):
    name = "Div"
    function = staticmethod(_divide)


@register
class Pow(Binary):
    name = "Pow"
    function = np.power


def _simple(operator_name: str, function_of: Callable[[np.ndarray], np.ndarray]) -> None:
    register(type(operator_name, (Elementwise,), {"name": operator_name, "function": staticmethod(function_of)}))


_simple("Sqrt", np.sqrt)
_simple("Exp", np.exp)
_simple("Abs", np.abs)
_simple("Neg", np.negative)
_simple("Reciprocal", np.reciprocal)
_simple("Ceil", np.ceil)
_simple("Floor", np.floor)
_simple("Round", np.round)
_simple("Sign", np.sign)
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
_simple("Not", np.logical_not)


@register
class Mod(Binary):
    """The remainder: with the divisor's sign, or with the dividend's if `fmod` is set."""

    name = "Mod"
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
    function = np.maximum


@register
class Min(Extreme):
    name = "Min"
    function = np.minimum


class Comparison(Binary):
    """A truth value for each pair of elements."""

    def infer(self, inputs, attributes):
        (result,) = super().infer(inputs, attributes)
        return [TensorType(np.dtype(bool), result.shape)]

    def compute(self, inputs, attributes):
        return [np.asarray(self.function(*inputs), bool)]


def _comparison(operator_name: str, function_of: np.ufunc) -> None:
    register(type(operator_name, (Comparison,), {"name": operator_name, "function": function_of}))


_comparison("Equal", np.equal)
_comparison("Less", np.less)
_comparison("Greater", np.greater)
_comparison("LessOrEqual", np.less_equal)
_comparison("GreaterOrEqual", np.greater_equal)
_comparison("And", np.logical_and)
_comparison("Or", np.logical_or)
_comparison("Xor", np.logical_xor)


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
    function = np.isinf


@register
class Where(Operator):
    """The second operand where the first is true, the third elsewhere."""

    name = "Where"

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

    def infer(self, inputs, attributes):
        return [inputs[0]]

    def compute(self, inputs, attributes):
        return [inputs[0]]


@register
class Cast(Operator):
    """To another dtype, given by its NumPy name."""

    name = "Cast"
    parameters = (Parameter("to", dtype="type"),)

    def infer(self, inputs, attributes):
        return [TensorType(np.dtype(attributes["to"]), inputs[0].shape)]

    def compute(self, inputs, attributes):
        return [inputs[0].astype(attributes["to"])]
