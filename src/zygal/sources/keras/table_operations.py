"""The framework's functions that functional models keep as layers; of the second age under the names that it had for them."""

from __future__ import annotations

from math import sqrt
from typing import Any

import numpy as np

from zygal.sources.keras.site import LayerSite, View, is_batch, operation
from zygal.sources.keras.table_activations import _gelu, softmax_along
from zygal.sources.keras.table_images import resized
from zygal.sources.keras.table_shapes import joined, reshaped_to


def _operands(call: LayerSite) -> list[View]:
    """Two arguments, of which either may be a number or an array."""
    given = [
        call.argument(at, names[0], call.named.get(names[1])) for at, names in enumerate((("x1", "x"), ("x2", "y")))
    ]
    if given[1] is None:
        given[1] = call.named.get("bias")
    tensor = next((each for each in given if isinstance(each, View)), None)
    if tensor is None:
        call.refuse("computes with no tensor")
    return [each if isinstance(each, View) else call.constant_view(each, tensor) for each in given]


def _binary(operator: str, *names: str) -> None:
    @operation(*names)
    def binary(call: LayerSite) -> View:
        names, lead = call.together(_operands(call))
        return View(call.step(operator, *names), lead.order, lead.picks)


_binary("Add", "Add", "math.add", "__operators__.add", "add", "nn.bias_add")
_binary("Sub", "Subtract", "math.subtract", "__operators__.sub", "subtract")
_binary("Mul", "Multiply", "math.multiply", "__operators__.mul", "multiply")
_binary("Div", "TrueDivide", "Divide", "math.truediv", "math.divide", "__operators__.truediv", "realdiv")
_binary("Pow", "Power", "math.pow")
_binary("Max", "Maximum", "math.maximum")
_binary("Min", "Minimum", "math.minimum")
_binary("Greater", "Greater")
_binary("Less", "Less")


def _reverse(operator: str, *names: str) -> None:
    @operation(*names)
    def reverse(call: LayerSite) -> View:
        names, lead = call.together(_operands(call)[::-1])
        return View(call.step(operator, *names), lead.order, lead.picks)


_reverse("Sub", "__operators__.rsub")
_reverse("Div", "__operators__.rtruediv")


def _unary(operator: str, *names: str) -> None:
    @operation(*names)
    def unary(call: LayerSite) -> View:
        return call.elementwise(call.x, lambda x: call.step(operator, x))


for _name in (
    "Exp",
    "Log",
    "Sqrt",
    "Sin",
    "Cos",
    "Tan",
    "Ceil",
    "Floor",
    "Sign",
    "Erf",
    "Sinh",
    "Cosh",
    "Tanh",
    "Reciprocal",
):
    _unary(_name, _name, f"math.{_name.lower()}")
_unary("Abs", "Absolute", "Abs", "math.abs")
_unary("Neg", "Negative", "math.negative", "__operators__.neg")
_unary("Asin", "Arcsin")
_unary("Atan", "Arctan")
_unary("Round", "Round", "math.round")


@operation("Square", "math.square")
def square(call: LayerSite) -> View:
    return call.elementwise(call.x, lambda x: call.step("Mul", x, x))


@operation("Rsqrt", "math.rsqrt")
def reciprocal_root(call: LayerSite) -> View:
    return call.elementwise(call.x, lambda x: call.step("Reciprocal", call.step("Sqrt", x)))


@operation("Gelu", "nn.gelu")
def gelu(call: LayerSite) -> View:
    approximate = bool(call.config.get("approximate", call.argument(1, "approximate", call.shown.class_name == "Gelu")))
    return call.elementwise(call.x, lambda x: _gelu(call, x, approximate))


@operation("Softmax", "nn.softmax", "LogSoftmax", "nn.log_softmax")
def softmax(call: LayerSite) -> View:
    axis = _static(call, 1, "axis", -1)
    return softmax_along(call, call.x, -1 if axis is None else int(axis), "log" in call.function.lower())


@operation("LeakyRelu", "nn.leaky_relu")
def leaky(call: LayerSite) -> View:
    slope = float(_static(call, 1, "negative_slope", call.named.get("alpha", 0.2)))
    return call.elementwise(call.x, lambda x: call.step("LeakyRelu", x, alpha=slope))


