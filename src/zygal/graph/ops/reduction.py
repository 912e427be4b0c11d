"""Reductions over chosen axes."""

from __future__ import annotations

from collections.abc import Callable
from typing import ClassVar

import numpy as np

from zygal.graph.ops.base import FLOATS, NUMBERS, WIDE, Operator, Parameter, normal_axis, register
from zygal.graph.shapes import Batch, TensorType


class Reduction(Operator):
    """Over the given axes, or over all of them if none is given."""

    accepts = (FLOATS | WIDE,)
    function: ClassVar[Callable[..., np.ndarray]]

    def infer(self, inputs, attributes):
        (x,) = inputs
        wanted = attributes["axes"] or range(x.rank)
        if len(wanted) > x.rank or len(axes := {normal_axis(axis, x.rank) for axis in wanted}) < len(wanted):
            raise ValueError(f"it reduces {len(wanted)} axes of {x.rank}, or one of them twice")
        if any(isinstance(x.shape[axis], Batch) for axis in axes):
            raise ValueError("it would mix the images of a batch")
        if any(isinstance(x.shape[axis], int) and x.shape[axis] == 0 for axis in axes):
            raise ValueError("it reduces an axis of size 0")
        kept = [1 if axis in axes else size for axis, size in enumerate(x.shape)]
        if not attributes["keepdims"]:
            kept = [size for axis, size in enumerate(x.shape) if axis not in axes]
        return [TensorType(x.dtype, tuple(kept))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        axes = tuple(attributes["axes"] or range(x.ndim))
        reduced = self.function(x, axis=axes, keepdims=bool(attributes["keepdims"]))
        return [np.asarray(reduced, x.dtype)]


def _length(x: np.ndarray, axis: tuple[int, ...], keepdims: bool) -> np.ndarray:
    """The Euclidean length."""
    return np.sqrt(np.sum(np.square(x), axis=axis, keepdims=keepdims))


def _absolute_sum(x: np.ndarray, axis: tuple[int, ...], keepdims: bool) -> np.ndarray:
    return np.sum(np.abs(x), axis=axis, keepdims=keepdims)


def _reduction(operator_name: str, function_of: Callable[..., np.ndarray]) -> None:
    parameters = (Parameter("axes", None), Parameter("keepdims", 1))
    members = {"name": operator_name, "parameters": parameters, "function": staticmethod(function_of)}
    register(type(operator_name, (Reduction,), members))


_reduction("ReduceMean", np.mean)
_reduction("ReduceSum", np.sum)
_reduction("ReduceMax", np.max)
_reduction("ReduceMin", np.min)
_reduction("ReduceProd", np.prod)
_reduction("ReduceL2", _length)
_reduction("ReduceL1", _absolute_sum)


@register
class ArgMax(Operator):
    """The place of the largest element along an axis, the first of equals."""

    name = "ArgMax"
    accepts = (NUMBERS,)
    parameters = (Parameter("axis", 0), Parameter("keepdims", 1))

    def infer(self, inputs, attributes):
        (x,) = inputs
        axis = normal_axis(attributes["axis"], x.rank)
        middle = (1,) if attributes["keepdims"] else ()
        return [TensorType(np.dtype(np.int64), (*x.shape[:axis], *middle, *x.shape[axis + 1 :]))]

    def compute(self, inputs, attributes):
        return [np.argmax(inputs[0], attributes["axis"], keepdims=bool(attributes["keepdims"]))]


@register
class CumSum(Operator):
    """Running sums along an axis."""

    name = "CumSum"
    accepts = (FLOATS | WIDE,)
    parameters = (Parameter("axis"), Parameter("exclusive", 0), Parameter("reverse", 0))

    def infer(self, inputs, attributes):
        normal_axis(attributes["axis"], inputs[0].rank)
        if isinstance(inputs[0].shape[attributes["axis"]], Batch):
            raise ValueError("it would mix the images of a batch")
        return [inputs[0]]

    def compute(self, inputs, attributes):
        x, axis = inputs[0], attributes["axis"]
        x = np.flip(x, axis) if attributes["reverse"] else x
        sums = np.cumsum(x, axis, dtype=x.dtype)
        if attributes["exclusive"]:
            # Taking the elements off again would lose digits, and infinity less infinity is no number.
            before = [(1, 0) if each == axis % x.ndim else (0, 0) for each in range(x.ndim)]
            sums = np.take(np.pad(sums, before), range(x.shape[axis]), axis)
        return [np.flip(sums, axis) if attributes["reverse"] else sums]
