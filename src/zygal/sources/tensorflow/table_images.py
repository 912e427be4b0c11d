"""Convolutions, pooling, normalisation and padding of images."""

from __future__ import annotations

from math import prod

import numpy as np

from zygal.graph.ops.windows import same_pads
from zygal.sources.layouts import View, is_batch
from zygal.sources.layouts.arranging import scaled
from zygal.sources.layouts.images import by_channel, convolved, pooled, transposed
from zygal.sources.recipes import normalisation
from zygal.sources.recipes.windows import columns
from zygal.sources.tensorflow.site import NodeSite, Spread, Value, operator
from zygal.sources.tensorflow.table_elementwise import with_origin
from zygal.sources.tensorflow.table_products import finished


def pads_of(call: NodeSite, sizes: list[int], kernel: list[int], strides: list[int], dilations: list[int]) -> list[int]:
    padding = call.attribute("padding", "VALID")
    if padding == "VALID":
        call.attribute("explicit_paddings")
        return [0] * 2 * len(sizes)
    if padding == "SAME":
        call.attribute("explicit_paddings")
        return same_pads(sizes, kernel, strides, dilations)
    if padding != "EXPLICIT":
        call.refuse(f"pads by {padding}, which is not known")
    listed = call.attribute("explicit_paddings")
    pairs = list(zip(listed[::2], listed[1::2]))
    outer, inner = ([pairs[0], pairs[-1]], pairs[1:-1]) if call.channels_last else (pairs[:2], pairs[2:])
    if any(any(pair) for pair in outer) or len(inner) != len(sizes):
        call.refuse(f"pads {listed}, which reaches over images or channels")
    return [begin for begin, _ in inner] + [end for _, end in inner]


def _kernel(call: NodeSite, depthwise: bool) -> np.ndarray | None:
    """A kernel as the graph has it [M, C / group, ...]; None if it depends on the image."""
    stored = call.known(1)
    if stored is None:
        return None
    return by_channel(stored) if depthwise else np.moveaxis(stored, (-1, -2), (0, 1))


def _geometry(call: NodeSite, sizes: list[int], kernel: list[int]) -> tuple[list[int], list[int], list[int]]:
    strides, dilations = call.spatial("strides"), call.spatial("dilations")
    return strides, dilations, pads_of(call, sizes, kernel, strides, dilations)


def convolution(call: NodeSite, depthwise: bool) -> Value:
    given = call.given(0)
    if isinstance(given, Spread):
        return _convolved_apart(call, given, depthwise)
    x, order, sizes = call.image(call.x())
    kernel = _kernel(call, depthwise)
    if kernel is None:
        return _by_own_kernel(call, x, order, sizes, depthwise)
    strides, dilations, pads = _geometry(call, sizes, list(kernel.shape[2:]))
    groups = _groups(call, x, kernel.shape[1])
    return View(convolved(call, x, kernel, None, groups, "", strides, dilations, pads), order)


def _groups(call: NodeSite, x: str, own: int) -> int:
    channels = call.type_of(x).shape[1]
    if not own or channels % own:
        call.refuse(f"has kernels for {own} channels and an image of {channels}")
    return channels // own


def _by_own_kernel(call: NodeSite, x: str, order, sizes: list[int], depthwise: bool) -> View:
    """A kernel that the model itself works out, the same for all images."""
    view = call.x(1)
    rank = len(view.order)
    if depthwise:
        call.refuse("has kernels that depend on the image")
    weight = call.in_order(view, (rank - 1, rank - 2, *range(rank - 2)))
    shape = call.type_of(weight).shape
    strides, dilations, pads = _geometry(call, sizes, list(shape[2:]))
    made = call.step(
        "Conv",
        x,
        weight,
        strides=strides,
        pads=pads,
        dilations=dilations,
        group=_groups(call, x, shape[1]),
        kernel_shape=list(shape[2:]),
    )
    return View(made, order)


