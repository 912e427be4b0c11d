"""Operators that give a tensor other axes, join tensors and take them apart."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.graph.shapes import split_size
from zygal.sources.layouts import View
from zygal.sources.layouts.arranging import flattened, joined, permuted
from zygal.sources.layouts.regrouping import regrouped
from zygal.sources.recipes.arranging import reversed_along, rolled
from zygal.sources.tensorflow.site import Label, NodeSite, Spread, Texts, Value, operator


@operator("Reshape")
def reshape(call: NodeSite) -> Value:
    given = call.given(0)
    if isinstance(given, (Texts, Label)):
        return given
    return reshaped(call, call.x(), call.sizes(1))


def reshaped(call: NodeSite, view: View, sizes: list[Dimension]) -> View:
    """To sizes of which one may be -1. Where the image can stay as it lies, it does."""
    shape = call.shape(view)
    sizes = _complete(call, shape, sizes)
    if view.origin is not None and tuple(sizes) == tuple(call.shape(view.origin)):
        return view.origin
    if tuple(sizes) == tuple(shape):
        return view
    # Pixels that become tokens are mixed as rows from there on.
    kept = None if _becomes_tokens(shape, sizes) else regrouped(call, view, sizes)
    if kept is not None:
        return kept
    if len(sizes) == 2 and sizes[0] == shape[0] and view.permutation is None and view.order[0] == 0 and len(shape) > 2:
        return flattened(call, view)
    made = call.value(call.reshaped(call.plain(view), sizes))
    if len(sizes) == 2 and len(shape) > 2 and sizes[1] == shape[-1]:
        return View(made.name, made.order, None, View(call.gathered(view), view.order))
    return made


def _becomes_tokens(shape: tuple, sizes: list[Dimension]) -> bool:
    return len(shape) == 4 and len(sizes) == 3 and sizes[0] == shape[0] and sizes[2] == shape[3] and sizes[2] != 1


def _complete(call: NodeSite, shape: tuple, sizes: list[Dimension]) -> list[Dimension]:
    """The sizes with a number or a multiple of the batch where -1 stood."""
    fixed, batches = split_size(shape)
    if -1 in sizes:
        place = sizes.index(-1)
        others, used = split_size(tuple(size for at, size in enumerate(sizes) if at != place))
        if not others or fixed % others or -1 in sizes[place + 1 :] or batches - used not in (0, 1):
            call.refuse(f"reshapes {_text(shape)} to {_text(sizes)}, which does not fit")
        sizes = list(sizes)
        sizes[place] = Batch(fixed // others) if batches > used else fixed // others
    if split_size(tuple(sizes)) != (fixed, batches):
        call.refuse(f"reshapes {_text(shape)} to {_text(sizes)}, which fixes the batch or does not fit")
    return sizes


def _text(sizes) -> str:
    return f"[{', '.join(map(str, sizes))}]"


@operator("Squeeze")
def squeeze(call: NodeSite) -> Value:
    if isinstance(call.given(0), (Texts, Label)):
        return call.given(0)
    if isinstance(call.given(0), Spread):
        return _spread_over_a_row(call, call.given(0))
    view, shape = call.x(), call.shape(call.x())
    axes = (
        call.attribute("squeeze_dims") or call.attribute("axis") or [at for at, size in enumerate(shape) if size == 1]
    )
    axes = {int(axis) % len(shape) for axis in axes}
    if any(shape[axis] != 1 for axis in axes):
        call.refuse(f"takes the axes {sorted(axes)} out of {_text(shape)}, which are not of size 1")
    return reshaped(call, view, [size for at, size in enumerate(shape) if at not in axes])


@operator("ExpandDims")
def expand_dims(call: NodeSite) -> Value:
    if isinstance(call.given(0), (Texts, Label)):
        return call.given(0)
    if isinstance(call.given(0), Spread):
        return _spread_over_an_image(call, call.given(0))
    view, shape = call.x(), list(call.shape(call.x()))
    axis = call.axis(1, len(shape) + 1)
    return reshaped(call, view, [*shape[:axis], 1, *shape[axis:]])


def _spread_over_an_image(call: NodeSite, given: Spread) -> Spread:
    """A row that is dealt out, as an image of one row: how convolutions over rows are written."""
    shape = list(call.shape(given.view))
    if call.axis(1, len(shape) + 1) != 1:
        call.refuse("puts an axis into what is dealt out over the batch, behind the first")
    view = reshaped(call, given.view, [shape[0], 1, *shape[1:]])
    return Spread(view, (1, *given.blocks), ((0, 0), *given.pads), given.convolved)


def _spread_over_a_row(call: NodeSite, given: Spread) -> Spread:
    shape, axes = list(call.shape(given.view)), call.attribute("squeeze_dims") or call.attribute("axis")
    if not axes or [int(axis) % len(shape) for axis in axes] != [1] or shape[1] != 1 or given.blocks[0] != 1:
        call.refuse("takes an axis out of what is dealt out over the batch")
    return Spread(reshaped(call, given.view, [shape[0], *shape[2:]]), given.blocks[1:], given.pads[1:], given.convolved)


@operator("Transpose", "ConjugateTranspose")
def transpose(call: NodeSite) -> View:
    view, axes = call.x(), [int(axis) for axis in call.static(1, "an order")]
    if sorted(axes) != list(range(len(view.order))):
        call.refuse(f"orders axes by {axes}")
    return permuted(call, view, axes)


@operator("ConcatV2", "Concat")
def concatenate(call: NodeSite) -> View:
    place = -1 if call.kind == "ConcatV2" else 0
    views = call.xs()
    del views[place]
    return joined(call, views, call.axis(place, len(views[0].order))) if len(views) > 1 else views[0]


@operator("Pack")
def pack(call: NodeSite) -> Value:
    if any(isinstance(each, Texts) for each in call.inputs):
        call.attribute("axis")
        return Texts(np.concatenate([each.array.reshape(-1) for each in call.inputs]))
    views = call.xs()
    rank = len(views[0].order)
    axis = int(call.attribute("axis", 0)) % (rank + 1)
    parts = [call.step("Unsqueeze", call.plain(view), axes=[axis]) for view in views]
    return call.value(call.step("Concat", *parts, axis=axis) if len(parts) > 1 else parts[0])


@operator("Unpack", outputs=("output",))
def unpack(call: NodeSite) -> list[View]:
    view = call.x()
    axis, count = int(call.attribute("axis", 0)) % len(view.order), int(call.attribute("num"))
    if call.shape(view)[axis] != count:
        call.refuse(f"takes {call.shape(view)[axis]} parts for {count}")
    return [_without(call, cut(call, view, axis, at, at + 1), axis) for at in range(count)]


def _without(call: NodeSite, view: View, axis: int) -> View:
    shape = list(call.shape(view))
    return reshaped(call, view, [*shape[:axis], *shape[axis + 1 :]])


def cut(call: NodeSite, view: View, axis: int, start: int, end: int, step: int = 1) -> View:
    """A slice along one axis; a whole one adds nothing."""
    size = call.shape(view)[axis]
    if isinstance(size, Batch):
        call.refuse("cuts the batch")
    if (start, end, step) == (0, size, 1):
        return view
    name = call.gathered(view)
    if step < 0 and end < 0:
        end = -(2**62)
    return View(
        call.step("Slice", name, starts=[start], ends=[end], axes=[view.order.index(axis)], steps=[step]), view.order
    )


@operator("Split", "SplitV", outputs=("output",))
def split(call: NodeSite) -> list[View]:
    places = (1, 0) if call.kind == "Split" else (0, 2)
    view = call.x(places[0])
    axis = call.axis(places[1], len(view.order))
    size, count = call.shape(view)[axis], int(call.attribute("num_split"))
    if call.kind == "Split":
        if isinstance(size, Batch) or not count or size % count:
            call.refuse(f"cannot split {size} into {count}")
        sizes = [size // count] * count
    else:
        sizes = [int(each) for each in call.static(1, "sizes")]
        if -1 in sizes:
            sizes[sizes.index(-1)] = size - sum(sizes) - 1
    if sum(sizes) != size or min(sizes, default=0) < 0:
        call.refuse(f"splits {size} into {sizes}")
    ends = np.cumsum(sizes).tolist()
    return [cut(call, view, axis, end - size, end) for end, size in zip(ends, sizes)]


@operator("Tile")
def tile(call: NodeSite) -> View:
    view, times = call.x(), call.sizes(1)
    shape = list(call.shape(view))
    if any(isinstance(each, Batch) for each in times):
        sizes = [size if each == 1 else each for size, each in zip(shape, times)]
        if any(size != 1 and each != 1 for size, each in zip(shape, times)):
            call.refuse("repeats along the batch what has more than one place there")
        return call.value(call.expanded(call.plain(view), sizes))
    if all(each == 1 for each in times):
        return view
    if any(isinstance(size, Batch) and each != 1 for size, each in zip(shape, times)):
        call.refuse("repeats the images of a batch")
    return View(call.step("Tile", call.gathered(view), repeats=[int(times[axis]) for axis in view.order]), view.order)


@operator("BroadcastTo")
def broadcast(call: NodeSite) -> View:
    view, sizes = call.x(), call.sizes(1)
    if tuple(sizes) == tuple(call.shape(view)):
        return view
    return call.value(call.expanded(call.plain(view), sizes))


@operator("Reverse", "ReverseV2")
def reverse(call: NodeSite) -> View:
    view = call.x()
    if call.kind == "Reverse":
        axes = [axis for axis, turned in enumerate(call.static(1, "axes")) if turned]
    else:
        axes = call.axes(1, len(view.order))
    if any(isinstance(call.shape(view)[axis], Batch) for axis in axes):
        call.refuse("reverses the batch")
    return (
        View(reversed_along(call, call.gathered(view), [view.order.index(axis) for axis in axes]), view.order)
        if axes
        else view
    )


@operator("Roll")
def roll(call: NodeSite) -> View:
    view = call.x()
    name = call.gathered(view)
    for shift, axis in zip(call.static(1, "shifts").reshape(-1), call.static(2, "axes").reshape(-1), strict=True):
        name = rolled(call, name, int(shift), view.order.index(int(axis) % len(view.order)))
    return View(name, view.order)
