"""Operators that take as tensors what others have as parameters, for images whose sizes only a run knows."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import ANYTHING, TRUTH, WIDE, Operator, Parameter, register
from zygal.graph.ops.indexing import Expand
from zygal.graph.shapes import OPEN, TensorType, fits

_PLACES = frozenset(("int64",))


@register
class Range(Operator):
    """start, start + step, ... below a limit; three single numbers."""

    name = "Range"
    accepts = (frozenset(("float32", "float64", "int32", "int64")),)

    def infer(self, inputs, attributes):
        if any(each.rank or each.dtype != inputs[0].dtype for each in inputs) or len(inputs) != 3:
            raise ValueError("it takes three single numbers of one dtype")
        return [TensorType(inputs[0].dtype, (OPEN,))]

    def compute(self, inputs, attributes):
        start, limit, step = inputs
        count = max(int(np.ceil((limit - start) / step)), 0)
        return [(start + np.arange(count) * step).astype(start.dtype)]


@register
class MeasuredSlice(Operator):
    """From places up to places along some axes; beyond the end there is nothing."""

    name = "MeasuredSlice"
    apart = frozenset((1, 2, 3))
    accepts = (ANYTHING, WIDE)
    parameters = (Parameter("axes"),)

    def check_dtypes(self, inputs):
        super().check_dtypes(inputs)
        if len({each.dtype for each in inputs[1:] if each is not None}) > 1:
            raise ValueError("its operands have different dtypes")

    def infer(self, inputs, attributes):
        x, starts, ends = inputs
        count = len(attributes["axes"])
        if any(each.rank != 1 or not fits(each.shape[0], count) for each in (starts, ends)):
            raise ValueError("there must be one place for each axis")
        return [
            TensorType(
                x.dtype, tuple(OPEN if axis in attributes["axes"] else size for axis, size in enumerate(x.shape))
            )
        ]

    def compute(self, inputs, attributes):
        x, starts, ends = inputs
        cuts = dict(zip(attributes["axes"], zip(starts.tolist(), ends.tolist())))
        return [x[tuple(slice(*cuts[axis]) if axis in cuts else slice(None) for axis in range(x.ndim))]]


@register
class MeasuredPad(Operator):
    """A border whose widths are worked out: begins of all axes and then ends. value: of a constant border, a third
    input."""

    name = "MeasuredPad"
    apart = frozenset((1,))
    accepts = (ANYTHING, _PLACES, ANYTHING)
    parameters = (Parameter("mode", "constant"),)

    def infer(self, inputs, attributes):
        x, pads = inputs[:2]
        if pads.rank != 1 or not fits(pads.shape[0], 2 * x.rank):
            raise ValueError("there must be two pads for each axis")
        # Images are never joined to others, and what is known, as the number of channels is, does not grow.
        return [TensorType(x.dtype, (x.shape[0], *(size if isinstance(size, int) else OPEN for size in x.shape[1:])))]

    def compute(self, inputs, attributes):
        x, pads, *value = inputs
        pairs = list(zip(pads[: x.ndim].tolist(), pads[x.ndim :].tolist()))
        inner = tuple(slice(max(-before, 0), size - max(-after, 0)) for size, (before, after) in zip(x.shape, pairs))
        outer = [(max(before, 0), max(after, 0)) for before, after in pairs]
        extra = {"constant_values": value[0] if value else x.dtype.type(0)} if attributes["mode"] == "constant" else {}
        return [np.pad(x[inner], outer, mode=attributes["mode"], **extra)]


@register
class MeasuredReshape(Operator):
    """To sizes that are worked out; the images stay apart. known: the sizes that are known beforehand behind the batch,
    None for others."""

    name = "MeasuredReshape"
    apart = frozenset((1,))
    accepts = (ANYTHING, _PLACES)
    parameters = (Parameter("known"),)

    def infer(self, inputs, attributes):
        x, shape = inputs
        if shape.rank != 1 or not fits(shape.shape[0], 1 + len(attributes["known"])):
            raise ValueError("there must be one size for each axis")
        return [TensorType(x.dtype, (x.shape[0], *(OPEN if size is None else size for size in attributes["known"])))]

    def compute(self, inputs, attributes):
        return [inputs[0].reshape(inputs[1].tolist())]


@register
class MeasuredExpand(Expand):
    """Repeats axes of size 1 up to sizes that are worked out."""

    name = "MeasuredExpand"
    apart = frozenset((1,))
    parameters = ()

    def infer(self, inputs, attributes):
        x, shape = inputs
        if shape.rank != 1 or not isinstance(shape.shape[0], int):
            raise ValueError("the number of axes that it expands to is not known")
        return [TensorType(x.dtype, (OPEN,) * max(shape.shape[0], x.rank))]


@register
class If(Operator):
    """One of two graphs. Inputs: a single truth value, and what both graphs take, in the order of their inputs: first
    all of one's."""

    name = "If"
    apart = None
    accepts = (TRUTH, ANYTHING)
    parameters = (Parameter("then_branch"), Parameter("else_branch"))

    def infer(self, inputs, attributes):
        ends = [branch.types[branch.outputs[0]] for branch in (attributes["then_branch"], attributes["else_branch"])]
        if ends[0].dtype != ends[1].dtype or ends[0].rank != ends[1].rank:
            raise ValueError("its branches give different kinds of values")
        if len(inputs) != 1 + sum(len(attributes[name].inputs) for name in ("then_branch", "else_branch")):
            raise ValueError("its branches take another number of values")
        shape = tuple(one if one == other else OPEN for one, other in zip(ends[0].shape, ends[1].shape))
        return [TensorType(ends[0].dtype, shape)]

    def compute(self, inputs, attributes):
        from zygal.graph.reference import run_graph

        condition, *given = inputs
        one, other = attributes["then_branch"], attributes["else_branch"]
        branch, taken = (one, given[: len(one.inputs)]) if bool(condition) else (other, given[len(one.inputs) :])
        return [run_graph(branch, dict(zip(branch.inputs, taken)))[branch.outputs[0]]]
