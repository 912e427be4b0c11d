"""Normalisation."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import Operator, Parameter, register


@register
class BatchNormalization(Operator):
    """(x - mean) / sqrt(variance + epsilon) * scale + bias, a channel at a time (axis 1), at inference.

    Inputs: x, scale, bias, mean, variance. Ioffe and Szegedy, 2015.
    """

    name = "BatchNormalization"
    parameters = (Parameter("epsilon", 1e-5),)

    def infer(self, inputs, attributes):
        x, *channels = inputs
        if any(given.shape != (x.shape[1],) for given in channels):
            raise ValueError(f"its parameters do not fit {x.shape[1]} channels")
        return [x]

    def compute(self, inputs, attributes):
        x = inputs[0]
        shape = (-1, *(1,) * (x.ndim - 2))
        scale, bias, mean, variance = (array.reshape(shape) for array in inputs[1:])
        factor = scale / np.sqrt(variance + x.dtype.type(attributes["epsilon"]))
        return [(x - mean) * factor + bias]


@register
class LayerNormalization(Operator):
    """Zero mean and unit variance over the axes from `axis` on, then scale and optional bias.

    Ba, Kiros and Hinton, 2016.
    """

    name = "LayerNormalization"
    parameters = (Parameter("axis", -1), Parameter("epsilon", 1e-5))

    def infer(self, inputs, attributes):
        x, scale, *_ = inputs
        if x.shape[attributes["axis"] :] != scale.shape:
            raise ValueError("the scale does not fit the axes that are normalised")
        return [x]

    def compute(self, inputs, attributes):
        x, scale, *bias = inputs
        axes = tuple(range(attributes["axis"] % x.ndim, x.ndim))
        centred = x - x.mean(axes, keepdims=True)
        variance = np.square(centred).mean(axes, keepdims=True)
        result = centred / np.sqrt(variance + x.dtype.type(attributes["epsilon"])) * scale
        return [result + bias[0] if bias and bias[0] is not None else result]


@register
class InstanceNormalization(Operator):
    """Each channel of each image to zero mean and unit variance, then scale and bias; x is [N, C, *spatial].

    Ulyanov, Vedaldi and Lempitsky, 2016.
    """

    name = "InstanceNormalization"
    parameters = (Parameter("epsilon", 1e-5),)

    def infer(self, inputs, attributes):
        x, *channels = inputs
        if x.rank < 3 or any(given.shape != (x.shape[1],) for given in channels):
            raise ValueError(f"its parameters do not fit {x.shape[1]} channels")
        return [x]

    def compute(self, inputs, attributes):
        x, scale, bias = inputs
        axes, shape = tuple(range(2, x.ndim)), (-1, *(1,) * (x.ndim - 2))
        centred = x - x.mean(axes, keepdims=True)
        variance = np.square(centred).mean(axes, keepdims=True)
        normal = centred / np.sqrt(variance + x.dtype.type(attributes["epsilon"]))
        return [normal * scale.reshape(shape) + bias.reshape(shape)]
