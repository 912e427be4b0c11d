"""Convolutions of images whose channels come last."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.views import View, channels_last
from zygal.artifact.mobile.windows import Windows, as_before, as_image, padded, with_row
from zygal.graph.ops.windows import Geometry
from zygal.mobile.schema import VALID


@spelt("Conv")
def convolution(site: Site) -> View:
    weight = site.array(1)
    if weight is None:
        site.refuse("has kernels that depend on the image")
    if weight.ndim == 5:
        return _over_a_volume(site, weight)
    view, was_row = as_image(site, site.view())
    if was_row:
        weight = weight[:, :, None]
    x, group = site.image(view), site.attributes()["group"]
    windows = Windows(site, x, site.attributes(), weight.shape[2:], was_row)
    if not windows.same:
        x = padded(site, x, windows.border)
    bias = site.array(2) if site.has(2) else np.zeros(weight.shape[0], weight.dtype)
    if bias is None:
        site.refuse("has a bias that depends on the image")
    sizes = (site.shape_of(x)[0], *windows.counts, weight.shape[0])
    channels, options = site.shape_of(x)[3], windows.options()
    depthwise = group == channels and group > 1
    if depthwise:
        kernel = site.weight(1, weight, (1, 2, 3, 0), "kernel")
        options["depth_multiplier"] = weight.shape[0] // channels
        version = 2 if max(windows.geometry.dilations) > 1 else 1
    else:
        kernel = site.weight(1, weight, (0, 2, 3, 1), "kernel")
        version = 6 if group > 1 else 1
    operator = "DEPTHWISE_CONV_2D" if depthwise else "CONV_2D"
    addend = site.weight(2, bias, (0,), "bias") if site.has(2) else site.constant(bias, "bias")
    made = site.step(operator, [x, kernel, addend], sizes, np.float32, version, **options)
    return as_before(site, made, was_row)


def _over_a_volume(site: Site, weight: np.ndarray) -> View:
    """Kernels [depth, height, width, inputs, outputs] over images with three axes."""
    given, order = site.attributes(), channels_last(5)
    geometry = Geometry.of(given, weight.shape[2:])
    if given["group"] != 1 or site.has(2) and site.array(2) is None:
        site.refuse("has groups of channels on images with 3 axes")
    x = site.image(site.view())
    if any(map(any, geometry.pads)):
        n, *sizes, channels = site.shape_of(x)
        table = site.numbers([[0, 0], *map(list, geometry.pads), [0, 0]])
        x = site.step(
            "PAD",
            [x, table],
            (n, *(size + sum(pair) for size, pair in zip(sizes, geometry.pads)), channels),
            np.float32,
        )
    bias = site.array(2) if site.has(2) else np.zeros(len(weight), weight.dtype)
    options = {
        f"{what}_{axis}": value
        for what, values in (("stride", geometry.strides), ("dilation", geometry.dilations))
        for axis, value in zip("dhw", values)
    }
    inputs = [x, site.constant(weight.transpose(2, 3, 4, 1, 0), "kernel"), site.constant(bias, "bias")]
    return View(
        order, site.step("CONV_3D", inputs, site.sizes_in(order), np.float32, padding=VALID, activation=0, **options)
    )


@spelt("ConvTranspose")
def enlarging_convolution(site: Site) -> View:
    """As a convolution over the image with zeros between its pixels, so that the batch stays open."""
    weight = site.array(1)
    if weight is None:
        site.refuse("has kernels that depend on the image")
    view, was_row = as_image(site, site.view())
    if was_row:
        weight = weight[:, :, None]
    attributes = {
        name: with_row(name, value) if was_row and isinstance(value, (list, tuple)) else value
        for name, value in site.attributes().items()
    }
    if was_row and attributes.get("output_padding"):
        attributes["output_padding"][0] = 0
    geometry, group = Geometry.of(attributes, weight.shape[2:]), attributes["group"]
    extra = attributes["output_padding"] or (0, 0)
    x = site.image(view)
    for axis in (0, 1):
        x = _spaced(site, x, axis, geometry.strides[axis])
    # The gradient of a convolution is the convolution by the turned kernel over a border of what the kernel reaches.
    reaches = [dilation * (k - 1) for dilation, k in zip(geometry.dilations, geometry.kernel)]
    border = [(reach - begin, reach - end + more) for reach, (begin, end), more in zip(reaches, geometry.pads, extra)]
    x = _framed(site, x, border)
    split = weight.reshape(group, -1, *weight.shape[1:])[..., ::-1, ::-1]
    kernel = split.transpose(0, 2, 3, 4, 1).reshape(-1, *weight.shape[2:], split.shape[1])
    bias = site.array(2) if site.has(2) else np.zeros(len(kernel), np.float32)
    n, height, width, _ = site.shape_of(x)
    sizes = (n, *(size - reach for size, reach in zip((height, width), reaches)), len(kernel))
    options = {
        "padding": VALID,
        "stride_h": 1,
        "stride_w": 1,
        "activation": 0,
        "dilation_h": geometry.dilations[0],
        "dilation_w": geometry.dilations[1],
    }
    made = site.step(
        "CONV_2D",
        [x, site.constant(kernel, "kernel"), site.constant(bias, "bias")],
        sizes,
        np.float32,
        6 if group > 1 else 1,
        **options,
    )
    return as_before(site, made, was_row)


def _spaced(site: Site, x: int, axis: int, step: int) -> int:
    """An image with step - 1 zeros between each two pixels along height (axis 0) or width."""
    if step == 1:
        return x
    n, height, width, channels = site.shape_of(x)
    size = (height, width)[axis]
    ahead = 1 if axis == 0 else height
    inner = width * channels if axis == 0 else channels
    rows = site.reshape_tensor(x, (n, ahead * size, 1, inner))
    wide = padded(site, rows, [(0, 0), (0, step - 1)])
    sizes = (n, size * step, width, channels) if axis == 0 else (n, height, size * step, channels)
    made = site.reshape_tensor(wide, sizes)
    return _framed(site, made, [(0, 1 - step), (0, 0)] if axis == 0 else [(0, 0), (0, 1 - step)])


def _framed(site: Site, x: int, border: Sequence[tuple[int, int]]) -> int:
    """An image with a border of zeros, or cut off where the border is negative."""
    x = padded(site, x, [tuple(max(each, 0) for each in pair) for pair in border])
    cut = [tuple(max(-each, 0) for each in pair) for pair in border]
    if not any(map(any, cut)):
        return x
    n, height, width, channels = site.shape_of(x)
    sizes = [height - sum(cut[0]), width - sum(cut[1])]
    begins = site.numbers([0, cut[0][0], cut[1][0], 0])
    return site.step("SLICE", [x, begins, site.numbers([-1, *sizes, -1])], (n, *sizes, channels), site.dtype_of(x))