def _convolved_apart(call: NodeSite, given: Spread, depthwise: bool) -> Spread:
    """What sees every n-th pixel only is a dilated convolution on the image as it was."""
    x, order, sizes = call.image(given.view)
    kernel = _kernel(call, depthwise)
    strides, dilations = call.spatial("strides"), call.spatial("dilations")
    if (
        kernel is None
        or given.convolved
        or set(strides + dilations) != {1}
        or call.attribute("padding") != "VALID"
        or len(sizes) != len(given.blocks)
    ):
        call.refuse("works on blocks of pixels in a way that is no dilated convolution")
    call.attribute("explicit_paddings")
    pads = [begin for begin, _ in given.pads] + [end for _, end in given.pads]
    made = convolved(call, x, kernel, None, _groups(call, x, kernel.shape[1]), "", strides, list(given.blocks), pads)
    return Spread(View(made, order), given.blocks, given.pads, True)


@operator("Conv2D", "Conv3D", "Conv1D")
def ordinary_convolution(call: NodeSite) -> Value:
    return convolution(call, False)


@operator("DepthwiseConv2dNative", "DepthwiseConv2D")
def depthwise_convolution(call: NodeSite) -> Value:
    return convolution(call, True)


@operator("_FusedConv2D", "_FusedDepthwiseConv2dNative")
def fused_convolution(call: NodeSite) -> View:
    made = convolution(call, "Depthwise" in call.kind)
    return _normalised_and_finished(call, made)


def _normalised_and_finished(call: NodeSite, made: View) -> View:
    steps = call.attribute("fused_ops") or []
    if steps[:1] != ["FusedBatchNorm"]:
        return finished(call, made, 2)
    gamma, beta, mean, variance = (call.static(place, "statistics").astype(np.float64) for place in range(2, 6))
    factor = gamma / np.sqrt(variance + call.attribute("epsilon", 1e-4))
    made = scaled(call, made, [len(made.order) - 1 if call.channels_last else 1], factor, beta - mean * factor)
    return call.elementwise(made, lambda x: call.step(steps[1], x)) if len(steps) > 1 else made


@operator("SpaceToBatchND", "SpaceToBatch")
def dealt_out(call: NodeSite) -> Spread:
    if call.kind == "SpaceToBatch":
        blocks, pads = [int(call.attribute("block_size"))] * 2, call.static(1, "pads")
    else:
        blocks, pads = [int(each) for each in call.static(1, "blocks")], call.static(2, "pads")
    return Spread(call.x(), tuple(blocks), tuple((int(begin), int(end)) for begin, end in pads))


@operator("BatchToSpaceND", "BatchToSpace")
def gathered_again(call: NodeSite) -> View:
    given = call.given(0)
    if not isinstance(given, Spread) or not given.convolved:
        call.refuse("mixes images and pixels in a way that is no dilated convolution")
    if call.kind == "BatchToSpace":
        blocks, crops = [int(call.attribute("block_size"))] * 2, call.static(1, "crops")
    else:
        blocks, crops = [int(each) for each in call.static(1, "blocks")], call.static(2, "crops")
    if tuple(blocks) != given.blocks:
        call.refuse("puts blocks of another size together than were taken apart")
    view, shape = given.view, call.shape(given.view)
    ends = [size - int(end) for size, (_, end) in zip(shape[1:], crops)]
    places = [view.order.index(axis + 1) for axis in range(len(crops))]
    if not np.any(crops):
        return view
    return View(
        call.step("Slice", view.name, starts=[int(begin) for begin, _ in crops], ends=ends, axes=places), view.order
    )


