"""Convolutions, pooling and global means of images that lie [N, C, ...], by plain arguments."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.windows import Geometry
from zygal.sources.emitter import Emitter
from zygal.sources.layouts.views import LaidOut, View


def convolved(
    call: Emitter,
    x: str,
    kernel: np.ndarray,
    bias: np.ndarray | None,
    group: int,
    hint: str = "",
    strides: list[int] | None = None,
    dilations: list[int] | None = None,
    pads: list[int] | None = None,
) -> str:
    """A convolution with a kernel [M, C / group, ...]."""
    axes = kernel.ndim - 2
    inputs = [x, call.constant(kernel, f"{hint}kernel")] + ([call.constant(bias, "bias")] if bias is not None else [])
    return call.step(
        "Conv",
        *inputs,
        strides=strides or [1] * axes,
        pads=pads or [0] * 2 * axes,
        dilations=dilations or [1] * axes,
        group=group,
        kernel_shape=list(kernel.shape[2:]),
    )


def by_channel(stored: np.ndarray) -> np.ndarray:
    """A depthwise kernel [..., C, multiplier] as that of a convolution with a group for each channel."""
    moved = np.moveaxis(stored, (-2, -1), (0, 1))
    return moved.reshape(-1, 1, *moved.shape[2:])


def pooled(call: Emitter, x: str, largest: bool, kernel: list[int], strides: list[int], pads: list[int]) -> str:
    """The largest or the mean of each window; pads count in neither."""
    geometry = {"kernel_shape": kernel, "strides": strides, "pads": pads}
    Geometry.of(geometry, kernel).counts(tuple(call.type_of(x).shape[2:]))
    if largest:
        return call.step("MaxPool", x, **geometry)
    return call.step("AveragePool", x, count_include_pad=0, **geometry)


def global_mean(call: LaidOut, view: View, order: tuple[int, ...], keep: bool) -> View:
    """The mean of each channel of an image that lies in an order whose channels come second."""
    made = call.step("GlobalAveragePool", call.in_order(view, order))
    return View(made, order) if keep else View(call.step("Flatten", made, axis=1), (0, 1))


def transposed(
    call: Emitter,
    x: str,
    kernel: np.ndarray,
    strides: list[int],
    dilations: list[int],
    begins: list[int],
    ends: list[int],
    extra: list[int],
) -> str:
    """The gradient of a convolution by a kernel [C, M, ...]: `begins` and `ends` are cut off its full result, `extra`
    is added.

    The standard wants the extra rows to be fewer than a step; what is more is zeros behind the end.
    """
    axes = kernel.ndim - 2
    within = [min(e, max(s, d) - 1) for e, s, d in zip(extra, strides, dilations)]
    made = call.step(
        "ConvTranspose",
        x,
        call.constant(kernel, "kernel"),
        strides=strides,
        pads=[*begins, *ends],
        dilations=dilations,
        group=1,
        kernel_shape=list(kernel.shape[2:]),
        output_padding=within,
    )
    rest = [e - w for e, w in zip(extra, within)]
    return call.step("Pad", made, pads=[0] * (2 + axes) + [0, 0, *rest]) if any(rest) else made
