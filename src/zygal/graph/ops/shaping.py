"""Operators that move elements without changing them."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import ANYTHING, Operator, Parameter, normal_axis, register
from zygal.graph.shapes import OPEN, Batch, Open, TensorType, fits, is_open, shape_text, split_size


@register
class Reshape(Operator):
    """To the dimensions `shape`: 0 keeps the size at that place, and one may be -1, whatever is left.

    The batch can only be where a 0 or the -1 stands.
    """

    name = "Reshape"
    accepts = (ANYTHING,)
    parameters = (Parameter("shape"),)

    def infer(self, inputs, attributes):
        (x,) = inputs
        wanted = [x.shape[axis] if size == 0 else size for axis, size in enumerate(attributes["shape"])]
        if wanted.count(-1) > 1 or any(isinstance(size, int) and size < -1 for size in wanted):
            raise ValueError(f"the shape {list(attributes['shape'])} is not one that a reshape can aim at")
        if is_open(x.shape):
            # What is left is the batch: the run finds out whether the sizes fit.
            batch = next((size for size in x.shape if isinstance(size, Batch)), OPEN)
            return [TensorType(x.dtype, tuple(batch if size == -1 else size for size in wanted))]
        fixed, batches = split_size(x.shape)
        known, known_batches = split_size(tuple(size for size in wanted if size != -1))
        rest, remainder = divmod(fixed, known) if known else (0, fixed)
        rest_batches = batches - known_batches
        if remainder or rest_batches not in (0, 1) or (-1 not in wanted and (rest != 1 or rest_batches)):
            raise ValueError(f"it does not have the number of elements of {shape_text(tuple(wanted))}")
        filled = tuple((Batch(rest) if rest_batches else rest) if size == -1 else size for size in wanted)
        return [TensorType(x.dtype, filled)]

    def compute(self, inputs, attributes):
        (x,) = inputs
        return [x.reshape([x.shape[axis] if size == 0 else size for axis, size in enumerate(attributes["shape"])])]


@register
class Flatten(Operator):
    """To a matrix: the axes before `axis` become the rows, the others the columns."""

    name = "Flatten"
    accepts = (ANYTHING,)
    parameters = (Parameter("axis", 1),)

    def infer(self, inputs, attributes):
        (x,) = inputs
        axis = attributes["axis"] if attributes["axis"] >= 0 else attributes["axis"] + x.rank
        sizes = []
        for part in (x.shape[:axis], x.shape[axis:]):
            fixed, batches = split_size(part)
            if batches > 1:
                raise ValueError(f"{shape_text(part)} uses the batch more than once")
            sizes.append(Batch(fixed) if batches else fixed)
        return [TensorType(x.dtype, tuple(sizes))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        axis = attributes["axis"] if attributes["axis"] >= 0 else attributes["axis"] + x.ndim
        return [x.reshape(int(np.prod(x.shape[:axis], dtype=np.int64)), -1)]


@register
class Transpose(Operator):
    """Another order of the axes; the reverse order if none is given."""

    name = "Transpose"
    accepts = (ANYTHING,)
    parameters = (Parameter("perm", None),)

    def infer(self, inputs, attributes):
        (x,) = inputs
        order = attributes["perm"] or range(x.rank)[::-1]
        if sorted(order) != list(range(x.rank)):
            raise ValueError(f"{list(order)} is not a permutation of its axes")
        return [TensorType(x.dtype, tuple(x.shape[axis] for axis in order))]

    def compute(self, inputs, attributes):
        return [inputs[0].transpose(attributes["perm"] or None)]


@register
class Concat(Operator):
    name = "Concat"
    accepts = (ANYTHING,)
    parameters = (Parameter("axis"),)

    def infer(self, inputs, attributes):
        first = inputs[0]
        axis = normal_axis(attributes["axis"], first.rank)
        pairs = [pair for x in inputs for at, pair in enumerate(zip(first.shape, x.shape, strict=True)) if at != axis]
        if len({x.dtype for x in inputs}) > 1 or not all(fits(*pair) for pair in pairs):
            raise ValueError("they differ in another axis than the one along which they are joined")
        sizes = [x.shape[axis] for x in inputs]
        if any(isinstance(size, Batch) for size in sizes):
            raise ValueError("it would join batches")
        whole = OPEN if is_open(tuple(sizes)) else sum(sizes)
        return [TensorType(first.dtype, (*first.shape[:axis], whole, *first.shape[axis + 1 :]))]

    def compute(self, inputs, attributes):
        return [np.concatenate(inputs, attributes["axis"])]


@register
class Squeeze(Operator):
    """Takes out the given axes, all of size 1."""

    name = "Squeeze"
    accepts = (ANYTHING,)
    parameters = (Parameter("axes"),)

    def infer(self, inputs, attributes):
        (x,) = inputs
        axes = {normal_axis(axis, x.rank) for axis in attributes["axes"]}
        if any(x.shape[axis] != 1 for axis in axes):
            raise ValueError("only axes of size 1 can be taken out")
        return [TensorType(x.dtype, tuple(size for axis, size in enumerate(x.shape) if axis not in axes))]

    def compute(self, inputs, attributes):
        return [inputs[0].squeeze(tuple(attributes["axes"]))]


@register
class Unsqueeze(Operator):
    """Puts in axes of size 1 at the given places of the result."""

    name = "Unsqueeze"
    accepts = (ANYTHING,)
    parameters = (Parameter("axes"),)

    def infer(self, inputs, attributes):
        (x,) = inputs
        rank = x.rank + len(attributes["axes"])
        axes = {normal_axis(axis, rank) for axis in attributes["axes"]}
        sizes = iter(x.shape)
        return [TensorType(x.dtype, tuple(1 if axis in axes else next(sizes) for axis in range(rank)))]

    def compute(self, inputs, attributes):
        return [np.expand_dims(inputs[0], tuple(attributes["axes"]))]


@register
class Pad(Operator):
    """Adds a border: begins of all axes and then ends, filled with a constant or from the inside."""

    name = "Pad"
    accepts = (ANYTHING,)
    parameters = (
        Parameter("pads"),
        Parameter("value", 0.0),
        Parameter("mode", "constant"),
    )

    def infer(self, inputs, attributes):
        (x,) = inputs
        pads = attributes["pads"]
        if len(pads) != 2 * x.rank:
            raise ValueError("there must be two pads for each axis")
        sizes = []
        for size, before, after in zip(x.shape, pads[: x.rank], pads[x.rank :]):
            if isinstance(size, Batch) and (before or after):
                raise ValueError("it would pad the batch")
            sizes.append(size if isinstance(size, (Batch, Open)) else size + before + after)
        return [TensorType(x.dtype, tuple(sizes))]

    def compute(self, inputs, attributes):
        (x,) = inputs
        pads = list(zip(attributes["pads"][: x.ndim], attributes["pads"][x.ndim :]))
        inner = tuple(slice(max(-b, 0), size - max(-a, 0)) for size, (b, a) in zip(x.shape, pads))
        outer = [(max(b, 0), max(a, 0)) for b, a in pads]
        mode = attributes["mode"]
        extra = {"constant_values": x.dtype.type(attributes["value"])} if mode == "constant" else {}
        return [np.pad(x[inner], outer, mode=mode, **extra)]
