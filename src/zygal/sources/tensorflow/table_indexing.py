"""Operators that pick elements by their places."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.layouts import View
from zygal.sources.tensorflow.site import Label, NodeSite, Texts, Value, operator
from zygal.sources.tensorflow.table_shaping import cut, reshaped


@operator("Slice")
def slice_(call: NodeSite) -> View:
    view = call.x()
    starts, sizes = call.static(1, "a start"), call.sizes(2)
    for axis, (start, size) in enumerate(zip(starts.tolist(), sizes, strict=True)):
        whole = call.shape(view)[axis]
        if isinstance(whole, Batch):
            if start or size not in (whole, -1):
                call.refuse("cuts the batch")
            continue
        view = cut(call, view, axis, int(start), whole if size == -1 else int(start) + size)
    return view


@operator("StridedSlice")
def strided_slice(call: NodeSite) -> Value:
    """NumPy's slices, spelt with masks: bit i of a mask speaks of the i-th entry."""
    masks = masks_of(call)
    given = call.given(0)
    if isinstance(given, (Texts, Label)):
        return given
    view = call.x()
    steps, array = entries(call, masks, len(view.order)), call.known(0)
    if array is not None and all(isinstance(each, int | None) for one in steps for each in one[1:]):
        index = tuple(
            None if kind == "new" else start if kind == "pick" else slice(start, end, step)
            for kind, start, end, step in steps
        )
        return call.held(np.array(array[index], order="C"), "slice")
    shape, sizes, axis = call.shape(view), [], 0
    for kind, start, end, step in steps:
        if kind == "new":
            sizes.append(1)
            continue
        size = shape[axis]
        if kind == "pick":
            view = _one(call, view, axis, start, size)
        else:
            view = _several(call, view, axis, start, end, step, size)
            sizes.append(call.shape(view)[axis])
        axis += 1
    sizes += call.shape(view)[axis:]
    return reshaped(call, view, sizes) if tuple(sizes) != tuple(call.shape(view)) else view


def masks_of(call: NodeSite) -> dict[str, int]:
    return {
        name: int(call.attribute(f"{name}_mask", 0)) for name in ("begin", "end", "ellipsis", "new_axis", "shrink_axis")
    }


def entries(call: NodeSite, masks: dict[str, int], rank: int) -> list[tuple[str, int | None, int | None, int]]:
    """What is done along each axis: ("new" axis), ("pick" one place), or ("cut" from, to, by); None for an end that is
    open."""
    starts, ends, steps = (call.sizes(place) for place in (1, 2, 3))
    made = []
    for place, (start, end, step) in enumerate(zip(starts, ends, steps, strict=True)):
        bit = 1 << place
        if masks["ellipsis"] & bit:
            taken = sum(1 for other in range(len(starts)) if other != place and not masks["new_axis"] & 1 << other)
            made += [("cut", None, None, 1)] * (rank - taken)
        elif masks["new_axis"] & bit:
            made.append(("new", None, None, 1))
        elif masks["shrink_axis"] & bit:
            made.append(("pick", start, None, 1))
        else:
            made.append(
                ("cut", None if masks["begin"] & bit else start, None if masks["end"] & bit else end, int(step))
            )
    return made


def _one(call: NodeSite, view: View, axis: int, start, size) -> View:
    if isinstance(size, Batch) or isinstance(start, Batch):
        call.refuse("picks one image of the batch")
    if not -size <= start < size:
        call.refuse(f"picks place {start} of {size}")
    start %= size
    return cut(call, view, axis, start, start + 1)


def _several(call: NodeSite, view: View, axis: int, start, end, step: int, size) -> View:
    if isinstance(size, Batch):
        if (
            step == 1
            and start in (None, 0)
            and (end is None or end == size or isinstance(end, int) and end >= 2**31 - 1)
        ):
            return view
        call.refuse("cuts the batch")
    if isinstance(start, Batch) or isinstance(end, Batch):
        call.refuse("cuts as many places as there are images")
    places = range(size)[start:end:step]
    if not places:
        call.refuse(f"cuts nothing out of {size}")
    return cut(call, view, axis, places[0], places[-1] + (1 if step > 0 else -1), step)


