"""Element-wise arithmetic, and the operators that change nothing but a dtype, or nothing at all."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import Binary, Elementwise, Operator, Parameter, register
from zygal.graph.shapes import TensorType


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


@register
class Sqrt(Elementwise):
    name = "Sqrt"
    function = np.sqrt


@register
class Exp(Elementwise):
    name = "Exp"
    function = np.exp


@register
class Abs(Elementwise):
    name = "Abs"
    function = np.abs


@register
class Neg(Elementwise):
    name = "Neg"
    function = np.negative


@register
class Reciprocal(Elementwise):
    name = "Reciprocal"
    function = np.reciprocal


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
