"""The framework's functions that move, cut, join and repeat elements, kept as layers by functional models."""

from __future__ import annotations

from math import sqrt
from typing import Any

import numpy as np

from zygal.sources.keras.handlers import operation
from zygal.sources.keras.site import LayerSite
from zygal.sources.keras.table_images import resized
from zygal.sources.keras.table_operations import axes_of, static
from zygal.sources.layouts import View, is_batch
from zygal.sources.layouts.arranging import joined, permuted, reshaped_to
from zygal.sources.recipes import attention as attending
from zygal.sources.recipes.arranging import reversed_along, rolled


@operation("Reshape", "reshape")
def reshape(call: LayerSite) -> View:
    sizes = list(static(call, 1, "newshape", call.named.get("shape")))
    return reshaped_to(call, call.x, [int(size) for size in sizes[1:]])


@operation("Transpose", "transpose", "compat.v1.transpose")
def transpose(call: LayerSite) -> View:
    view, axes = call.x, static(call, 1, "axes", call.named.get("perm"))
    axes = list(range(call.rank(view)))[::-1] if axes is None else [axis % call.rank(view) for axis in axes]
    return permuted(call, view, axes)


@operation("Swapaxes", "Moveaxis")
def move(call: LayerSite) -> View:
    view = call.x
    names = ("axis1", "axis2") if call.function == "Swapaxes" else ("source", "destination")
    first, second = (static(call, at, name) for at, name in enumerate(names, 1))
    example = np.empty(tuple(range(1, call.rank(view) + 1)))  # Each axis is known by its size.
    made = np.swapaxes(example, first, second) if names[0] == "axis1" else np.moveaxis(example, first, second)
    axes = [size - 1 for size in made.shape]
    return permuted(call, view, axes)


@operation("ExpandDims", "expand_dims")
def expand_dims(call: LayerSite) -> View:
    view, axis = call.x, static(call, 1, "axis")
    return call.named_view(call.step("Unsqueeze", call.plain(view), axes=[axis % (call.rank(view) + 1)]))


@operation("Squeeze", "squeeze")
def squeeze(call: LayerSite) -> View:
    view, axis = call.x, static(call, 1, "axis")
    shape = call.shape(view)
    axes = (
        [at for at, size in enumerate(shape) if size == 1]
        if axis is None
        else [axis]
        if isinstance(axis, int)
        else axis
    )
    return call.named_view(call.step("Squeeze", call.plain(view), axes=[each % len(shape) for each in axes]))


@operation("Concatenate", "concat")
def concatenate(call: LayerSite) -> View:
    return joined(call, call.views(), int(static(call, 1, "axis", -1)))


@operation("Stack", "stack")
def stack(call: LayerSite) -> View:
    axis = int(static(call, 1, "axis", 0)) % (call.rank(call.views()[0]) + 1)
    parts = [call.step("Unsqueeze", call.plain(view), axes=[axis]) for view in call.views()]
    return call.named_view(call.step("Concat", *parts, axis=axis))


