"""Reductions over chosen axes."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import numpy as np

from zygal.graph.ops.base import Operator, Parameter, normal_axis, register
from zygal.graph.shapes import Batch, TensorType


class Reduction(Operator):
    """Over the given axes, or over all of them if none is given."""

    function: ClassVar[Callable[..., np.ndarray]]

    def infer(self, inputs, attributes):
        (x,) = inputs
        wanted = attributes["axes"] or range(x.rank)
        axes = {normal_axis(axis, x.rank) for axis in wanted}
        if any(isinstance(x.shape[axis], Batch) for axis in axes):
            raise ValueError("it would mix the images of a batch")
        kept = [1 if axis in axes else size for axis, size in enumerate(x.shape)]
        if not attributes["keepdims"]:
            kept = [size for axis, size in enumerate(x.shape) if axis not in axes]
        return [TensorType(x.dtype, tuple(kept))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        axes = tuple(attributes["axes"] or range(x.ndim))
        reduced = self.function(x, axis=axes, keepdims=bool(attributes["keepdims"]))
        return [np.asarray(reduced, x.dtype)]


@register
class ReduceMean(Reduction):
    name = "ReduceMean"
    parameters = (Parameter("axes", None, slot=1, slot_since=18), Parameter("keepdims", 1))
    function = staticmethod(np.mean)


@register
class ReduceMax(Reduction):
    name = "ReduceMax"
    parameters = (Parameter("axes", None, slot=1, slot_since=18), Parameter("keepdims", 1))
    function = staticmethod(np.max)


@register
class ReduceSum(Reduction):
    name = "ReduceSum"
    parameters = (Parameter("axes", None, slot=1, slot_since=13), Parameter("keepdims", 1))
    function = staticmethod(np.sum)