@operation("Clip", "clip_by_value")
def clip(call: LayerSite) -> View:
    low = _static(call, 1, "x_min", call.named.get("clip_value_min"))
    high = _static(call, 2, "x_max", call.named.get("clip_value_max"))
    return call.elementwise(call.x, lambda x: call.step("Clip", x, min=float(low), max=float(high)))


def _static(call: LayerSite, place: int, name: str, default: Any = None) -> Any:
    """An argument that is no tensor: given in the call, or kept in the function's configuration."""
    value = call.argument(place, name, call.config.get(name, default))
    if isinstance(value, View):
        call.refuse(f"has a tensor for {name}")
    return default if value is None else value


def _reduction(operator: str, *names: str) -> None:
    @operation(*names)
    def reduction(call: LayerSite) -> View:
        view = call.x
        axes, keep = _axes(call, view), bool(_static(call, 2, "keepdims", False))
        places = sorted(view.order.index(axis) for axis in axes)
        made = call.step(operator, call.gathered(view), axes=places, keepdims=int(keep))
        return View(made, view.order if keep else _without(view.order, axes))


def _axes(call: LayerSite, view: View) -> list[int]:
    axes = _static(call, 1, "axis")
    rank = call.rank(view)
    if axes is None:
        call.refuse("reduces everything, the batch included")
    return sorted(axis % rank for axis in ([axes] if isinstance(axes, int) else axes))


def _without(order: tuple[int, ...], axes: list[int]) -> tuple[int, ...]:
    left = [axis for axis in order if axis not in axes]
    return tuple(sorted(left).index(axis) for axis in left)


_reduction("ReduceMean", "Mean", "math.reduce_mean")
_reduction("ReduceSum", "Sum", "math.reduce_sum")
_reduction("ReduceMax", "Max", "Amax", "math.reduce_max")
_reduction("ReduceMin", "Min", "Amin", "math.reduce_min")
_reduction("ReduceProd", "Prod", "math.reduce_prod")


@operation("Var", "Std", "math.reduce_variance", "math.reduce_std")
def variance(call: LayerSite) -> View:
    view = call.x
    axes, keep = _axes(call, view), bool(_static(call, 2, "keepdims", False))
    places, name = sorted(view.order.index(axis) for axis in axes), call.gathered(view)
    centred = call.step("Sub", name, call.step("ReduceMean", name, axes=places, keepdims=1))
    made = call.step("ReduceMean", call.step("Mul", centred, centred), axes=places, keepdims=int(keep))
    made = call.step("Sqrt", made) if call.function.lower().endswith("std") else made
    return View(made, view.order if keep else _without(view.order, axes))


@operation("Normalize", "math.l2_normalize")
def normalize(call: LayerSite) -> View:
    view = call.x
    axis, order = int(_static(call, 1, "axis", -1)), _static(call, 2, "order", 2)
    if order != 2:
        call.refuse(f"normalises by the norm {order}, which is not supported")
    place, name = view.order.index(axis % call.rank(view)), call.gathered(view)
    total = call.step("ReduceSum", call.step("Mul", name, name), axes=[place], keepdims=1)
    length = call.step("Sqrt", call.step("Max", total, call.number(1e-12, name)))
    return View(call.step("Div", name, length), view.order)


@operation("Matmul", "linalg.matmul", "Dot")
def product(call: LayerSite) -> View:
    left, right = _operands(call)
    names = []
    for view, turned in ((left, call.named.get("transpose_a")), (right, call.named.get("transpose_b"))):
        name, rank = call.plain(view), call.rank(view)
        names.append(call.step("Transpose", name, perm=[*range(rank - 2), rank - 1, rank - 2]) if turned else name)
    return call.named_view(call.step("MatMul", *names))