@operator("Gather", "GatherV2")
def gather(call: NodeSite) -> Value:
    view = call.given(0)
    axis_given = call.kind == "GatherV2"
    ahead = int(call.attribute("batch_dims", 0))
    if isinstance(view, Texts):
        listed = call.known(1)
        # A list of places orders the names anew; only what the model works out picks the class of an image.
        return _labels_by_place(call, view) if listed is None else Texts(view.array[listed])
    view, index = call.x(), call.x(1)
    axis = call.axis(2, len(view.order)) if axis_given else 0
    if ahead:
        return _gathered_beside(call, view, index, axis, ahead)
    if isinstance(call.shape(view)[axis], Batch):
        call.refuse("picks images from the batch")
    places = call.known(1)
    if places is not None and places.ndim == 1:
        return View(
            call.step("Gather", call.gathered(view), call.constant(places, "places"), axis=view.order.index(axis)),
            view.order,
        )
    return call.value(call.step("Gather", call.plain(view), call.plain(index), axis=axis))


def _labels_by_place(call: NodeSite, texts: Texts) -> Label:
    """Text picked by places that the model works out: the names of the classes."""
    return Label(tuple(each.decode("utf-8", "replace") for each in texts.array.reshape(-1)))


def _gathered_beside(call: NodeSite, view: View, index: View, axis: int, ahead: int) -> View:
    """For each row of the leading axes its own places."""
    shape, places = call.shape(view), call.shape(index)
    if axis != ahead or len(places) != ahead + 1 or len(shape) < axis + 1:
        call.refuse("picks places for each row in a way that is not supported")
    name, index_name = call.plain(view), call.step("Cast", call.plain(index), to="int64")
    for size in shape[axis + 1 :]:
        index_name = call.step("Unsqueeze", index_name, axes=[-1])
        repeats = [1] * (call.type_of(index_name).rank - 1) + [size]
        index_name = call.step("Tile", index_name, repeats=repeats)
    return call.value(call.step("GatherElements", name, index_name, axis=axis))


@operator("GatherNd")
def gather_nd(call: NodeSite) -> View:
    """Elements at known places of the leading axes."""
    view, places = call.x(), call.static(1, "places")
    array = call.known(0)
    call.attribute("bad_indices_policy")
    if array is None:
        call.refuse("picks places along several axes of the image, which is not supported")
    return call.held(array[tuple(np.moveaxis(places, -1, 0))], "picked") if view else view


@operator("OneHot")
def one_hot(call: NodeSite) -> View:
    index = call.x()
    depth, on, off = (call.static(place, what) for place, what in enumerate(("a depth", "a value", "a value"), 1))
    axis = int(call.attribute("axis", -1))
    name = call.plain(index)
    rank = call.type_of(name).rank
    axis = rank if axis == -1 else axis
    numbers = np.arange(int(depth), dtype=call.type_of(name).dtype).reshape(
        [-1 if at == axis else 1 for at in range(rank + 1)]
    )
    same = call.step("Equal", call.step("Unsqueeze", name, axes=[axis]), call.constant(numbers, "classes"))
    return call.value(
        call.step("Where", same, call.constant(on.reshape(()), "on"), call.constant(off.reshape(()), "off"))
    )


@operator("MatrixBandPart")
def band(call: NodeSite) -> View:
    array, low, high = (
        call.static(0, "a matrix"),
        int(call.static_number(1, "a count")),
        int(call.static_number(2, "a count")),
    )
    rows, columns = np.indices(array.shape[-2:])
    inside = ((low < 0) | (rows - columns <= low)) & ((high < 0) | (columns - rows <= high))
    return call.held(np.where(inside, array, np.zeros((), array.dtype)), "band")


@operator("Where")
def places_of_truth(call: NodeSite) -> View:
    truth = call.static(0, "conditions")
    return call.held(np.argwhere(truth).astype(np.int64), "places")
