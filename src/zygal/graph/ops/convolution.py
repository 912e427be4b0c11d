"""Convolution over any number of spatial axes, with groups."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import Operator, Parameter, register
from zygal.graph.ops.windows import Geometry, windows
from zygal.graph.shapes import TensorType


@register
class Conv(Operator):
    """x [N, C, *spatial] with weight [M, C / group, *kernel] and optional bias [M]."""

    name = "Conv"
    parameters = (
        Parameter("kernel_shape", None),
        Parameter("strides", None),
        Parameter("pads", None),
        Parameter("dilations", None),
        Parameter("group", 1),
    )

    def infer(self, inputs, attributes):
        x, weight, *bias = inputs
        group, kernel = attributes["group"], weight.shape[2:]
        if tuple(attributes["kernel_shape"] or kernel) != kernel or x.rank != weight.rank:
            raise ValueError(f"its kernel is declared as {attributes['kernel_shape']}")
        if x.shape[1] != weight.shape[1] * group or weight.shape[0] % group:
            raise ValueError(f"the channels do not fit {group} group{'s' * (group != 1)}")
        if bias and bias[0] is not None and bias[0].shape != weight.shape[:1]:
            raise ValueError("the bias does not fit the output channels")
        counts = Geometry.of(attributes, kernel).counts(x.shape[2:])
        return [TensorType(x.dtype, (x.shape[0], weight.shape[0], *counts))]

    def compute(self, inputs, attributes):
        x, weight, *bias = inputs
        group, kernel = attributes["group"], weight.shape[2:]
        geometry = Geometry.of(attributes, kernel)
        counts = geometry.counts(x.shape[2:])
        views = windows(x, geometry, 0)
        batch, axes = x.shape[0], len(kernel)
        # [N, C, *counts, *kernel] -> [group, N, *counts, C / group, *kernel], so that a group is one product.
        views = views.reshape(batch, group, x.shape[1] // group, *counts, *kernel)
        spatial = tuple(range(3, 3 + axes))
        views = views.transpose(1, 0, *spatial, 2, *range(3 + axes, 3 + 2 * axes))
        columns = views.reshape(group, batch * int(np.prod(counts)), -1)
        filters = weight.reshape(group, weight.shape[0] // group, -1)
        product = np.matmul(columns, filters.transpose(0, 2, 1))
        product = product.reshape(group, batch, *counts, -1)
        result = np.moveaxis(product, -1, 1)  # [group, M / group, N, *counts]
        result = result.reshape(weight.shape[0], batch, *counts).swapaxes(0, 1)
        if bias and bias[0] is not None:
            result = result + bias[0].reshape(-1, *(1,) * axes)
        return [np.ascontiguousarray(result)]


@register
class ConvTranspose(Operator):
    """The gradient of a convolution, used to enlarge: x [N, C, *spatial], weight [C, M / group, *kernel]."""

    name = "ConvTranspose"
    parameters = (*Conv.parameters, Parameter("output_padding", None))

    def infer(self, inputs, attributes):
        x, weight = inputs[:2]
        geometry = Geometry.of(attributes, weight.shape[2:])
        if x.shape[1] != weight.shape[0] or x.rank != weight.rank:
            raise ValueError("the channels do not fit the weight")
        sizes = self._sizes(x.shape[2:], geometry, attributes)
        return [TensorType(x.dtype, (x.shape[0], weight.shape[1] * attributes["group"], *sizes))]

    def compute(self, inputs, attributes):
        x, weight, *bias = inputs
        group, geometry = attributes["group"], Geometry.of(attributes, weight.shape[2:])
        sizes = self._sizes(x.shape[2:], geometry, attributes)
        full = [size + sum(pads) for size, pads in zip(sizes, geometry.pads)]
        parts = x.reshape(len(x), group, -1, *x.shape[2:])
        filters = weight.reshape(group, -1, *weight.shape[1:])
        result = np.zeros((len(x), group, weight.shape[1], *full), x.dtype)
        for tap in np.ndindex(*geometry.kernel):
            starts = [t * d for t, d in zip(tap, geometry.dilations)]
            stops = [s + (n - 1) * step + 1 for s, n, step in zip(starts, x.shape[2:], geometry.strides)]
            index = tuple(slice(*each) for each in zip(starts, stops, geometry.strides))
            result[(..., *index)] += np.einsum("ngc...,gcm->ngm...", parts, filters[(..., *tap)])
        inner = tuple(slice(before, before + size) for (before, _), size in zip(geometry.pads, sizes))
        result = result.reshape(len(x), -1, *full)[(..., *inner)]
        if bias and bias[0] is not None:
            result = result + bias[0].reshape(-1, *(1,) * len(sizes))
        return [np.ascontiguousarray(result)]

    @staticmethod
    def _sizes(spatial, g, attributes):
        extra = attributes["output_padding"] or (0,) * len(spatial)
        each = zip(spatial, g.kernel, g.strides, g.pads, g.dilations, extra, strict=True)
        return tuple((n - 1) * s + d * (k - 1) + 1 + e - sum(p) for n, k, s, p, d, e in each)
