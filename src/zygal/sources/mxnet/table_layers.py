"""Layers with weights or windows."""

from __future__ import annotations

from math import prod

import numpy as np

from zygal.graph import Batch
from zygal.sources.mxnet.site import Made, SymbolSite, operator
from zygal.sources.recipes.activations import gelu, mish
from zygal.sources.recipes.arranging import by_matrices, enlarged_by_nearest
from zygal.sources.recipes.normalisation import group_normalisation
from zygal.sources.recipes.normalisation import local_response as local_response_of
from zygal.sources.recipes.windows import pooled_to


def _windows(site: SymbolSite, kernel: tuple[int, ...]) -> dict[str, list[int]]:
    ones, zeros = (1,) * len(kernel), (0,) * len(kernel)
    pads = site.integers("pad") or zeros
    strides, dilations = site.integers("stride") or ones, site.integers("dilate") or ones
    if not len(pads) == len(strides) == len(dilations) == len(kernel):
        site.refuse("states windows of different numbers of axes")
    return {"strides": list(strides), "pads": [*pads, *pads], "dilations": list(dilations)}


def _check_layout(site: SymbolSite) -> None:
    site.without("layout", None, "NCW", "NCHW", "NCDHW")


def _operands(site: SymbolSite, no_bias: bool) -> list[str]:
    return [site.x, site.input(1), *([] if no_bias else [site.input(2)])]


@operator("Convolution", "Convolution_v1")
def convolution(site: SymbolSite) -> Made:
    """Of one, two or three axes."""
    _check_layout(site)
    operands, kernel = _operands(site, site.truth("no_bias")), site.integers("kernel")
    _check_kernel(site, kernel, site.integer("num_filter"), 0)
    return site.step(
        "Conv", *operands, kernel_shape=list(kernel), group=site.integer("num_group", 1), **_windows(site, kernel)
    )


def _check_kernel(site: SymbolSite, kernel: tuple[int, ...], filters: int | None, axis: int) -> None:
    """Raises SourceError if the weights are not those that the attributes state."""
    shape = site.type_of(site.input(1)).shape
    if not kernel or shape[2:] != tuple(kernel) or axis == 0 and shape[0] != filters:
        site.refuse(f"states {filters} filters of {kernel} for weights of {list(shape)}")


@operator("Deconvolution")
def transposed_convolution(site: SymbolSite) -> Made:
    """Without a bias unless it says otherwise."""
    _check_layout(site)
    operands, kernel = _operands(site, site.truth("no_bias", True)), site.integers("kernel")
    _check_kernel(site, kernel, site.integer("num_filter"), 1)
    if any(site.integers("target_shape", ())):
        site.refuse("states the size of its result, which is not supported")
    more = list(site.integers("adj") or (0,) * len(kernel))
    given = {"kernel_shape": list(kernel), "group": site.integer("num_group", 1), "output_padding": more}
    return site.step("ConvTranspose", *operands, **given, **_windows(site, kernel))


@operator("FullyConnected")
def linear(site: SymbolSite) -> Made:
    """Of all that an image holds, or of the last axis."""
    x, weight, *bias = _operands(site, site.truth("no_bias"))
    if site.integer("num_hidden") != site.type_of(weight).shape[0]:
        site.refuse(f"states {site.integer('num_hidden')} outputs for weights {site.type_of(weight)}")
    if site.truth("flatten", True):
        if site.type_of(x).rank != 2:
            x = site.step("Flatten", x, axis=1)
        return site.step("Gemm", x, weight, *bias, transB=1)
    made = site.step("MatMul", x, site.step("Transpose", weight, perm=[1, 0]))
    return site.step("Add", made, bias[0]) if bias else made


@operator("BatchNorm", "BatchNorm_v1", "CuDNNBatchNorm")
def batch_normalisation(site: SymbolSite) -> Made:
    """By stored statistics. fix_gamma: the factor is 1 whatever is stored."""
    for name in ("momentum", "use_global_stats", "min_calib_range", "max_calib_range"):
        site.text(name)
    site.without("output_mean_var", "False", "0")
    if site.axis(default=1) != 1:
        site.refuse("normalises along another axis than 1, which is not supported")
    gamma, *rest = (site.input(place) for place in range(1, 5))
    if site.truth("fix_gamma", True):
        gamma = site.constant(np.ones(site.type_of(gamma).shape, site.type_of(gamma).dtype), "ones")
    return site.step("BatchNormalization", site.x, gamma, *rest, epsilon=site.real("eps", 1e-3))


