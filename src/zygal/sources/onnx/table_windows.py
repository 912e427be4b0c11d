"""Convolutions and poolings: their pads may be left to a rule."""

from __future__ import annotations

from collections.abc import Sequence
from math import prod

from zygal.graph import Batch
from zygal.graph.ops.windows import same_pads
from zygal.sources.onnx.site import Made, OnnxSite, operator
from zygal.sources.recipes.normalisation import local_response as local_response_of


def _spatial(site: OnnxSite) -> list[int]:
    sizes = site.type_of(site.value(0)).shape[2:]
    if not sizes or any(isinstance(each, Batch) for each in sizes):
        site.refuse(f"slides over {site.type_of(site.value(0))}")
    return list(sizes)


def _pads(site: OnnxSite, kernel: list[int]) -> dict[str, list[int]]:
    """The attributes that say how windows slide, the pads as numbers."""
    given = {name: site.attribute(name) for name in ("strides", "dilations", "pads")}
    rule, sizes = site.attribute("auto_pad", "NOTSET"), _spatial(site)
    if rule in ("SAME_UPPER", "SAME_LOWER"):
        ones = [1] * len(sizes)
        pads = same_pads(sizes, kernel, given["strides"] or ones, given["dilations"] or ones)
        half = len(sizes)
        given["pads"] = pads if rule == "SAME_UPPER" else pads[half:] + pads[:half]
    elif rule == "VALID":
        given["pads"] = None
    elif rule != "NOTSET":
        site.refuse(f"has auto_pad {rule}, which is not known")
    return {name: each for name, each in given.items() if each is not None}


def _of_weight(site: OnnxSite) -> list[int]:
    """The sizes of the kernel, which an attribute may state as well."""
    kernel = list(site.type_of(site.value(1)).shape[2:])
    stated = site.attribute("kernel_shape")
    if stated is not None and list(stated) != kernel:
        site.refuse(f"states a kernel of {stated} for weights of {kernel}")
    return kernel


@operator("Conv")
def convolution(site: OnnxSite) -> Made:
    """Of any number of spatial axes."""
    return slide(site, site.inputs, _of_weight(site))


def slide(site: OnnxSite, operands: Sequence[str], kernel: list[int]) -> str:
    """A convolution with the node's attributes."""
    site.attribute("kernel_shape")
    return site.step("Conv", *operands, kernel_shape=kernel, group=site.attribute("group", 1), **_pads(site, kernel))


@operator("ConvTranspose")
def transposed_convolution(site: OnnxSite) -> Made:
    """The size of the result may be stated instead of the pads."""
    kernel, sizes, axes = _of_weight(site), _spatial(site), range(len(_spatial(site)))
    rule, wanted = site.attribute("auto_pad", "NOTSET"), site.attribute("output_shape")
    strides, dilations = (site.attribute(name) or [1] * len(sizes) for name in ("strides", "dilations"))
    more, pads = site.attribute("output_padding") or [0] * len(sizes), site.attribute("pads") or [0] * 2 * len(sizes)
    if wanted is None and rule.startswith("SAME"):
        wanted = [size * stride for size, stride in zip(sizes, strides)]
    if wanted is not None:
        wanted = wanted[-len(sizes) :]
        totals = [
            strides[at] * (sizes[at] - 1) + more[at] + (kernel[at] - 1) * dilations[at] + 1 - wanted[at] for at in axes
        ]
        # A result larger than the windows reach is filled up at its end.
        more = [extra + max(-total, 0) for extra, total in zip(more, totals)]
        totals = [max(total, 0) for total in totals]
        begins = [total // 2 if rule == "SAME_UPPER" else total - total // 2 for total in totals]
        pads = begins + [total - begin for total, begin in zip(totals, begins)]
    given = {"strides": strides, "dilations": dilations, "pads": pads, "output_padding": more}
    return site.alike(*site.inputs, kernel_shape=kernel, **given)


@operator("MaxPool")
def largest(site: OnnxSite) -> Made:
    """Where the largest was is not kept."""
    site.attribute("storage_order")
    kernel = site.attribute("kernel_shape")
    made = site.alike(site.value(0), kernel_shape=kernel, **_pads(site, kernel))
    if len(site.outputs) > 1 and site.outputs[1]:
        site.refuse("gives the places of the largest numbers, which is not supported")
    return made


@operator("AveragePool")
def average(site: OnnxSite) -> Made:
    """Dilations are refused."""
    kernel = site.attribute("kernel_shape")
    given = _pads(site, kernel)
    if set(given.pop("dilations", [1])) != {1}:
        site.refuse("has dilations, which is not supported")
    return site.alike(site.value(0), kernel_shape=kernel, **given)


@operator("GlobalMaxPool", "GlobalLpPool")
def over_all(site: OnnxSite) -> Made:
    """Over all axes behind the channels."""
    axes = list(range(2, 2 + len(_spatial(site))))
    if site.kind == "GlobalMaxPool":
        return site.step("ReduceMax", site.value(0), axes=axes, keepdims=1)
    return length(site, site.value(0), site.attribute("p", 2), axes)


def length(site: OnnxSite, x: str, order: int, axes: list[int]) -> str:
    """(sum |x|^order)^(1 / order) over some axes, which stay with size 1."""
    if order in (1, 2):
        return site.step(f"ReduceL{order}", x, axes=axes, keepdims=1)
    power = site.step("Pow", site.step("Abs", x), site.number(float(order), x))
    total = site.step("ReduceSum", power, axes=axes, keepdims=1)
    return site.step("Pow", total, site.number(1 / order, x))


@operator("LpPool")
def length_of_windows(site: OnnxSite) -> Made:
    """By the mean of each window, in which pads count as zeros."""
    x, kernel, order = site.value(0), site.attribute("kernel_shape"), site.attribute("p", 2)
    given = _pads(site, kernel)
    if set(given.pop("dilations", [1])) != {1} or site.attribute("ceil_mode", 0):
        site.refuse("has dilations or ceil_mode, which is not supported")
    power = site.step("Pow", site.step("Abs", x), site.number(float(order), x))
    mean = site.step("AveragePool", power, kernel_shape=kernel, count_include_pad=1, **given)
    total = site.step("Mul", mean, site.number(float(prod(kernel)), x))
    return site.step("Pow", total, site.number(1 / order, x))


@operator("LRN")
def local_response(site: OnnxSite) -> Made:
    """x / (bias + alpha / size * the sum of squares of the neighbouring channels) ^ beta; Krizhevsky et al., 2012."""
    size = site.attribute("size")
    before = (size - 1) // 2
    numbers = [site.attribute(name, default) for name, default in (("alpha", 1e-4), ("beta", 0.75), ("bias", 1.0))]
    return local_response_of(site, site.value(0), (before, size - 1 - before), *numbers)