@operator("Conv2DBackpropInput", "Conv3DBackpropInputV2", "Conv3DBackpropInput")
def transposed_convolution(call: NodeSite) -> View:
    """The gradient of the convolution that would make the given image of one of the stated size."""
    x, order, sizes = call.image(call.x(2))
    stored = call.static(1, "kernels")
    kernel = np.moveaxis(stored, (-1, -2), (0, 1))
    wanted = call.sizes(0)
    wanted = wanted[1:-1] if call.channels_last and len(wanted) == len(order) else wanted[-len(sizes) :]
    if len(wanted) != len(sizes) or any(not isinstance(size, int) for size in wanted):
        call.refuse("makes an image whose size is not known")
    strides, dilations = call.spatial("strides"), call.spatial("dilations")
    pads = pads_of(call, wanted, list(kernel.shape[2:]), strides, dilations)
    begins, ends = pads[: len(sizes)], pads[len(sizes) :]
    reached = [
        (n - 1) * s + d * (k - 1) + 1 - b - e
        for n, s, d, k, b, e in zip(sizes, strides, dilations, kernel.shape[2:], begins, ends)
    ]
    extra = [size - have for size, have in zip(wanted, reached)]
    if min(extra) < 0:
        call.refuse(f"makes an image of {wanted} out of {sizes}, which does not fit its strides")
    return View(transposed(call, x, kernel, strides, dilations, begins, ends, extra), order)


@operator("MaxPool", "AvgPool", "MaxPool3D", "AvgPool3D", "MaxPoolV2")
def pooling(call: NodeSite) -> View:
    x, order, sizes = call.image(call.x())
    if call.kind == "MaxPoolV2":
        kernel, strides = ([int(each) for each in call.static(place, "a window")] for place in (1, 2))
        kernel, strides = (each[1:-1] if call.channels_last else each[2:] for each in (kernel, strides))
    else:
        kernel, strides = call.spatial("ksize"), call.spatial("strides")
    pads = pads_of(call, sizes, kernel, strides, [1] * len(sizes))
    return View(pooled(call, x, call.kind.startswith("Max"), kernel, strides, pads), order)


@operator(
    "FusedBatchNorm",
    "FusedBatchNormV2",
    "FusedBatchNormV3",
    outputs=("y", "batch_mean", "batch_variance", "reserve_space_1", "reserve_space_2", "reserve_space_3"),
)
def batch_normalisation(call: NodeSite) -> list[Value]:
    axis = len(call.x().order) - 1 if call.channels_last else 1
    if call.attribute("is_training", True):
        return [_by_own_statistics(call, call.x(), axis)]
    return [
        _normalised(
            call, call.x(), axis, *(call.x(place) for place in range(1, 5)), float(call.attribute("epsilon", 1e-4))
        )
    ]


def _by_own_statistics(call: NodeSite, view: View, axis: int) -> View:
    """By the mean and the variance of what is given. Layer normalisations are written so, with rows in the place of
    channels."""
    shape = call.shape(view)
    others = [at for at in range(len(shape)) if at != axis]
    if any(is_batch(shape[at]) for at in others):
        call.refuse(
            "normalises by the statistics of the batch, as it was saved in training mode; save the model for inference"
        )
    rows = call.reshaped(call.in_order(view, (axis, *others)), [shape[axis], prod(shape[at] for at in others)])
    normal = normalisation.layer_normalisation(call, rows, 1, None, None, float(call.attribute("epsilon", 1e-4)))
    made = View(call.reshaped(normal, [shape[at] for at in (axis, *others)]), (axis, *others))
    for place, operation, neutral in ((1, "Mul", 1.0), (2, "Add", 0.0)):
        given = call.plain(call.x(place))
        if call.filling(given) != neutral:
            wide = call.value(call.reshaped(given, [shape[axis] if at == axis else 1 for at in range(len(shape))]))
            names, made = call.together([made, wide])
            made = View(call.step(operation, *names), made.order)
    return made


def _normalised(
    call: NodeSite, view: View, axis: int, gamma: View, beta: View, mean: View, variance: View, epsilon: float
) -> View:
    names = [call.plain(each) for each in (gamma, beta, mean, variance)]
    if view.order.index(axis) == 1:
        return View(call.step("BatchNormalization", call.gathered(view), *names, epsilon=epsilon), view.order)
    arrays = [call.array(name) for name in names]
    if any(array is None for array in arrays):
        call.refuse("has statistics that depend on the image")
    gamma, beta, mean, variance = (array.astype(np.float64) for array in arrays)
    factor = gamma / np.sqrt(variance + epsilon)
    return with_origin(
        call,
        view,
        lambda each: scaled(call, each, [axis if each is view else len(each.order) - 1], factor, beta - mean * factor),
    )