@operator("Pooling", "Pooling_v1")
def pooling(site: SymbolSite) -> Made:
    """By the convention `valid` or `full`; borders count in the mean unless it says otherwise."""
    _check_layout(site)
    kind = site.choice("pool_type", "max", "max", "avg", "sum")
    convention = site.choice("pooling_convention", "valid", "valid", "full")
    counted = site.truth("count_include_pad", True)
    kernel, everything = site.integers("kernel", ()), site.truth("global_pool")
    spatial = site.type_of(site.x).shape[2:]
    if everything:
        for name in ("stride", "pad"):
            site.text(name)
        axes = list(range(2, 2 + len(spatial)))
        if kind == "avg":
            return site.step("GlobalAveragePool", site.x)
        return site.step("ReduceMax" if kind == "max" else "ReduceSum", site.x, axes=axes, keepdims=1)
    geometry = _windows(site, kernel)
    full = convention == "full" and not _same_count(site, spatial, kernel, geometry)
    given = {"kernel_shape": list(kernel), "ceil_mode": int(full), **geometry}
    del given["dilations"]
    if kind == "max":
        return site.step("MaxPool", site.x, **given)
    if kind == "avg":
        return site.step("AveragePool", site.x, count_include_pad=int(counted), **given)
    if full:
        site.refuse("sums by the convention full, which is not supported")
    mean = site.step("AveragePool", site.x, count_include_pad=1, **given)
    return site.step("Mul", mean, site.number(float(prod(kernel)), mean))


