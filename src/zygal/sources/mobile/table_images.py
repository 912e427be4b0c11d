"""Convolutions and pooling of images whose channels come last."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.windows import same_pads
from zygal.mobile.schema import SAME
from zygal.sources.layouts import View
from zygal.sources.layouts.images import by_channel, pooled, transposed
from zygal.sources.mobile.quantization import STORED
from zygal.sources.mobile.site import MobileSite
from zygal.sources.mobile.table import activated, bias_of, own
from zygal.sources.recipes import normalisation
from zygal.sources.tensorflow.site import OPERATORS as SHARED
from zygal.sources.tensorflow.site import Spread, Value


def _strides(call: MobileSite) -> list[int]:
    strides = [int(call.option(f"stride_{axis}")) for axis in "hw"]
    if min(strides) < 1:
        call.refuse(f"has the steps {strides}")
    return strides


def _pads(call: MobileSite, sizes: list[int], kernel: list[int], strides: list[int], dilations: list[int]) -> list[int]:
    padding = call.option("padding")
    if padding not in (0, 1):
        call.refuse(f"pads in way {padding}, which is not known")
    return same_pads(sizes, kernel, strides, dilations) if padding == SAME else [0] * 4


@own("CONV_2D", "DEPTHWISE_CONV_2D")
def convolution(call: MobileSite) -> Value:
    """Kernels [outputs, height, width, inputs], or [1, height, width, channels] with one or more for each channel."""
    given = call.given(0)
    spread = given if isinstance(given, Spread) else None
    x, order, sizes = call.image(spread.view if spread else call.x())
    tensor, depthwise = call.tensor(1), call.operator.name == "DEPTHWISE_CONV_2D"
    if tensor.data is None or tensor.data.ndim != 4:
        call.refuse("has kernels that depend on the image")
    channels = call.type_of(x).shape[1]
    if depthwise:
        call.option("depth_multiplier")
        if tensor.data.shape[0] != 1 or tensor.data.shape[3] % channels:
            call.refuse(f"has kernels {list(tensor.data.shape)} for {channels} channels")
        stored, groups = by_channel(np.moveaxis(tensor.data, 0, -1)), channels
    else:
        stored = tensor.data.transpose(0, 3, 1, 2)
        if not stored.shape[1] or channels % stored.shape[1]:
            call.refuse(f"has kernels for {stored.shape[1]} channels and an image of {channels}")
        groups = channels // stored.shape[1]
    weight = call.quantizer.weight(tensor, stored, 0, call.fresh("kernel"))
    kernel, strides = list(stored.shape[2:]), _strides(call)
    dilations = [int(call.option(f"dilation_{axis}")) for axis in "hw"]
    pads = _pads(call, sizes, kernel, strides, dilations)
    if spread:
        if strides + dilations != [1] * 4 or any(pads) or spread.convolved or len(spread.blocks) != 2:
            call.refuse("sees an image that is dealt out over the batch otherwise than a dilated convolution does")
        dilations, pads = list(spread.blocks), [begin for begin, _ in spread.pads] + [end for _, end in spread.pads]
    bias = bias_of(call, 2, 1)
    made = call.step(
        "Conv", x, weight, *bias, strides=strides, pads=pads, dilations=dilations, group=groups, kernel_shape=kernel
    )
    view = activated(call, View(made, order))
    return Spread(view, spread.blocks, spread.pads, True) if spread else view


@own("CONV_3D")
def convolution_of_volumes(call: MobileSite) -> View:
    x, order, sizes = call.image(call.x())
    stored = call.known(1)
    if stored is None or stored.ndim != 5 or len(sizes) != 3 or stored.shape[3] != call.type_of(x).shape[1]:
        call.refuse("has kernels that do not fit the image")
    kernel = np.ascontiguousarray(stored.transpose(4, 3, 0, 1, 2), np.float32)
    strides, dilations = ([int(call.option(f"{what}_{axis}")) for axis in "dhw"] for what in ("stride", "dilation"))
    pads = same_pads(sizes, kernel.shape[2:], strides, dilations) if call.option("padding") == SAME else [0] * 6
    bias = (
        [call.constant(call.known(2).astype(np.float32), "bias")] if call.has(2) and call.known(2) is not None else []
    )
    made = call.step(
        "Conv",
        x,
        call.constant(kernel, "kernel"),
        *bias,
        strides=strides,
        pads=pads,
        dilations=dilations,
        group=1,
        kernel_shape=list(kernel.shape[2:]),
    )
    return activated(call, View(made, order))


@own("TRANSPOSE_CONV")
def enlarging_convolution(call: MobileSite) -> View:
    """The gradient of a convolution; the first input states the size of the result."""
    x, order, sizes = call.image(call.x(2))
    kernel, wanted = call.known(1), call.sizes(0)
    if kernel is None or len(wanted) != 4:
        call.refuse("has kernels or sizes that depend on the image")
    strides = _strides(call)
    target, sides = [int(each) for each in wanted[1:3]], list(kernel.shape[1:3])
    pads = _pads(call, target, sides, strides, [1, 1])
    full = [(size - 1) * stride + side for size, stride, side in zip(sizes, strides, sides)]
    begins = pads[:2]
    ends = [whole - begin - size for whole, begin, size in zip(full, begins, target)]
    made = transposed(
        call,
        x,
        kernel.transpose(3, 0, 1, 2).astype(np.float32),
        strides,
        [1, 1],
        begins,
        [max(end, 0) for end in ends],
        [max(-end, 0) for end in ends],
    )
    if call.has(3):
        bias = call.known(3)
        made = call.step("Add", made, call.constant(bias.astype(np.float32).reshape(1, -1, 1, 1), "bias"))
    return activated(call, View(made, order))


@own("MAX_POOL_2D", "AVERAGE_POOL_2D", "L2_POOL_2D")
def pooling(call: MobileSite) -> View:
    x, order, sizes = call.image(call.x())
    kernel, strides = [int(call.option(f"filter_{axis}")) for axis in "hw"], _strides(call)
    pads = _pads(call, sizes, kernel, strides, [1, 1])
    if call.operator.name != "L2_POOL_2D":
        made = pooled(call, x, call.operator.name == "MAX_POOL_2D", kernel, strides, pads)
        if call.operator.name == "AVERAGE_POOL_2D":
            made = _stored_mean(call, made, kernel, any(pads))
    else:
        made = call.step("Sqrt", pooled(call, call.step("Mul", x, x), False, kernel, strides, pads))
    return activated(call, View(made, order))


def _stored_mean(call: MobileSite, mean: str, kernel: list[int], bordered: bool) -> str:
    """The mean of stored numbers is itself one: halves are rounded away from zero, as the format's reference has it.
    There are halves only where a window has an even number of places, as some at the border may."""
    steps, dtype = call.tensor(0).quantization, call.tensor(0).dtype
    count = kernel[0] * kernel[1]
    if steps is None or dtype not in STORED or call.quantizer.widen or count % 2 and not bordered:
        return mean
    scale, zero = float(steps.scales[0]), float(steps.zero_points[0])
    number = call.step("Add", call.step("Div", mean, call.number(scale, mean)), call.number(zero, mean))
    # Whatever float32 has rounded is less than a quarter of what two different means differ by.
    half = call.number(0.5 + 0.25 / count, mean)
    if dtype == "uint8":
        whole = call.step("Floor", call.step("Add", number, half))
    else:
        whole = call.step(
            "Mul", call.step("Floor", call.step("Add", call.step("Abs", number), half)), call.step("Sign", number)
        )
    return call.step("Mul", call.step("Sub", whole, call.number(zero, mean)), call.number(scale, mean))


@own("MIRROR_PAD")
def mirrored(call: MobileSite) -> View:
    mode = call.option("mode")
    if mode not in (0, 1):
        call.refuse(f"mirrors in way {mode}, which is not known")
    call.settings, call.shared_kind = {"mode": ("REFLECT", "SYMMETRIC")[mode]}, "MirrorPad"
    return SHARED["MirrorPad"](call)


@own("L2_NORMALIZATION")
def unit_length(call: MobileSite) -> View:
    view = call.x()
    made = View(
        normalisation.unit_length(call, call.gathered(view), [view.order.index(len(view.order) - 1)], 1e-6), view.order
    )
    return activated(call, made)
