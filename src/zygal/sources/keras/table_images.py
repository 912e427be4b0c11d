"""Layers on images: convolutions, pooling, padding, cropping, enlarging."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.resampling import resampling_matrix
from zygal.graph.ops.windows import same_pads
from zygal.sources.keras.handlers import layer
from zygal.sources.keras.site import LayerSite
from zygal.sources.keras.table_activations import activated
from zygal.sources.layouts import View
from zygal.sources.layouts.images import by_channel, convolved, global_mean, pooled, transposed
from zygal.sources.recipes.arranging import by_matrices, enlarged_by_nearest, picked


def spread(value, axes: int) -> list[int]:
    """One number for every axis, or the list that is given already."""
    listed = [value] if isinstance(value, int) else [int(each) for each in value]
    return listed * axes if len(listed) == 1 else listed


def _pads(call: LayerSite, sizes: list[int], kernel: list[int], strides: list[int], dilations: list[int]) -> list[int]:
    padding = str(call.config.get("padding", "valid")).lower()
    if padding == "valid":
        return [0] * 2 * len(sizes)
    if padding == "causal":
        return [dilations[0] * (kernel[0] - 1), 0]
    if padding != "same":
        call.refuse(f"pads by {padding}, which is not known")
    return same_pads(sizes, kernel, strides, dilations)


def _geometry(call: LayerSite, axes: int) -> tuple[list[int], list[int], list[int]]:
    return (
        spread(call.config["kernel_size"], axes),
        spread(call.config.get("strides", 1), axes),
        spread(call.config.get("dilation_rate", 1), axes),
    )


@layer("Conv1D", "Conv2D", "Conv3D")
def convolution(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    kernel, strides, dilations = _geometry(call, len(sizes))
    groups, channels = int(call.config.get("groups", 1)), call.type_of(x).shape[1]
    stored = call.needed("kernel", "", (*kernel, channels // groups, None))
    weight = np.moveaxis(stored, (-1, -2), (0, 1))
    pads = _pads(call, sizes, kernel, strides, dilations)
    made = convolved(call, x, weight, call.weight("bias"), groups, "", strides, dilations, pads)
    return activated(call, View(made, order))


@layer("DepthwiseConv1D", "DepthwiseConv2D")
def depthwise_convolution(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    kernel, strides, dilations = _geometry(call, len(sizes))
    channels = call.type_of(x).shape[1]
    weight = by_channel(call.needed("kernel", "", (*kernel, channels, None)))
    pads = _pads(call, sizes, kernel, strides, dilations)
    made = convolved(call, x, weight, call.weight("bias"), channels, "", strides, dilations, pads)
    return activated(call, View(made, order))


@layer("SeparableConv1D", "SeparableConv2D")
def separable_convolution(call: LayerSite) -> View:
    """Each channel by itself, then all channels of each pixel; Chollet, 2017."""
    x, order, sizes = call.image(call.x)
    kernel, strides, dilations = _geometry(call, len(sizes))
    channels = call.type_of(x).shape[1]
    depthwise = by_channel(call.needed("depthwise_kernel", "", (*kernel, channels, None)))
    pads = _pads(call, sizes, kernel, strides, dilations)
    made = convolved(call, x, depthwise, None, channels, "depthwise_", strides, dilations, pads)
    stored = call.needed("pointwise_kernel", "", (*(1,) * len(sizes), len(depthwise), None))
    made = convolved(call, made, np.moveaxis(stored, (-1, -2), (0, 1)), call.weight("bias"), 1)
    return activated(call, View(made, order))


@layer("Conv1DTranspose", "Conv2DTranspose", "Conv3DTranspose")
def transposed_convolution(call: LayerSite) -> View:
    """The gradient of a convolution; how much of its full result is cut at both ends is the framework's rule."""
    x, order, sizes = call.image(call.x)
    kernel, strides, dilations = _geometry(call, len(sizes))
    stored = call.needed("kernel", "", (*kernel, None, call.type_of(x).shape[1]))
    given = call.config.get("output_padding")
    given = [None] * len(sizes) if given is None else spread(given, len(sizes))
    begins, ends, extra = [], [], []
    for k, s, d, out in zip(kernel, strides, dilations, given):
        reach = d * (k - 1) + 1
        if str(call.config.get("padding", "valid")).lower() == "valid":
            left, right = reach - 1, reach - 1 + (max(reach, s) - reach if out is None else out)
        else:
            total = reach + s - 2 if out is None else reach + reach % 2 - 2 + out
            left = min(total // 2 + total % 2, reach - 1)
            right = total - left
        begins.append(reach - 1 - left)
        ends.append(max(reach - 1 - right, 0))
        extra.append(max(right - reach + 1, 0))
    bias = call.weight("bias")
    made = transposed(call, x, np.moveaxis(stored, (-1, -2), (0, 1)), strides, dilations, begins, ends, extra)
    if bias is not None:
        made = call.step("Add", made, call.constant(bias.reshape(-1, *(1,) * len(sizes)), "bias"))
    return activated(call, View(made, order))


@layer(
    "MaxPooling1D",
    "MaxPooling2D",
    "MaxPooling3D",
    "MaxPool1D",
    "MaxPool2D",
    "MaxPool3D",
    "AveragePooling1D",
    "AveragePooling2D",
    "AveragePooling3D",
    "AvgPool2D",
)
def pooling(call: LayerSite) -> View:
    """Pads count in neither the largest nor the mean."""
    x, order, sizes = call.image(call.x)
    kernel = spread(call.config.get("pool_size", 2), len(sizes))
    strides = spread(call.config.get("strides") or kernel, len(sizes))
    pads = _pads(call, sizes, kernel, strides, [1] * len(sizes))
    largest = call.shown.class_name.startswith("Max")
    return View(pooled(call, x, largest, kernel, strides, pads), order)


@layer(
    "GlobalMaxPooling1D",
    "GlobalMaxPooling2D",
    "GlobalMaxPooling3D",
    "GlobalMaxPool2D",
    "GlobalAveragePooling1D",
    "GlobalAveragePooling2D",
    "GlobalAveragePooling3D",
    "GlobalAvgPool2D",
)
def global_pooling(call: LayerSite) -> View:
    view = call.x
    rank = call.rank(view)
    image_order = call.image_order(rank)
    keep = bool(call.config.get("keepdims", False))
    largest = "Max" in call.shown.class_name
    if not largest and view.order == image_order:
        return global_mean(call, view, image_order, keep)
    places = [view.order.index(axis) for axis in image_order[2:]]
    made = call.step(
        "ReduceMax" if largest else "ReduceMean", call.gathered(view), axes=sorted(places), keepdims=int(keep)
    )
    return View(made, view.order if keep else (0, 1))


@layer("ZeroPadding1D", "ZeroPadding2D", "ZeroPadding3D")
def zero_padding(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    begins, ends = _both_ends(call.config.get("padding", 1), len(sizes))
    return View(call.step("Pad", x, pads=[0, 0, *begins, 0, 0, *ends]), order)


@layer("Cropping1D", "Cropping2D", "Cropping3D")
def cropping(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    begins, ends = _both_ends(call.config.get("cropping", 1), len(sizes))
    stops = [size - end for size, end in zip(sizes, ends)]
    if any(start >= stop for start, stop in zip(begins, stops)):
        call.refuse(f"crops all of {sizes}")
    return View(call.step("Slice", x, starts=begins, ends=stops, axes=[2 + at for at in range(len(sizes))]), order)


def _both_ends(given, axes: int) -> tuple[list[int], list[int]]:
    """Begins and ends from one number, one for each axis, or a pair for each axis."""
    if isinstance(given, int):
        given = [given] * axes
    if axes == 1 and len(given) == 2 and all(isinstance(each, int) for each in given):
        return [given[0]], [given[1]]
    if len(given) == 4 and axes == 2:  # The first years listed top, bottom, left and right.
        given = [given[:2], given[2:]]
    pairs = [[each, each] if isinstance(each, int) else each for each in given]
    return [int(pair[0]) for pair in pairs], [int(pair[1]) for pair in pairs]


@layer("UpSampling1D", "UpSampling2D", "UpSampling3D")
def enlarging(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    factors = spread(call.config.get("size", 2), len(sizes))
    mode = call.config.get("interpolation", "nearest")
    return View(resized(call, x, sizes, [n * f for n, f in zip(sizes, factors)], mode), order)


def resized(call: LayerSite, x: str, sizes: list[int], wanted: list[int], mode: str, antialias: bool = False) -> str:
    """[N, C, ...] at another size, its grid lying on the centres of pixels."""
    if mode not in ("nearest", "bilinear", "bicubic"):
        call.refuse(f"resizes by {mode}, which is not supported")
    call.check_size(wanted)
    kind = {"nearest": "nearest", "bilinear": "linear", "bicubic": "cubic"}[mode]
    if len(sizes) == 2 and kind == "nearest" and all(w % n == 0 for n, w in zip(sizes, wanted)):
        return enlarged_by_nearest(call, x, [w // n for n, w in zip(sizes, wanted)])
    if kind == "nearest":
        for axis, (size, target) in enumerate(zip(sizes, wanted), start=2):
            # The nearest pixel centre; a tie goes to the later one. Back ends count it in float32 in two ways.
            middles = np.arange(target, dtype=np.float32) + np.float32(0.5)
            ways = [
                np.floor(middles * np.float32(size) / np.float32(target)),
                np.floor(middles * (np.float32(size) / np.float32(target))),
            ]
            if (ways[0] != ways[1]).any():
                call.refuse(f"resizes {size} to {target} by nearest, for which back ends pick different pixels")
            x = picked(call, x, np.minimum(ways[0], size - 1), axis)
        return x
    if len(sizes) != 2:
        call.refuse("resizes something that is no image")
    return by_matrices(call, x, [_matrix(size, target, kind, antialias) for size, target in zip(sizes, wanted)])


def _matrix(size: int, wanted: int, kind: str, antialias: bool) -> np.ndarray:
    """The weights [wanted, size]; the framework's cubic filter has the coefficient -0.5 and leaves out what lies
    beyond."""
    if kind == "cubic" or antialias:
        shrink = min(wanted / size, 1.0) if antialias else 1.0
        return resampling_matrix(size, wanted, kind, "half_pixel", None, True, shrink).astype(np.float32)
    return resampling_matrix(size, wanted, kind, "half_pixel").astype(np.float32)


@layer("Resizing")
def resizing(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    if call.config.get("crop_to_aspect_ratio") or call.config.get("pad_to_aspect_ratio"):
        wanted = [call.config["height"], call.config["width"]]
        if call.config.get("pad_to_aspect_ratio") and sizes[0] * wanted[1] != sizes[1] * wanted[0]:
            call.refuse("pads to another aspect ratio, which is not supported; make such images in the inlet")
        cut = [
            min(sizes[0], int(sizes[1] * wanted[0] / wanted[1])),
            min(sizes[1], int(sizes[0] * wanted[1] / wanted[0])),
        ]
        starts = [int((n - c) / 2) for n, c in zip(sizes, cut)]
        x = call.step("Slice", x, starts=starts, ends=[s + c for s, c in zip(starts, cut)], axes=[2, 3])
        sizes = cut
    wanted = [int(call.config["height"]), int(call.config["width"])]
    mode = call.config.get("interpolation", "bilinear")
    return View(resized(call, x, sizes, wanted, mode, bool(call.config.get("antialias"))), order)


@layer("CenterCrop")
def centre_crop(call: LayerSite) -> View:
    x, order, sizes = call.image(call.x)
    wanted = [int(call.config["height"]), int(call.config["width"])]
    if any(n < w for n, w in zip(sizes, wanted)):
        call.refuse(f"crops {wanted} out of {sizes}, which it first enlarges; that is not supported")
    starts = [int((n - w) / 2) for n, w in zip(sizes, wanted)]
    return View(call.step("Slice", x, starts=starts, ends=[s + w for s, w in zip(starts, wanted)], axes=[2, 3]), order)
