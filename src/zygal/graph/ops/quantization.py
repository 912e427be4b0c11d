"""Between real numbers and whole numbers of few bits: real = scale * (stored - zero point); Jacob et al., 2018.

Scale and zero point are one number for the tensor, or one for each place along `axis`.
"""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import Operator, Parameter, normal_axis, register
from zygal.graph.shapes import TensorType

_STORED = frozenset(("int8", "uint8"))


class Scaled(Operator):
    """What both directions share. Inputs: x, scale, zero point."""

    parameters = (Parameter("axis", 1),)

    @staticmethod
    def check(x, scale, zero_point, axis):
        if zero_point is not None and zero_point.shape != scale.shape:
            raise ValueError("the scale and the zero point have different shapes")
        if scale.rank > 1 or scale.rank == 1 and x.shape[normal_axis(axis, x.rank)] != scale.shape[0]:
            raise ValueError(f"the scale does not fit axis {axis}")

    @staticmethod
    def along(array, x, axis):
        """A number, or one for each place along an axis, as it broadcasts against x."""
        return array if array.ndim == 0 else array.reshape([-1 if at == axis % x.ndim else 1 for at in range(x.ndim)])


@register
class QuantizeLinear(Scaled):
    """x / scale rounded, halves to even, plus the zero point, held within the range of the zero point's dtype."""

    name = "QuantizeLinear"
    apart = frozenset((2,))
    accepts = (frozenset(("float32", "int32")), frozenset(("float32",)), _STORED)

    def infer(self, inputs, attributes):
        x, scale, zero_point = inputs
        self.check(x, scale, zero_point, attributes["axis"])
        return [TensorType(zero_point.dtype, x.shape)]

    def compute(self, inputs, attributes):
        x, scale, zero_point = inputs
        scale, zero = (self.along(each, x, attributes["axis"]) for each in (scale, zero_point))
        limits = np.iinfo(zero_point.dtype)
        return [np.clip(np.rint(x / scale) + zero, limits.min, limits.max).astype(zero_point.dtype)]


@register
class DequantizeLinear(Scaled):
    """(x - zero point) * scale; int32, as biases are, has the zero point 0."""

    name = "DequantizeLinear"
    apart = frozenset((1,))
    accepts = (_STORED | {"int32"}, frozenset(("float32",)), _STORED | {"int32"})

    def infer(self, inputs, attributes):
        x, scale, *zero_point = inputs
        self.check(x, scale, zero_point[0] if zero_point else None, attributes["axis"])
        return [TensorType(scale.dtype, x.shape)]

    def compute(self, inputs, attributes):
        x, scale, *zero_point = inputs
        wide = x.astype(np.int32)
        if zero_point and zero_point[0] is not None:
            wide = wide - self.along(zero_point[0].astype(np.int32), x, attributes["axis"])
        return [wide.astype(np.float32) * self.along(scale, x, attributes["axis"])]
