"""ATen operators that mix channels or pixels: convolution, pooling, normalisation, products."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import Site, aten


def _spread(value: int | list[int], axes: int) -> list[int]:
    """One number for every axis, or the list that is given already."""
    listed = [value] if isinstance(value, int) else list(value)
    return listed * axes if len(listed) == 1 else listed


@aten("conv1d.default", "conv2d.default", "conv3d.default", "conv1d.padding", "conv2d.padding", "conv3d.padding")
def convolution(call: Site):
    x, weight, bias = call.tensor("input"), call.tensor("weight"), call.optional_tensor("bias")
    kernel = call.type_of(weight).shape[2:]
    axes = len(kernel)
    if call.type_of(x).rank != axes + 2:
        call.refuse("works on a single image without a batch")
    dilations = _spread(call.plain("dilation", 1), axes)
    padding = call.plain("padding", 0)
    if padding == "same":
        # The framework puts the odd pad behind the end.
        totals = [d * (k - 1) for d, k in zip(dilations, kernel)]
        pads = [total // 2 for total in totals] + [total - total // 2 for total in totals]
    else:
        pads = _spread(0 if padding == "valid" else padding, axes) * 2
    inputs = (x, weight, bias) if bias else (x, weight)
    strides = _spread(call.plain("stride", 1), axes)
    return call.result("Conv", *inputs, strides=strides, pads=pads, dilations=dilations,
                       group=call.plain("groups", 1), kernel_shape=list(kernel))  # fmt: skip


@aten("batch_norm.default")
def batch_norm(call: Site):
    x = call.tensor("input")
    if call.plain("training") or not (call.has("running_mean") and call.has("running_var")):
        call.refuse("normalises by the statistics of the batch, so the model was captured in training mode "
                    "or keeps no statistics; call .eval() before capturing")  # fmt: skip
    channels = call.type_of(x).shape[1:2]
    scale = call.optional_tensor("weight") or call.constant(np.ones(channels, np.float32), "scale")
    bias = call.optional_tensor("bias") or call.constant(np.zeros(channels, np.float32), "shift")
    mean, variance = call.tensor("running_mean"), call.tensor("running_var")
    return call.result("BatchNormalization", x, scale, bias, mean, variance, epsilon=call.plain("eps", 1e-5))


@aten("layer_norm.default")
def layer_norm(call: Site):
    x, shape = call.tensor("input"), tuple(call.plain("normalized_shape"))
    scale = call.optional_tensor("weight") or call.constant(np.ones(shape, np.float32), "scale")
    inputs = (x, scale, call.tensor("bias")) if call.has("bias") else (x, scale)
    return call.result("LayerNormalization", *inputs, axis=-len(shape), epsilon=call.plain("eps", 1e-5))


@aten("linear.default")
def linear(call: Site):
    x, weight, bias = call.tensor("input"), call.tensor("weight"), call.optional_tensor("bias")
    if call.type_of(x).rank == 2:
        return call.result("Gemm", *((x, weight, bias) if bias else (x, weight)), transB=1)
    turned = call.step("Transpose", weight, perm=[1, 0])
    if not bias:
        return call.result("MatMul", x, turned)
    return call.result("Add", call.step("MatMul", x, turned), bias)


@aten("addmm.default")
def addmm(call: Site):
    factors = {name: float(call.plain(name, 1)) for name in ("alpha", "beta")}
    return call.result("Gemm", call.tensor("mat1"), call.tensor("mat2"), call.tensor("self"), **factors)


@aten("matmul.default", "mm.default", "bmm.default")
def matmul(call: Site):
    right = "other" if call.has("other") else "mat2"
    return call.result("MatMul", call.tensor("self"), call.tensor(right))


@aten("max_pool2d.default", "max_pool1d.default")
def max_pool(call: Site):
    geometry = _pool_geometry(call)
    dilations = _spread(call.plain("dilation", 1), len(geometry["kernel_shape"]))
    return call.result("MaxPool", call.tensor("self"), dilations=dilations, **geometry)


@aten("avg_pool2d.default", "avg_pool1d.default")
def average_pool(call: Site):
    if call.has("divisor_override"):
        call.refuse("divides by a number of its own, which is not supported")
    counted = int(call.plain("count_include_pad", True))
    return call.result("AveragePool", call.tensor("self"), count_include_pad=counted, **_pool_geometry(call))


def _pool_geometry(call: Site) -> dict:
    axes = call.type_of(call.tensor("self")).rank - 2
    kernel = _spread(call.plain("kernel_size"), axes)
    return {
        "kernel_shape": kernel,
        "strides": _spread(call.plain("stride") or kernel, axes),
        "pads": _spread(call.plain("padding", 0), axes) * 2,
        "ceil_mode": int(call.plain("ceil_mode", False)),
    }


@aten("adaptive_avg_pool2d.default", "adaptive_avg_pool1d.default")
def adaptive_average_pool(call: Site):
    """To a fixed output size. Where it divides the input size, all windows are alike: an ordinary pooling."""
    x = call.tensor("self")
    spatial = call.type_of(x).shape[2:]
    wanted = _spread(call.plain("output_size"), len(spatial))
    if all(size == 1 for size in wanted):
        return call.result("GlobalAveragePool", x)
    if tuple(wanted) == spatial:
        return call.result("Identity", x)
    if any(size % parts for size, parts in zip(spatial, wanted)):
        call.refuse(f"pools {list(spatial)} to {list(wanted)} with windows of unequal size, which is not supported")
    kernel = [size // parts for size, parts in zip(spatial, wanted)]
    return call.result("AveragePool", x, kernel_shape=kernel, strides=kernel, pads=[0] * 2 * len(kernel))


@aten("mean.dim")
def mean(call: Site):
    x = call.tensor("self")
    axes = call.plain("dim")
    if not axes:
        call.refuse("takes the mean over everything, the batch included")
    return call.result("ReduceMean", x, axes=list(axes), keepdims=int(call.plain("keepdim", False)))


@aten("sum.dim_IntList")
def total(call: Site):
    axes, keep = list(call.plain("dim")), int(call.plain("keepdim", False))
    return call.result("ReduceSum", call.tensor("self"), axes=axes, keepdims=keep)


@aten("amax.default")
def maximum(call: Site):
    axes, keep = list(call.plain("dim")), int(call.plain("keepdim", False))
    return call.result("ReduceMax", call.tensor("self"), axes=axes, keepdims=keep)
