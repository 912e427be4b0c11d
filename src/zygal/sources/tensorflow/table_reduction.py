"""Operators that reduce axes, and those that look for the largest."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.layouts import View
from zygal.sources.layouts.images import global_mean
from zygal.sources.recipes import normalisation
from zygal.sources.tensorflow.site import NodeSite, operator


def without(order: tuple[int, ...], axes: list[int]) -> tuple[int, ...]:
    """The order of the axes that are left, counted anew."""
    left = [axis for axis in order if axis not in axes]
    return tuple(sorted(left).index(axis) for axis in left)


def reduced(call: NodeSite, reduction: str, view: View, axes: list[int], keep: bool) -> View:
    if not axes:
        return view
    if any(isinstance(call.shape(view)[axis], Batch) for axis in axes):
        call.refuse(
            "reduces the batch, as layers do in training mode, so one image's scores would depend on the "
            "others; save the model for inference"
        )
    places = sorted(view.order.index(axis) for axis in axes)
    made = call.step(reduction, call.gathered(view), axes=places, keepdims=int(keep))
    return View(made, view.order if keep else without(view.order, axes))


_REDUCTIONS = {"Mean": "ReduceMean", "Sum": "ReduceSum", "Max": "ReduceMax", "Min": "ReduceMin", "Prod": "ReduceProd"}


@operator(*_REDUCTIONS)
def reduction(call: NodeSite) -> View:
    view = call.x()
    rank, keep = len(view.order), bool(call.attribute("keep_dims", False))
    axes = call.axes(1, rank)
    image_order = (0, rank - 1, *range(1, rank - 1))
    if call.kind == "Mean" and rank > 2 and axes == list(range(1, rank - 1)) and view.order == image_order:
        return global_mean(call, view, image_order, keep)
    return reduced(call, _REDUCTIONS[call.kind], view, axes, keep)


@operator("EuclideanNorm")
def length(call: NodeSite) -> View:
    view = call.x()
    return reduced(call, "ReduceL2", view, call.axes(1, len(view.order)), bool(call.attribute("keep_dims", False)))


@operator("All", "Any")
def truth(call: NodeSite) -> View:
    """The smallest or the largest of truth values taken as numbers."""
    view = call.x()
    axes, keep = call.axes(1, len(view.order)), bool(call.attribute("keep_dims", False))
    numbers = call.elementwise(view, lambda x: call.step("Cast", x, to="int32"))
    made = reduced(call, "ReduceMin" if call.kind == "All" else "ReduceMax", numbers, axes, keep)
    return call.elementwise(made, lambda x: call.step("Cast", x, to="bool"))


@operator("L2Normalize")
def unit_length(call: NodeSite) -> View:
    view = call.x()
    places = [view.order.index(axis) for axis in call.axes(1, len(view.order))]
    return View(normalisation.unit_length(call, call.gathered(view), places, 1e-6), view.order)


@operator("ArgMax", "ArgMin")
def place_of_extreme(call: NodeSite) -> View:
    view, dtype = call.x(), call.dtype("output_type", 9)
    axis = call.axis(1, len(view.order)) if len(call.inputs) > 1 else 0
    if isinstance(call.shape(view)[axis], Batch):
        call.refuse("looks for the largest over the batch")
    name = call.gathered(view)
    name = name if call.kind == "ArgMax" else call.step("Neg", name)
    made = call.step("ArgMax", name, axis=view.order.index(axis), keepdims=0)
    return View(made if dtype == np.int64 else call.step("Cast", made, to=dtype.name), without(view.order, [axis]))


@operator("TopKV2", "TopK", outputs=("values", "indices"))
def largest(call: NodeSite) -> list[View]:
    view = call.x()
    count = int(call.static_number(1, "the count")) if call.kind == "TopKV2" else int(call.attribute("k"))
    call.attribute("sorted")
    values, places = call.several("TopK", call.plain(view), count=2, k=[count], axis=-1)
    return [call.value(values), call.value(call.step("Cast", places, to="int32"))]


@operator("Cumsum")
def running_sum(call: NodeSite) -> View:
    view = call.x()
    axis = view.order.index(call.axis(1, len(view.order)))
    flags = {name: int(bool(call.attribute(name, False))) for name in ("exclusive", "reverse")}
    return View(call.step("CumSum", call.gathered(view), axis=axis, **flags), view.order)
