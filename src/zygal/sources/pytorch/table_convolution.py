"""ATen operators on images: convolution, pooling and normalisation."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.graph.ops.windows import Geometry
from zygal.sources.pytorch.calls import IN_TRAINING, Site, aten
from zygal.sources.recipes import normalisation
from zygal.sources.recipes.windows import each_image_its_own, pooled_to, window_means


def _spread(value: int | list[int], axes: int) -> list[int]:
    """One number for every axis, or the list that is given already."""
    listed = [value] if isinstance(value, int) else list(value)
    return listed * axes if len(listed) == 1 else listed


@aten(
    "conv1d.default",
    "conv2d.default",
    "conv3d.default",
    "conv1d.padding",
    "conv2d.padding",
    "conv3d.padding",
    "_convolution_mode.default",
)
def convolution(site: Site):
    x, weight, bias = site.tensor("input"), site.tensor("weight"), site.optional_tensor("bias")
    kernel = site.type_of(weight).shape[2:]
    axes = len(kernel)
    if site.type_of(x).rank != axes + 2:
        site.refuse("works on a single image without a batch")
    dilations = _spread(site.plain("dilation", 1), axes)
    padding = site.plain("padding", 0)
    if padding == "same":
        # The framework puts the odd pad behind the end.
        totals = [d * (k - 1) for d, k in zip(dilations, kernel)]
        pads = [total // 2 for total in totals] + [total - total // 2 for total in totals]
    elif isinstance(padding, str) and padding != "valid":
        site.refuse(f"has the padding {padding!r}")
    else:
        pads = _spread(0 if padding == "valid" else padding, axes) * 2
    inputs = (x, weight, bias) if bias else (x, weight)
    strides = _spread(site.plain("stride", 1), axes)
    if isinstance(site.type_of(x).shape[1], Batch):
        groups = site.plain("groups", 1)
        if not isinstance(groups, Batch):
            site.refuse("mixes the images")
        return each_image_its_own(site, inputs, groups, strides, pads, dilations)
    return site.step(
        "Conv",
        *inputs,
        strides=strides,
        pads=pads,
        dilations=dilations,
        group=site.plain("groups", 1),
        kernel_shape=list(kernel),
    )


@aten("conv_transpose2d.input", "conv_transpose1d.default", "conv_transpose3d.input")
def transposed_convolution(site: Site):
    x, weight, bias = site.tensor("input"), site.tensor("weight"), site.optional_tensor("bias")
    kernel = site.type_of(weight).shape[2:]
    axes = len(kernel)
    spread = {
        name: _spread(site.plain(name, default), axes)
        for name, default in (("stride", 1), ("padding", 0), ("output_padding", 0), ("dilation", 1))
    }
    if any(more >= step for more, step in zip(spread["output_padding"], spread["stride"])):
        site.refuse("has an output padding as large as its stride, which the standard does not have")
    return site.step(
        "ConvTranspose",
        *((x, weight, bias) if bias else (x, weight)),
        strides=spread["stride"],
        pads=spread["padding"] * 2,
        dilations=spread["dilation"],
        group=site.plain("groups", 1),
        kernel_shape=list(kernel),
        output_padding=spread["output_padding"],
    )


@aten("batch_norm.default")
def batch_norm(site: Site):
    x = site.tensor("input")
    if not (site.has("running_mean") and site.has("running_var")):
        return _by_own_statistics(site, x)
    if site.plain("training"):
        site.note(IN_TRAINING)
    mean, variance = site.tensor("running_mean"), site.tensor("running_var")
    return site.step("BatchNormalization", x, *_affine(site, x), mean, variance, epsilon=site.plain("eps", 1e-5))


def _by_own_statistics(site: Site, x: str) -> str:
    """What has no batch, a weight for instance, is normalised by its own mean and variance a channel."""
    shape = site.type_of(x).shape
    if isinstance(shape[0], Batch):
        site.refuse(
            "normalises by the statistics of the batch and keeps none of its own, so one image's scores "
            "depend on the others; use a normalisation that keeps statistics"
        )
    made = normalisation.standardised(site, x, [0, *range(2, len(shape))], site.plain("eps", 1e-5))
    wide = [shape[1], *(1,) * (len(shape) - 2)]
    if site.has("weight"):
        made = site.step("Mul", made, site.reshaped(site.tensor("weight"), wide))
    if site.has("bias"):
        made = site.step("Add", made, site.reshaped(site.tensor("bias"), wide))
    return made


@aten("instance_norm.default")
def instance_norm(site: Site):
    x = site.tensor("input")
    if site.plain("use_input_stats", True) and site.has("running_mean"):
        # Both modes of code that calls the function itself look like this, and training mode of the layer.
        site.note(
            "an instance normalisation uses the statistics of each image although it keeps running ones, as it was "
            "captured; if that is not meant, capture the model after module.eval()"
        )
        # They are kept beside, and nothing is computed from them.
        for name in ("running_mean", "running_var"):
            site.tensor(name)
    if not site.plain("use_input_stats", True):
        mean, variance = site.tensor("running_mean"), site.tensor("running_var")
        return site.step("BatchNormalization", x, *_affine(site, x), mean, variance, epsilon=site.plain("eps", 1e-5))
    return site.step("InstanceNormalization", x, *_affine(site, x), epsilon=site.plain("eps", 1e-5))


def _affine(site: Site, x: str) -> tuple[str, str]:
    """Scale and shift of a normalisation, one a channel; ones and zeros where it has none."""
    channels = site.type_of(x).shape[1:2]
    scale = site.optional_tensor("weight") or site.constant(np.ones(channels, np.float32), "scale")
    return scale, site.optional_tensor("bias") or site.constant(np.zeros(channels, np.float32), "shift")


@aten("group_norm.default")
def group_norm(site: Site):
    x, groups = site.tensor("input"), site.plain("num_groups", site.plain("group"))
    normal = normalisation.group_normalisation(site, x, groups, site.plain("eps", 1e-5))
    if not (site.has("weight") or site.has("bias")):
        return normal
    wide = [-1, *(1,) * (site.type_of(x).rank - 2)]
    scale, shift = (site.step("Reshape", each, shape=wide) for each in _affine(site, x))
    return site.step("Add", site.step("Mul", normal, scale), shift)


@aten("rms_norm.default")
def rms_norm(site: Site):
    x, count, epsilon = site.tensor("input"), len(site.plain("normalized_shape")), site.plain("eps")
    epsilon = float(np.finfo(np.float32).eps) if epsilon is None else epsilon
    normal = normalisation.by_mean_square(site, x, range(-count, 0), epsilon)
    return site.step("Mul", normal, site.tensor("weight")) if site.has("weight") else normal


@aten("_weight_norm.default", "_weight_norm_interface.default")
def weight_norm(site: Site):
    """v * g / |v|, the length over all axes but one; Salimans and Kingma, 2016."""
    direction, size, axis = site.tensor("v"), site.tensor("g"), site.plain("dim", 0)
    axes = [each for each in range(site.type_of(direction).rank) if each != axis]
    length = site.step("ReduceL2", direction, axes=axes, keepdims=1)
    return site.step("Mul", direction, site.step("Div", size, length))


@aten("layer_norm.default")
def layer_norm(site: Site):
    scale, shift = (site.tensor(name) if site.has(name) else None for name in ("weight", "bias"))
    count = len(site.plain("normalized_shape"))
    return normalisation.layer_normalisation(site, site.tensor("input"), count, scale, shift, site.plain("eps", 1e-5))


@aten("max_pool2d.default", "max_pool1d.default", "max_pool3d.default", "max_pool2d_with_indices.default")
def max_pool(site: Site):
    geometry = _pool_geometry(site)
    return site.step("MaxPool", site.tensor("self"), **geometry)


@aten("avg_pool2d.default", "avg_pool1d.default", "avg_pool3d.default")
def average_pool(site: Site):
    """What stands out behind the pads by ceil_mode never counts, the pads count if they are asked to."""
    x, geometry = site.tensor("self"), _pool_geometry(site)
    axes = len(geometry["kernel_shape"])
    counted = bool(site.plain("count_include_pad", True))
    begins, ends = geometry["pads"][:axes], geometry["pads"][axes:]
    if ends != begins and counted and any(begins):
        x = site.step("Pad", x, pads=[0, 0, *begins, 0, 0, *begins])
        geometry["pads"] = [0] * axes + [end - begin for begin, end in zip(begins, ends)]
    counted = counted and ends == begins
    if site.has("divisor_override"):
        if ends != begins:
            site.refuse("divides by a number of its own in windows that stand out, which is not supported")
        mean = site.step("AveragePool", x, count_include_pad=1, **geometry)
        factor = float(np.prod(geometry["kernel_shape"])) / site.plain("divisor_override")
        return site.step("Mul", mean, site.number(factor, mean))
    return site.step("AveragePool", x, count_include_pad=int(counted), **geometry)


def _pool_geometry(site: Site) -> dict:
    """The windows, with what ceil_mode adds as pads behind the end: runtimes do not agree on ceil_mode itself."""
    spatial = site.type_of(site.tensor("self")).shape[2:]
    axes = len(spatial)
    kernel = _spread(site.plain("kernel_size"), axes)
    strides = _spread(site.plain("stride") or kernel, axes)
    begins = _spread(site.plain("padding", 0), axes)
    geometry = {"kernel_shape": kernel, "strides": strides, "pads": begins * 2}
    if site.has("dilation"):
        geometry["dilations"] = _spread(site.plain("dilation"), axes)
    if site.plain("ceil_mode", False):
        counts = Geometry.of(geometry | {"ceil_mode": 1}, kernel).counts(spatial)
        dilations = geometry.get("dilations", [1] * axes)
        reach = [(n - 1) * s + d * (k - 1) + 1 for n, s, d, k in zip(counts, strides, dilations, kernel)]
        ends = [max(pad, need - size - pad) for pad, need, size in zip(begins, reach, spatial)]
        geometry["pads"] = begins + ends
    return geometry


@aten(
    "adaptive_avg_pool2d.default",
    "adaptive_avg_pool1d.default",
    "adaptive_avg_pool3d.default",
    "_adaptive_avg_pool2d.default",
    "_adaptive_avg_pool3d.default",
)
def adaptive_average_pool(site: Site):
    """To a fixed output size."""
    x = site.tensor("self")
    return pooled_to(site, x, _adaptive_sizes(site, x)[1])


@aten("adaptive_max_pool2d.default", "adaptive_max_pool1d.default")
def adaptive_max_pool(site: Site):
    x = site.tensor("self")
    spatial, wanted = _adaptive_sizes(site, x)
    if any(size % parts for size, parts in zip(spatial, wanted)):
        for axis, (size, parts) in enumerate(zip(spatial, wanted), start=2):
            picked = site.step("Gather", x, site.constant(_window_places(size, parts), f"windows{axis}"), axis=axis)
            x = site.step("ReduceMax", picked, axes=[axis + 1], keepdims=0)
        return x
    kernel = [size // parts for size, parts in zip(spatial, wanted)]
    return site.step("MaxPool", x, kernel_shape=kernel, strides=kernel, pads=[0] * 2 * len(kernel))


def _window_places(size: int, parts: int) -> np.ndarray:
    """The places of each window [parts, widest]; what a narrower one lacks is its first place again."""
    covered = window_means(size, parts) > 0
    widest = int(covered.sum(1).max())
    first, count = covered.argmax(1)[:, None], covered.sum(1)[:, None]
    offsets = np.arange(widest)
    return first + np.where(offsets < count, offsets, 0)


def _adaptive_sizes(site: Site, x: str) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """The spatial sizes of the value, and those that are asked for; None asks for what is there."""
    spatial = site.type_of(x).shape[2:]
    wanted = _spread(site.plain("output_size"), len(spatial))
    return spatial, tuple(size if each is None else each for size, each in zip(spatial, wanted))