def _same_count(site: SymbolSite, spatial, kernel, geometry) -> bool:
    """Whether both conventions give as many windows. Raises SourceError where a last window would hold borders
    alone."""
    same = True
    for size, each, stride, pad in zip(spatial, kernel, geometry["strides"], geometry["pads"]):
        span = size + 2 * pad - each
        windows = -(-span // stride) + 1
        if (windows - 1) * stride >= size + pad:
            site.refuse("has a last window that holds borders alone")
        same = same and span % stride == 0
    return same


@operator("_contrib_AdaptiveAvgPooling2D")
def pooled_to_size(site: SymbolSite) -> Made:
    """Means over windows that cover the image; to one by one unless a size is stated."""
    wanted = site.integers("output_size", ()) or (1, 1)
    return pooled_to(site, site.x, wanted * 2 if len(wanted) == 1 else wanted)


@operator("UpSampling")
def enlarged(site: SymbolSite) -> Made:
    """By repeating pixels."""
    site.choice("sample_type", "nearest", "nearest")
    for name in ("num_filter", "multi_input_mode"):
        site.text(name)
    if len(site.inputs) != 1:
        site.refuse("enlarges several inputs at once, which is not supported")
    return enlarged_by_nearest(site, site.x, [site.integer("scale")] * 2)


@operator("_contrib_BilinearResize2D")
def resized(site: SymbolSite) -> Made:
    """To a size, by a factor, or to the size of another value; corners on corners unless it says otherwise."""
    from zygal.graph.ops.resampling import resampling_matrix

    spatial, mode = site.type_of(site.x).shape[2:], site.choice("mode", "size", "size", "like")
    sizes = (site.integer("height", 1), site.integer("width", 1))
    factors = (site.text("scale_height"), site.text("scale_width"))
    if mode == "like":
        sizes = site.type_of(site.input(1)).shape[2:]
    elif factors != (None, None):
        sizes = tuple(int(size * site.real(name)) for size, name in zip(spatial, ("scale_height", "scale_width")))
    grid = "align_corners" if site.truth("align_corners", True) else "half_pixel"
    if tuple(sizes) == tuple(spatial):
        return site.step("Identity", site.x)
    return by_matrices(
        site, site.x, [resampling_matrix(size, out, "linear", grid) for size, out in zip(spatial, sizes)]
    )


# Activations


@operator("Activation")
def activation(site: SymbolSite) -> Made:
    """One of several functions."""
    kinds = {"relu": "Relu", "sigmoid": "Sigmoid", "tanh": "Tanh", "softrelu": "Softplus", "softsign": "Softsign"}
    kind = site.choice("act_type", "", *kinds, "mish", "log_sigmoid")
    if kind == "mish":
        return mish(site, site.x)
    if kind == "log_sigmoid":
        return site.step("Neg", site.step("Softplus", site.step("Neg", site.x)))
    return site.step(kinds[kind], site.x)


@operator("LeakyReLU")
def leaky(site: SymbolSite) -> Made:
    """Five kinds. The random slope is the middle of its range at inference."""
    kind = site.choice("act_type", "leaky", "leaky", "elu", "selu", "prelu", "gelu", "rrelu")
    slope, lower, upper = site.real("slope", 0.25), site.real("lower_bound", 0.125), site.real("upper_bound", 0.334)
    if kind == "leaky":
        return site.step("LeakyRelu", site.x, alpha=slope)
    if kind == "rrelu":
        return site.step("LeakyRelu", site.x, alpha=(lower + upper) / 2)
    if kind == "elu":
        return site.step("Elu", site.x, alpha=slope)
    if kind == "prelu":
        gamma, rank = site.input(1), site.type_of(site.x).rank
        if site.type_of(gamma).rank == 1:
            gamma = site.reshaped(gamma, [-1, *(1,) * (rank - 2)])
        return site.step("PRelu", site.x, gamma)
    return gelu(site, site.x) if kind == "gelu" else site.step("Selu", site.x)


@operator("hard_sigmoid")
def hard_sigmoid(site: SymbolSite) -> Made:
    """clip(alpha x + beta, 0, 1)."""
    return site.step("HardSigmoid", site.x, alpha=site.real("alpha", 0.2), beta=site.real("beta", 0.5))


# Normalisations


@operator("LRN")
def local_response(site: SymbolSite) -> Made:
    """x / (knorm + alpha / nsize * the sum of squares of the neighbouring channels) ^ beta; Krizhevsky et al., 2012."""
    size = site.integer("nsize")
    if not size or size % 2 == 0:
        site.refuse(f"looks at {size} channels, which have no middle")
    around = (size // 2, size // 2)
    return local_response_of(
        site, site.x, around, site.real("alpha", 1e-4), site.real("beta", 0.75), site.real("knorm", 2.0)
    )


@operator("L2Normalization")
def unit_length(site: SymbolSite) -> Made:
    """x / sqrt(sum(x^2) + eps) over an image, its channels or its places."""
    rank, mode = site.type_of(site.x).rank, site.choice("mode", "instance", "instance", "channel", "spatial")
    axes = {"instance": range(1, rank), "channel": [1], "spatial": range(2, rank)}[mode]
    total = site.step("ReduceSum", site.step("Mul", site.x, site.x), axes=list(axes), keepdims=1)
    divisor = site.step("Sqrt", site.step("Add", total, site.number(site.real("eps", 1e-10), site.x)))
    return site.step("Div", site.x, divisor)


@operator("InstanceNorm")
def instance_normalisation(site: SymbolSite) -> Made:
    """Over each channel of each image."""
    inputs = [site.input(place) for place in range(3)]
    return site.step("InstanceNormalization", *inputs, epsilon=site.real("eps", 1e-3))


@operator("LayerNorm")
def layer_normalisation(site: SymbolSite) -> Made:
    """Over the last axis."""
    site.without("output_mean_var", "False", "0")
    if site.axis(default=-1) != site.type_of(site.x).rank - 1:
        site.refuse("normalises along another axis than the last, which is not supported")
    inputs = [site.input(place) for place in range(3)]
    return site.step("LayerNormalization", *inputs, axis=-1, epsilon=site.real("eps", 1e-5))


@operator("GroupNorm")
def groups_normalised(site: SymbolSite) -> Made:
    """Over groups of channels; then a scale and a shift for each group or each channel."""
    site.without("output_mean_var", "False", "0")
    groups = site.integer("num_groups", 1)
    made = group_normalisation(site, site.x, groups, site.real("eps", 1e-5))
    shape = site.type_of(site.x).shape
    for kind, place in (("Mul", 1), ("Add", 2)):
        given = site.array(site.input(place))
        if given is None or given.ndim != 1 or isinstance(shape[1], Batch) or len(given) not in (groups, shape[1]):
            site.refuse("has a scale that fits neither its groups nor its channels")
        each = np.repeat(given, shape[1] // len(given)).reshape(-1, *(1,) * (len(shape) - 2))
        made = site.step(kind, made, site.constant(each, kind.lower()))
    return made