@operation("Einsum", "einsum")
def einsum(call: LayerSite) -> View:
    equation = call.config.get("subscripts") or call.argument(0, "subscripts")
    given = [each for each in call.positional if not isinstance(each, str)]
    given = given[0] if len(given) == 1 and isinstance(given[0], (list, tuple)) else given
    if "..." in equation:
        call.refuse("leaves axes of its equation open, which is not supported")
    return call.named_view(
        call.step("Einsum", *(call.plain(view) for view in given), equation=equation.replace(" ", ""))
    )


@operation("Reshape", "reshape")
def reshape(call: LayerSite) -> View:
    sizes = list(_static(call, 1, "newshape", call.named.get("shape")))
    return reshaped_to(call, call.x, [int(size) for size in sizes[1:]])


@operation("Transpose", "transpose", "compat.v1.transpose")
def transpose(call: LayerSite) -> View:
    view, axes = call.x, _static(call, 1, "axes", call.named.get("perm"))
    axes = list(range(call.rank(view)))[::-1] if axes is None else [axis % call.rank(view) for axis in axes]
    return View(call.gathered(view), tuple(axes.index(axis) for axis in view.order))


@operation("Swapaxes", "Moveaxis")
def move(call: LayerSite) -> View:
    view = call.x
    names = ("axis1", "axis2") if call.function == "Swapaxes" else ("source", "destination")
    first, second = (_static(call, at, name) for at, name in enumerate(names, 1))
    places = np.arange(call.rank(view)).reshape((1,) * 0 + (-1,))
    example = np.empty(tuple(places + 1))
    made = np.swapaxes(example, first, second) if names[0] == "axis1" else np.moveaxis(example, first, second)
    axes = [size - 1 for size in made.shape]
    return View(call.gathered(view), tuple(axes.index(axis) for axis in view.order))


@operation("ExpandDims", "expand_dims")
def expand_dims(call: LayerSite) -> View:
    view, axis = call.x, _static(call, 1, "axis")
    return call.named_view(call.step("Unsqueeze", call.plain(view), axes=[axis % (call.rank(view) + 1)]))


@operation("Squeeze", "squeeze")
def squeeze(call: LayerSite) -> View:
    view, axis = call.x, _static(call, 1, "axis")
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
    return joined(call, call.views(), int(_static(call, 1, "axis", -1)))


@operation("Stack", "stack")
def stack(call: LayerSite) -> View:
    axis = int(_static(call, 1, "axis", 0)) % (call.rank(call.views()[0]) + 1)
    parts = [call.step("Unsqueeze", call.plain(view), axes=[axis]) for view in call.views()]
    return call.named_view(call.step("Concat", *parts, axis=axis))


