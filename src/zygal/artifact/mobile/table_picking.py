"""Picking, ordering and reducing elements along axes."""

from __future__ import annotations

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.table_shaping import taken
from zygal.artifact.mobile.views import View, natural
from zygal.graph import Batch
from zygal.mobile.model import Operator


@spelt("Slice")
def sliced(site: Site) -> View:
    view, given = site.unmoved(), site.attributes()
    shape, rank = site.type().shape, view.rank
    axes = [axis % rank for axis in given["axes"] or range(len(given["starts"]))]
    steps = given["steps"] or [1] * len(axes)
    cuts = {
        axis: slice(start, None if step < 0 and end < -(2**30) else end, step).indices(shape[axis])
        for axis, start, end, step in zip(axes, given["starts"], given["ends"], steps)
    }
    cuts = {axis: cut for axis, cut in cuts.items() if cut != (0, shape[axis], 1)}
    if not cuts:
        return view
    if all(step == 1 for *_, step in cuts.values()):
        starts = [cuts[axis][0] if axis in cuts else 0 for axis in view.order]
        sizes = [-1 if isinstance(size, Batch) else size for size in site.sizes_in(view.order)]
        made = site.step(
            "SLICE",
            [view.tensor, site.numbers(starts), site.numbers(sizes)],
            site.sizes_in(view.order),
            site.made().dtype,
        )
        return View(view.order, made)
    if rank > 4 or any(step < 0 for *_, step in cuts.values()):
        x = view.tensor
        for axis, cut in cuts.items():
            x = taken(site, x, np.arange(*cut), view.order.index(axis))
        return View(view.order, x)
    whole = [cuts.get(axis) for axis in view.order]
    inputs = [site.numbers([cut[at] if cut else blank for cut in whole]) for at, blank in ((0, 0), (1, 0), (2, 1))]
    mask = sum(1 << at for at, cut in enumerate(whole) if cut is None)
    options = {"begin_mask": mask, "end_mask": mask, "ellipsis_mask": 0, "new_axis_mask": 0, "shrink_axis_mask": 0}
    return View(
        view.order,
        site.step("STRIDED_SLICE", [view.tensor, *inputs], site.sizes_in(view.order), site.made().dtype, **options),
    )


@spelt("Gather")
def picked(site: Site) -> View:
    view, indices = site.unmoved(), site.view(1)
    axis = site.attributes()["axis"] % view.rank
    places = indices.array
    if places is not None:
        size = site.type().shape[axis]
        if isinstance(size, int):
            places = np.where(places < 0, places + size, places)
        numbers = site.constant(places.astype(np.int32), "places")
    else:
        numbers = site.plain(indices)
    rank = indices.rank
    order: list[int] = []
    for each in view.order:
        order += range(axis, axis + rank) if each == axis else [each if each < axis else each + rank - 1]
    sizes = site.sizes_in(tuple(order))
    made = site.step(
        "GATHER", [view.tensor, numbers], sizes, site.made().dtype, axis=view.order.index(axis), batch_dims=0
    )
    return View(tuple(order), made)


_REDUCTIONS = {
    "ReduceMean": "MEAN",
    "ReduceSum": "SUM",
    "ReduceMax": "REDUCE_MAX",
    "ReduceMin": "REDUCE_MIN",
    "ReduceProd": "REDUCE_PROD",
}


@spelt("ReduceL1", "ReduceL2", *_REDUCTIONS)
def reduced(site: Site) -> View:
    view, given, kind = site.unmoved(), site.attributes(), site.node.operator
    axes = {axis % view.rank for axis in given["axes"] or range(view.rank)}
    x = view.tensor
    if kind in ("ReduceL1", "ReduceL2"):
        x = site.unary("ABS", x) if kind == "ReduceL1" else site.binary("MUL", x, x)
    places = [at for at, axis in enumerate(view.order) if axis in axes]
    order = view.order if given["keepdims"] else _renumbered([axis for axis in view.order if axis not in axes])
    made = site.step(
        _REDUCTIONS.get(kind, "SUM"),
        [x, site.numbers(places)],
        site.sizes_in(order),
        site.made().dtype,
        keep_dims=bool(given["keepdims"]),
    )
    return View(order, site.unary("SQRT", made) if kind == "ReduceL2" else made)


def _renumbered(axes: list[int]) -> tuple[int, ...]:
    return tuple(sorted(axes).index(axis) for axis in axes)


@spelt("ArgMax")
def largest(site: Site) -> View:
    given, rank = site.attributes(), site.type().rank
    axis, x = given["axis"] % rank, site.plain(site.view())
    shape = site.shape_of(x)
    made = site.step("ARG_MAX", [x, site.numbers(axis)], (*shape[:axis], *shape[axis + 1 :]), np.int32, output_type=2)
    return site.result(site.reshape_tensor(made, site.made().shape) if given["keepdims"] else made)


@spelt("TopK")
def best(site: Site) -> list[View]:
    given, view = site.attributes(), site.gathered(site.view())
    axis = given["axis"] % view.rank
    order = (*(each for each in natural(view.rank) if each != axis), axis)
    x, count = site.in_order(view, order), given["k"][0] if isinstance(given["k"], (list, tuple)) else given["k"]
    if not given["largest"]:
        # The smallest are the largest of the negative numbers.
        x = site.unary("NEG", x)
    tensors = [
        site.lowering.tensor(site.sizes_in(order, place), site.made(place).dtype, name)
        for place, name in enumerate(site.node.outputs)
    ]
    site.lowering.operators.append(Operator("TOPK_V2", [x, site.numbers(count)], tensors))
    values = tensors[0] if given["largest"] else site.unary("NEG", tensors[0])
    return [View(order, values), View(order, tensors[1])]


@spelt("CumSum")
def running(site: Site) -> View:
    given, view = site.attributes(), site.unmoved()
    place = view.order.index(given["axis"] % view.rank)
    options = {"exclusive": bool(given["exclusive"]), "reverse": bool(given["reverse"])}
    return View(
        view.order,
        site.step(
            "CUMSUM", [view.tensor, site.numbers(place)], site.sizes_in(view.order), site.made().dtype, **options
        ),
    )
