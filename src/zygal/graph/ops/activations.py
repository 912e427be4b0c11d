"""Activations: one element in, one element out; and softmax, which looks along an axis."""

from __future__ import annotations

from math import erf

import numpy as np

from zygal.graph.ops.base import FLOATS, NUMBERS, WIDE, Elementwise, Operator, Parameter, normal_axis, register
from zygal.graph.shapes import broadcast


def _stable_sigmoid(x: np.ndarray) -> np.ndarray:
    # exp is only taken of numbers <= 0, so that it never overflows.
    small = np.exp(-np.abs(x))
    return np.where(x >= 0, 1 / (1 + small), small / (1 + small))


@register
class Relu(Elementwise):
    name = "Relu"
    accepts = (FLOATS | {"int8", "int16", "int32", "int64"},)

    @staticmethod
    def function(x):
        return np.maximum(x, 0)


@register
class LeakyRelu(Elementwise):
    name = "LeakyRelu"
    parameters = (Parameter("alpha", 0.01),)

    @staticmethod
    def function(x, alpha):
        return np.where(x >= 0, x, x * x.dtype.type(alpha))


@register
class Elu(Elementwise):
    name = "Elu"
    parameters = (Parameter("alpha", 1.0),)

    @staticmethod
    def function(x, alpha):
        return np.where(x >= 0, x, x.dtype.type(alpha) * np.expm1(np.minimum(x, 0)))


@register
class Sigmoid(Elementwise):
    name = "Sigmoid"

    @staticmethod
    def function(x):
        return _stable_sigmoid(x)


@register
class HardSigmoid(Elementwise):
    name = "HardSigmoid"
    parameters = (Parameter("alpha", 0.2), Parameter("beta", 0.5))

    @staticmethod
    def function(x, alpha, beta):
        return np.clip(x * x.dtype.type(alpha) + x.dtype.type(beta), 0, 1)


@register
class HardSwish(Elementwise):
    """x * max(0, min(1, x / 6 + 1/2)); Howard et al., Searching for MobileNetV3, 2019."""

    name = "HardSwish"

    @staticmethod
    def function(x):
        return x * np.clip(x / x.dtype.type(6) + x.dtype.type(0.5), 0, 1)


@register
class Tanh(Elementwise):
    name = "Tanh"

    @staticmethod
    def function(x):
        return np.tanh(x)


@register
class Erf(Elementwise):
    """The error function; GELU is built from it."""

    name = "Erf"

    @staticmethod
    def function(x):
        return np.vectorize(erf, otypes=[np.float64])(x)


@register
class Gelu(Elementwise):
    """x / 2 * (1 + erf(x / sqrt(2))); Hendrycks and Gimpel, 2016."""

    name = "Gelu"

    @staticmethod
    def function(x):
        return x / 2 * (1 + Erf.function(x.astype(np.float64) / np.sqrt(2)))


@register
class Selu(Elementwise):
    """gamma * (alpha * (exp(x) - 1) if x < 0 else x); Klambauer et al., 2017."""

    name = "Selu"
    parameters = (Parameter("alpha", 1.6732631921768188), Parameter("gamma", 1.0507010221481323))

    @staticmethod
    def function(x, alpha, gamma):
        gamma, alpha = x.dtype.type(gamma), x.dtype.type(alpha)
        return gamma * np.where(x > 0, x, alpha * np.expm1(np.minimum(x, 0)))


@register
class Softsign(Elementwise):
    name = "Softsign"

    @staticmethod
    def function(x):
        return x / (1 + np.abs(x))


@register
class PRelu(Operator):
    """x where it is positive, x * slope elsewhere; the slope is broadcast to x."""

    name = "PRelu"
    accepts = (FLOATS | WIDE,)

    def infer(self, inputs, attributes):
        x, slope = inputs
        if broadcast(x.shape, slope.shape) != x.shape:
            raise ValueError("the slopes do not fit")
        return [x]

    def compute(self, inputs, attributes):
        x, slope = inputs
        return [np.where(x > 0, x, x * slope)]


@register
class Softplus(Elementwise):
    name = "Softplus"

    @staticmethod
    def function(x):
        return np.logaddexp(x, 0)


@register
class Clip(Elementwise):
    name = "Clip"
    accepts = (NUMBERS,)
    parameters = (
        Parameter("min", None),
        Parameter("max", None),
    )

    @staticmethod
    def function(x, min, max):
        lower = x if min is None else np.maximum(x, x.dtype.type(min))
        return lower if max is None else np.minimum(lower, x.dtype.type(max))


class AlongAxis(Operator):
    """A normalised exponential along one axis."""

    parameters = (Parameter("axis", -1),)

    def infer(self, inputs, attributes):
        (given,) = inputs
        normal_axis(attributes["axis"], given.rank)
        return [given]


@register
class Softmax(AlongAxis):
    name = "Softmax"

    def compute(self, inputs, attributes):
        (x,) = inputs
        powers = np.exp(x - x.max(attributes["axis"], keepdims=True))
        return [powers / powers.sum(attributes["axis"], keepdims=True)]


@register
class LogSoftmax(AlongAxis):
    name = "LogSoftmax"

    def compute(self, inputs, attributes):
        (x,) = inputs
        shifted = x - x.max(attributes["axis"], keepdims=True)
        return [shifted - np.log(np.exp(shifted).sum(attributes["axis"], keepdims=True))]