@operation("Split", "split")
def split(call: LayerSite) -> list[View]:
    view = call.x
    parts, axis = (
        static(call, 1, "indices_or_sections", call.named.get("num_or_size_splits")),
        int(static(call, 2, "axis", 0)),
    )
    axis %= call.rank(view)
    size, position, name = call.shape(view)[axis], view.order.index(axis), call.gathered(view)
    if is_batch(size):
        call.refuse("splits the batch")
    ends = [size // parts * (at + 1) for at in range(parts)] if isinstance(parts, int) else [*parts, size]
    if call.function == "split" and not isinstance(parts, int):
        ends = np.cumsum(parts).tolist()
    starts = [0, *ends[:-1]]
    return [
        View(call.step("Slice", name, starts=[s], ends=[e], axes=[position]), view.order) for s, e in zip(starts, ends)
    ]


@operation("GetItem", "__operators__.getitem")
def get_item(call: LayerSite) -> View:
    """Slices, single places and new axes, as NumPy has them."""
    view = call.x
    given = static(call, 1, "key", call.named.get("slice_spec"))
    keys = [_key(each) for each in (given if isinstance(given, list) else [given])]
    if Ellipsis in keys:
        at = keys.index(Ellipsis)
        missing = call.rank(view) - sum(key is not None for key in keys) + 1
        keys[at : at + 1] = [slice(None)] * missing
    name, axis, cuts, singles, fresh, made = call.plain(view), 0, [], [], [], 0
    shape = call.shape(view)
    for key in keys:
        if key is None:
            fresh.append(made)
            made += 1
            continue
        if isinstance(key, int):
            at = key % shape[axis] if not is_batch(shape[axis]) else call.refuse("selects one image of the batch")
            cuts.append((axis, at, at + 1, 1))
            singles.append(axis)
        elif key != slice(None):
            if is_batch(shape[axis]):
                call.refuse("cuts the batch")
            start, stop, step = key.indices(shape[axis])
            cuts.append((axis, start, stop if stop >= 0 else -(2**62), step))
            made += 1
        else:
            made += 1
        axis += 1
    if cuts:
        axes, starts, ends, steps = (list(each) for each in zip(*cuts))
        name = call.step("Slice", name, starts=starts, ends=ends, axes=axes, steps=steps)
    if singles:
        name = call.step("Squeeze", name, axes=singles)
    if fresh:
        name = call.step("Unsqueeze", name, axes=fresh)
    return call.named_view(name)


def _key(key: Any) -> Any:
    """One part of an index; the second age spells slices as dictionaries."""
    if isinstance(key, dict):
        if "start" in key:
            return slice(key.get("start"), key.get("stop"), key.get("step"))
        spelled = key.get("class_name") == "__ellipsis__" or key.get("value") == "..."
        return Ellipsis if spelled else key.get("value")
    return key


@operation("Pad")
def pad(call: LayerSite) -> View:
    view = call.x
    widths = call.config.get("pad_width") or static(call, 1, "pad_width")
    mode = call.config.get("mode") or static(call, 2, "mode", "constant")
    if mode not in ("constant", "reflect"):
        call.refuse(f"pads by {mode}, which is not supported")
    pads = [int(widths[axis][end]) for end in (0, 1) for axis in view.order]
    value = float(static(call, 3, "constant_values", 0.0) or 0.0)
    return View(call.step("Pad", call.gathered(view), pads=pads, mode=mode, value=value), view.order)


@operation("Flip")
def flip(call: LayerSite) -> View:
    view, axes = call.x, axes_of(call, call.x)
    positions = [view.order.index(axis) for axis in axes]
    return View(reversed_along(call, call.gathered(view), positions), view.order)


@operation("Roll", "roll")
def roll(call: LayerSite) -> View:
    view = call.x
    shifts, axes = static(call, 1, "shift"), static(call, 2, "axis")
    if axes is None:
        call.refuse("rolls the flattened tensor, the batch included")
    name = call.gathered(view)
    axes = [axes] if isinstance(axes, int) else list(axes)
    shifts = [shifts] * len(axes) if isinstance(shifts, int) else list(shifts)
    if len(shifts) != len(axes):
        call.refuse(f"rolls {len(axes)} axes by {len(shifts)} shifts")
    for shift, axis in zip(shifts, axes):
        name = rolled(call, name, shift, view.order.index(axis % call.rank(view)))
    return View(name, view.order)


@operation("Repeat", "repeat")
def repeat(call: LayerSite) -> View:
    view, times, axis = call.x, static(call, 1, "repeats"), static(call, 2, "axis")
    if axis is None or is_batch(call.shape(view)[axis]):
        call.refuse("repeats images")
    positions = np.repeat(np.arange(call.shape(view)[axis]), times)
    position = view.order.index(axis % call.rank(view))
    return View(call.step("Gather", call.gathered(view), call.constant(positions, "places"), axis=position), view.order)


@operation("BroadcastTo")
def broadcast(call: LayerSite) -> View:
    view, sizes = call.x, list(static(call, 1, "shape"))
    shape = call.shape(view)
    return call.named_view(call.expanded(call.plain(view), [shape[0], *sizes[1:]]))


@operation("Tile")
def tile(call: LayerSite) -> View:
    return call.named_view(call.step("Tile", call.plain(call.x), repeats=list(static(call, 1, "repeats"))))


@operation("Where")
def where(call: LayerSite) -> View:
    given = [call.argument(at, name) for at, name in enumerate(("condition", "x1", "x2"))]
    tensor = next(each for each in given[1:] if isinstance(each, View))
    views = [each if isinstance(each, View) else call.constant_view(each, tensor) for each in given]
    names, lead = call.together(views)
    return View(call.step("Where", *names), lead.order, lead.permutation)


@operation("Cast", "cast")
def cast(call: LayerSite) -> View:
    """To any floating point, all of which is computed in float32."""
    wanted = str(call.config.get("dtype_value") or static(call, 1, "dtype", "float32"))
    if "float" not in wanted:
        call.refuse(f"casts to {wanted}, which is not supported")
    return call.elementwise(
        call.x, lambda x: x if call.type_of(x).dtype == np.float32 else call.step("Cast", x, to="float32")
    )


@operation("StopGradient", "stop_gradient", "identity", "Identity", "Copy")
def nothing(call: LayerSite) -> View:
    return call.x


@operation("DotProductAttention")
def attention(call: LayerSite) -> View:
    """softmax(query key' / sqrt d) value on [N, rows, heads, d]; Vaswani et al., 2017."""
    query, key, value = (call.argument(at, name) for at, name in enumerate(("query", "key", "value")))
    if any(isinstance(call.argument(at, name), View) for at, name in ((3, "bias"), (4, "mask"))):
        call.refuse("uses a mask tensor, which is not supported")
    q, v = (call.in_order(view, (0, 2, 1, 3)) for view in (query, value))
    if static(call, 6, "is_causal", False):
        call.refuse("puts out what comes later, which is not supported")
    scale = call.config.get("scale") or call.argument(5, "scale") or 1 / sqrt(call.shape(query)[-1])
    weights = attending.scores(call, q, call.in_order(key, (0, 2, 1, 3)), scale, scale_first=True)
    return View(attending.attended(call, weights, v), (0, 2, 1, 3))


@operation("Resize", "image.resize")
def resize(call: LayerSite) -> View:
    view = call.x
    size = call.config.get("size") or static(call, 1, "size")
    mode, antialias = static(call, 2, "interpolation", "bilinear"), bool(static(call, 3, "antialias", False))
    if call.config.get("crop_to_aspect_ratio") or call.config.get("pad_to_aspect_ratio") or call.rank(view) != 4:
        call.refuse("resizes with another aspect ratio, which is not supported; use the layer Resizing")
    name, order = call.image(view)[:2]
    sizes = list(call.type_of(name).shape[2:])
    return View(resized(call, name, sizes, [int(each) for each in size], mode, antialias), order)


@operation("AveragePool", "MaxPool", "Conv", "DepthwiseConv")
def image_function(call: LayerSite) -> View:
    return call.refuse("calls a function on images directly; use the layer of that name instead")
