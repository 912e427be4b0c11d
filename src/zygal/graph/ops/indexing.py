"""Operators that pick, repeat and order elements."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import ANYTHING, NUMBERS, WIDE, Operator, Parameter, normal_axis, register
from zygal.graph.shapes import OPEN, Batch, Open, TensorType, at_batch, broadcast, shape_text


@register
class Slice(Operator):
    """From `starts` up to `ends` along `axes` in `steps`, as NumPy slices; the batch is kept whole."""

    name = "Slice"
    accepts = (ANYTHING,)
    parameters = (
        Parameter("starts"),
        Parameter("ends"),
        Parameter("axes", None),
        Parameter("steps", None),
    )

    def infer(self, inputs, attributes):
        (x,) = inputs
        sizes = list(x.shape)
        for axis, cut in self._cuts(attributes, x.rank).items():
            if isinstance(sizes[axis], Batch):
                raise ValueError("it would cut the batch")
            sizes[axis] = OPEN if isinstance(sizes[axis], Open) else len(range(*cut.indices(sizes[axis])))
        return [TensorType(x.dtype, tuple(sizes))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        cuts = self._cuts(attributes, x.ndim)
        return [x[tuple(cuts.get(axis, slice(None)) for axis in range(x.ndim))]]

    @staticmethod
    def _cuts(attributes, rank):
        starts, ends = attributes["starts"], attributes["ends"]
        axes = attributes["axes"] or range(len(starts))
        steps = attributes["steps"] or (1,) * len(starts)
        cuts = {}
        for axis, start, end, step in zip(axes, starts, ends, steps, strict=True):
            # Going backwards, an end below every index means "up to the first", which NumPy spells None.
            beyond = step < 0 and end < -(2**30)
            cuts[normal_axis(axis, rank)] = slice(start, None if beyond else end, step)
        return cuts


@register
class Gather(Operator):
    """Elements along one axis by their numbers, which may be a tensor of any shape."""

    name = "Gather"
    apart = frozenset((1,))
    accepts = (ANYTHING, WIDE)
    parameters = (Parameter("axis", 0),)

    def infer(self, inputs, attributes):
        x, indices = inputs
        axis = normal_axis(attributes["axis"], x.rank)
        if isinstance(x.shape[axis], Batch):
            raise ValueError("it would pick images from the batch")
        return [TensorType(x.dtype, (*x.shape[:axis], *indices.shape, *x.shape[axis + 1 :]))]

    def compute(self, inputs, attributes):
        return [np.take(*inputs, axis=attributes["axis"])]


@register
class GatherElements(Operator):
    """For each place of the indices, the element with that number along one axis."""

    name = "GatherElements"
    apart = frozenset((1,))
    accepts = (ANYTHING, WIDE)
    parameters = (Parameter("axis", 0),)

    def infer(self, inputs, attributes):
        x, indices = inputs
        normal_axis(attributes["axis"], x.rank)
        if x.rank != indices.rank:
            raise ValueError("the indices have another number of axes")
        return [TensorType(x.dtype, indices.shape)]

    def compute(self, inputs, attributes):
        x, indices = inputs
        inner = tuple(slice(size) for size in indices.shape)
        whole = tuple(slice(None) if axis == attributes["axis"] % x.ndim else cut for axis, cut in enumerate(inner))
        return [np.take_along_axis(x[whole], indices, attributes["axis"])]


@register
class Expand(Operator):
    """Repeats axes of size 1 up to the sizes that a shape tensor gives.

    `sizes` is what is known of that tensor beforehand; it may hold the batch.
    """

    name = "Expand"
    apart = frozenset((1,))
    accepts = (ANYTHING, frozenset(("int64",)))
    parameters = (Parameter("sizes", None),)

    def infer(self, inputs, attributes):
        x, shape = inputs
        if attributes["sizes"] is None:
            raise ValueError("the shape that it expands to is not known at conversion time")
        return [TensorType(x.dtype, broadcast(x.shape, tuple(attributes["sizes"])))]

    def compute(self, inputs, attributes):
        x, shape = inputs
        return [np.broadcast_to(x, np.broadcast_shapes(x.shape, tuple(shape.tolist())))]


@register
class Shape(Operator):
    """The sizes of axes `start` up to `end` as a tensor; how a dynamic batch becomes a number."""

    name = "Shape"
    accepts = (ANYTHING,)
    parameters = (Parameter("start", 0), Parameter("end", None))

    def infer(self, inputs, attributes):
        count = len(range(inputs[0].rank)[attributes["start"] : attributes["end"]])
        return [TensorType(np.dtype(np.int64), (count,))]

    def compute(self, inputs, attributes):
        return [np.array(inputs[0].shape[attributes["start"] : attributes["end"]], np.int64)]


@register
class Tile(Operator):
    """The whole tensor again and again along each axis."""

    name = "Tile"
    accepts = (ANYTHING,)
    parameters = (Parameter("repeats"),)

    def infer(self, inputs, attributes):
        (x,) = inputs
        sizes = []
        for size, times in zip(x.shape, attributes["repeats"], strict=True):
            sizes.append(Batch(size.times * times) if isinstance(size, Batch) else size * times)
        return [TensorType(x.dtype, tuple(sizes))]

    def compute(self, inputs, attributes):
        return [np.tile(inputs[0], attributes["repeats"])]


class Blocks(Operator):
    """Between blocks of pixels and channels, x [N, C, H, W]."""

    def infer(self, inputs, attributes):
        (x,) = inputs
        made = self.compute([np.empty(at_batch(x.shape, 1), x.dtype)], attributes)[0].shape
        return [TensorType(x.dtype, (x.shape[0], *made[1:]))]


@register
class DepthToSpace(Blocks):
    """Channels become blocks of pixels; in mode CRD the block is the inner part of the channel number."""

    name = "DepthToSpace"
    accepts = (ANYTHING,)
    parameters = (Parameter("blocksize"), Parameter("mode", "DCR"))

    def compute(self, inputs, attributes):
        (x,) = inputs
        block = attributes["blocksize"]
        count, channels, height, width = x.shape
        if attributes["mode"] == "DCR":
            split = x.reshape(count, block, block, -1, height, width).transpose(0, 3, 4, 1, 5, 2)
        else:
            split = x.reshape(count, -1, block, block, height, width).transpose(0, 1, 4, 2, 5, 3)
        return [split.reshape(count, channels // block**2, height * block, width * block)]


@register
class SpaceToDepth(Blocks):
    """Blocks of pixels become channels, the place in the block being the outer part of the number."""

    name = "SpaceToDepth"
    accepts = (ANYTHING,)
    parameters = (Parameter("blocksize"),)

    def compute(self, inputs, attributes):
        (x,) = inputs
        block = attributes["blocksize"]
        count, channels, height, width = x.shape
        split = x.reshape(count, channels, height // block, block, width // block, block).transpose(0, 3, 5, 1, 2, 4)
        return [split.reshape(count, channels * block**2, height // block, width // block)]


@register
class TopK(Operator):
    """The k largest (or smallest) elements along an axis in order, and their numbers."""

    name = "TopK"
    accepts = (NUMBERS,)
    results = 2
    parameters = (
        Parameter("k"),
        Parameter("axis", -1),
        Parameter("largest", 1),
        Parameter("sorted", 1),
    )

    def infer(self, inputs, attributes):
        (x,) = inputs
        axis = normal_axis(attributes["axis"], x.rank)
        shape = (*x.shape[:axis], _single(attributes["k"]), *x.shape[axis + 1 :])
        if isinstance(x.shape[axis], Batch) or shape[axis] > x.shape[axis]:
            raise ValueError(f"it cannot take {shape[axis]} along axis {axis} of {shape_text(x.shape)}")
        return [TensorType(x.dtype, shape), TensorType(np.dtype(np.int64), shape)]

    def compute(self, inputs, attributes):
        x, axis = inputs[0], attributes["axis"]
        if attributes["largest"] and x.dtype.kind in "iu":
            # The smallest whole number of a dtype has no negative there: so backwards, in which equals come last first.
            order = x.shape[axis] - 1 - np.flip(np.argsort(np.flip(x, axis), axis, kind="stable"), axis)
        else:
            order = np.argsort(-x if attributes["largest"] else x, axis, kind="stable")
        order = np.take(order, range(_single(attributes["k"])), axis)
        return [np.take_along_axis(x, order, axis), order]


def _single(k):
    return k[0] if isinstance(k, (list, tuple)) else k
