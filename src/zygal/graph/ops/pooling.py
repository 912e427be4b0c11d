"""Pooling over windows and over everything."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import Operator, Parameter, register
from zygal.graph.ops.windows import axis_pads, output_size, windows
from zygal.graph.shapes import TensorType


class WindowPool(Operator):
    """What both window poolings share: x [N, C, *spatial], the geometry, and the shape rule."""

    def infer(self, inputs, attributes):
        (x,) = inputs
        return [TensorType(x.dtype, (*x.shape[:2], *self._counts(x.shape, attributes)))]

    def _views(self, x, attributes, fill):
        pads, counts = axis_pads(attributes["pads"]), self._counts(x.shape, attributes)
        dilations = self._dilations(attributes)
        return windows(x, attributes["kernel_shape"], attributes["strides"], pads, dilations, counts, fill)

    def _counts(self, shape, attributes):
        pads, ceil = axis_pads(attributes["pads"]), bool(attributes["ceil_mode"])
        each = zip(
            shape[2:], attributes["kernel_shape"], attributes["strides"], pads, self._dilations(attributes), strict=True
        )
        return tuple(output_size(*axis, ceil) for axis in each)

    @staticmethod
    def _dilations(attributes):
        return attributes.get("dilations") or [1] * len(attributes["kernel_shape"])


@register
class MaxPool(WindowPool):
    name = "MaxPool"
    parameters = (
        Parameter("kernel_shape"),
        Parameter("strides"),
        Parameter("pads"),
        Parameter("dilations", None),
        Parameter("ceil_mode", 0),
    )

    def compute(self, inputs, attributes):
        (x,) = inputs
        views = self._views(x, attributes, -np.inf)
        return [views.max(tuple(range(x.ndim, views.ndim)))]


@register
class AveragePool(WindowPool):
    """The mean of each window; pads count as zeros if `count_include_pad`, else not at all.

    The part of a last window that `ceil_mode` lets stand out behind the pads never counts.
    """

    name = "AveragePool"
    parameters = (
        Parameter("kernel_shape"),
        Parameter("strides"),
        Parameter("pads"),
        Parameter("ceil_mode", 0),
        Parameter("count_include_pad", 0),
    )

    def compute(self, inputs, attributes):
        (x,) = inputs
        views = self._views(x, attributes, 0)
        inner = tuple(range(x.ndim, views.ndim))
        inside = np.ones((1, 1, *x.shape[2:]), x.dtype)
        if attributes["count_include_pad"]:
            inside = np.pad(inside, [(0, 0), (0, 0), *axis_pads(attributes["pads"])], constant_values=1)
            attributes = attributes | {"pads": [0] * len(attributes["pads"])}
        counts = views.shape[2 : x.ndim]
        held = windows(
            inside,
            attributes["kernel_shape"],
            attributes["strides"],
            axis_pads(attributes["pads"]),
            self._dilations(attributes),
            counts,
            0,
        ).sum(inner)
        return [views.sum(inner) / held]


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
