"""Pooling over windows and over everything."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from zygal.graph.ops.base import FLOATS, Operator, Parameter, register
from zygal.graph.ops.windows import Geometry, windows
from zygal.graph.shapes import TensorType


class WindowPool(Operator):
    """What both window poolings share: x [N, C, *spatial], the geometry, and the shape rule."""

    parameters = (
        Parameter("kernel_shape"),
        Parameter("strides", None),
        Parameter("pads", None),
        Parameter("dilations", None),
        Parameter("ceil_mode", 0),
    )

    def infer(self, inputs, attributes):
        (x,) = inputs
        geometry = Geometry.of(attributes, attributes["kernel_shape"])
        return [TensorType(x.dtype, (*x.shape[:2], *geometry.counts(x.shape[2:])))]


@register
class MaxPool(WindowPool):
    name = "MaxPool"
    accepts = (FLOATS | {"int8", "uint8"},)

    def compute(self, inputs, attributes):
        (x,) = inputs
        lowest = -np.inf if x.dtype.kind == "f" else np.iinfo(x.dtype).min
        views = windows(x, Geometry.of(attributes, attributes["kernel_shape"]), lowest)
        return [views.max(tuple(range(x.ndim, views.ndim)))]


@register
class AveragePool(WindowPool):
    """The mean of each window; pads count as zeros if `count_include_pad`, else not at all.

    The part of a last window that `ceil_mode` lets stand out behind the pads never counts.
    """

    name = "AveragePool"
    # The standard's average pooling has dilations from opset 19 on only; no classifier needs them.
    parameters = (
        *(each for each in WindowPool.parameters if each.name != "dilations"),
        Parameter("count_include_pad", 0),
    )

    def compute(self, inputs, attributes):
        (x,) = inputs
        geometry = Geometry.of(attributes, attributes["kernel_shape"])
        views = windows(x, geometry, 0)
        inner = tuple(range(x.ndim, views.ndim))
        inside = np.ones((1, 1, *x.shape[2:]), x.dtype)
        if attributes["count_include_pad"]:
            inside = np.pad(inside, [(0, 0), (0, 0), *geometry.pads], constant_values=1)
            geometry = replace(geometry, pads=((0, 0),) * len(geometry.pads))
        covered_sizes = windows(inside, geometry, 0, counts=views.shape[2 : x.ndim]).sum(inner)
        return [views.sum(inner) / covered_sizes]


@register
class GlobalAveragePool(Operator):
    """The mean over all spatial axes, which stay with size 1."""

    name = "GlobalAveragePool"

    def infer(self, inputs, attributes):
        (x,) = inputs
        if x.rank < 3:
            raise ValueError("there is no spatial axis")
        return [TensorType(x.dtype, (*x.shape[:2], *(1,) * (x.rank - 2)))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        return [x.mean(tuple(range(2, x.ndim)), keepdims=True)]