@operator("BatchNormWithGlobalNormalization")
def old_batch_normalisation(call: NodeSite) -> View:
    view, mean, variance, beta, gamma = call.xs()
    if not call.attribute("scale_after_normalization", True):
        gamma = call.held(np.ones(call.type_of(mean.name).shape, np.float32), "ones")
    return _normalised(
        call, view, len(view.order) - 1, gamma, beta, mean, variance, float(call.attribute("variance_epsilon", 1e-3))
    )


@operator("LRN")
def local_response(call: NodeSite) -> View:
    """x / (bias + alpha * sum of squares of the neighbouring channels) ^ beta; Krizhevsky et al., 2012."""
    x, order, _ = call.image(call.x())
    radius, bias = int(call.attribute("depth_radius", 5)), float(call.attribute("bias", 1.0))
    alpha, beta = float(call.attribute("alpha", 1.0)), float(call.attribute("beta", 0.5))
    channels = call.type_of(x).shape[1]
    near = np.abs(np.subtract.outer(np.arange(channels), np.arange(channels))) <= radius
    sums = convolved(
        call, call.step("Mul", x, x), (alpha * near).astype(np.float32)[:, :, None, None], None, 1, "near_"
    )
    divisor = call.step("Pow", call.step("Add", sums, call.number(bias, sums)), call.number(beta, sums))
    return View(call.step("Div", x, divisor), order)


@operator("Pad", "PadV2", "MirrorPad")
def pad(call: NodeSite) -> View:
    view, pads = call.x(), call.static(1, "pads").astype(int)
    view = View(call.gathered(view), view.order)
    mode = call.attribute("mode", "CONSTANT")
    if pads.shape != (len(view.order), 2) or pads.min(initial=0) < 0:
        call.refuse(f"pads {len(view.order)} axes by {pads.tolist()}")
    call.check_size([size + int(sum(pair)) for size, pair in zip(call.shape(view)[1:], pads[1:])])
    if mode == "SYMMETRIC":
        return _padded_by_mirror(call, view, pads)
    value = float(call.static_number(2, "a value")) if call.kind == "PadV2" else 0.0
    listed = [int(pads[axis][end]) for end in (0, 1) for axis in view.order]
    made = call.step(
        "Pad", view.name, pads=listed, value=value, mode={"CONSTANT": "constant", "REFLECT": "reflect"}[mode]
    )
    return View(made, view.order)


def _padded_by_mirror(call: NodeSite, view: View, pads: np.ndarray) -> View:
    """Mirrored with the border's pixel counted twice."""
    name = view.name
    for axis, (begin, end) in enumerate(pads):
        if begin or end:
            places = np.pad(np.arange(call.shape(view)[axis]), (begin, end), mode="symmetric")
            name = call.step("Gather", name, call.constant(places, f"places{axis}"), axis=view.order.index(axis))
    return View(name, view.order)


@operator("SpaceToDepth", "DepthToSpace")
def blocks(call: NodeSite) -> View:
    x, order, _ = call.image(call.x())
    size = int(call.attribute("block_size"))
    extra = {"mode": "DCR"} if call.kind == "DepthToSpace" else {}
    return View(call.step(call.kind, x, blocksize=size, **extra), order)


@operator("ExtractImagePatches")
def patches(call: NodeSite) -> View:
    """Every window's pixels as channels, those of one place in the window together."""
    x, _, sizes = call.image(call.x())
    kernel, strides, rates = (call.spatial(name) for name in ("ksizes", "strides", "rates"))
    pads = pads_of(call, sizes, kernel, strides, rates)
    made, counts = columns(call, x, kernel, rates, pads, strides)
    shape = call.type_of(x).shape
    turned = call.step("Transpose", made, perm=[0, 4, 5, 2, 3, 1])
    return call.value(call.reshaped(turned, [shape[0], *counts, prod([*kernel, shape[1]])]))