@operation("Split", "split")
def split(call: LayerSite) -> list[View]:
    view = call.x
    parts, axis = (
        _static(call, 1, "indices_or_sections", call.named.get("num_or_size_splits")),
        int(_static(call, 2, "axis", 0)),
    )
    axis %= call.rank(view)
    size, place, name = call.shape(view)[axis], view.order.index(axis), call.gathered(view)
    if is_batch(size):
        call.refuse("splits the batch")
    ends = [size // parts * (at + 1) for at in range(parts)] if isinstance(parts, int) else [*parts, size]
    if call.function == "split" and not isinstance(parts, int):
        ends = np.cumsum(parts).tolist()
    starts = [0, *ends[:-1]]
    return [
        View(call.step("Slice", name, starts=[s], ends=[e], axes=[place]), view.order) for s, e in zip(starts, ends)
    ]


@operation("GetItem", "__operators__.getitem")
def get_item(call: LayerSite) -> View:
    """Slices, single places and new axes, as NumPy has them."""
    view = call.x
    given = _static(call, 1, "key", call.named.get("slice_spec"))
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
            at = key % shape[axis] if not is_batch(shape[axis]) else call.refuse("picks one image from the batch")
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
    widths = call.config.get("pad_width") or _static(call, 1, "pad_width")
    mode = call.config.get("mode") or _static(call, 2, "mode", "constant")
    if mode not in ("constant", "reflect"):
        call.refuse(f"pads by {mode}, which is not supported")
    pads = [int(widths[axis][end]) for end in (0, 1) for axis in view.order]
    value = float(_static(call, 3, "constant_values", 0.0) or 0.0)
    return View(call.step("Pad", call.gathered(view), pads=pads, mode=mode, value=value), view.order)


@operation("Flip")
def flip(call: LayerSite) -> View:
    view, axes = call.x, _axes(call, call.x)
    places = [view.order.index(axis) for axis in axes]
    many = len(places)
    return View(call.step("Slice", call.gathered(view), starts=[-1] * many, ends=[-(2**62)] * many, axes=places,
                          steps=[-1] * many), view.order)  # fmt: skip


@operation("Roll", "roll")
def roll(call: LayerSite) -> View:
    view = call.x
    shifts, axes = _static(call, 1, "shift"), _static(call, 2, "axis")
    if axes is None:
        call.refuse("rolls the flattened tensor, the batch included")
    name = call.gathered(view)
    for shift, axis in zip(*([each] if isinstance(each, int) else each for each in (shifts, axes))):
        axis %= call.rank(view)
        size, place = call.shape(view)[axis], view.order.index(axis)
        if is_batch(size):
            call.refuse("rolls the batch")
        places = (np.arange(size) - shift) % size
        name = call.step("Gather", name, call.constant(places, "places"), axis=place)
    return View(name, view.order)


@operation("Repeat", "repeat")
def repeat(call: LayerSite) -> View:
    view, times, axis = call.x, _static(call, 1, "repeats"), _static(call, 2, "axis")
    if axis is None or is_batch(call.shape(view)[axis]):
        call.refuse("repeats images")
    places = np.repeat(np.arange(call.shape(view)[axis]), times)
    place = view.order.index(axis % call.rank(view))
    return View(call.step("Gather", call.gathered(view), call.constant(places, "places"), axis=place), view.order)


@operation("BroadcastTo")
def broadcast(call: LayerSite) -> View:
    view, sizes = call.x, list(_static(call, 1, "shape"))
    shape = call.shape(view)
    return call.named_view(call.expanded(call.plain(view), [shape[0], *sizes[1:]]))


@operation("Tile")
def tile(call: LayerSite) -> View:
    return call.named_view(call.step("Tile", call.plain(call.x), repeats=list(_static(call, 1, "repeats"))))


@operation("Where")
def where(call: LayerSite) -> View:
    given = [call.argument(at, name) for at, name in enumerate(("condition", "x1", "x2"))]
    tensor = next(each for each in given[1:] if isinstance(each, View))
    views = [each if isinstance(each, View) else call.constant_view(each, tensor) for each in given]
    names, lead = call.together(views)
    return View(call.step("Where", *names), lead.order, lead.picks)


@operation("Cast", "cast")
def cast(call: LayerSite) -> View:
    """To any floating point, all of which is computed in float32."""
    wanted = str(call.config.get("dtype_value") or _static(call, 1, "dtype", "float32"))
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
        call.refuse("is masked by a tensor, which is not supported")
    q, v = (call.laid(view, (0, 2, 1, 3)) for view in (query, value))
    scale = call.config.get("scale") or call.argument(5, "scale") or 1 / sqrt(call.shape(query)[-1])
    weights = call.step("MatMul", call.step("Mul", q, call.number(float(scale), q)), call.laid(key, (0, 2, 3, 1)))
    return View(call.step("MatMul", call.step("Softmax", weights, axis=-1), v), (0, 2, 1, 3))


@operation("Resize", "image.resize")
def resize(call: LayerSite) -> View:
    view = call.x
    size = call.config.get("size") or _static(call, 1, "size")
    mode, antialias = _static(call, 2, "interpolation", "bilinear"), bool(_static(call, 3, "antialias", False))
    if call.config.get("crop_to_aspect_ratio") or call.config.get("pad_to_aspect_ratio") or call.rank(view) != 4:
        call.refuse("resizes with another aspect ratio, which is not supported; use the layer Resizing")
    name, order = call.channels_first(view)
    sizes = list(call.type_of(name).shape[2:])
    return View(resized(call, name, sizes, [int(each) for each in size], mode, antialias), order)


@operation("AveragePool", "MaxPool", "Conv", "DepthwiseConv")
def image_function(call: LayerSite) -> View:
    return call.refuse("calls a function on images directly; use the layer of that name instead")
