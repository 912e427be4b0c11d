"""Between real numbers and numbers stored in few bits."""

from __future__ import annotations

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.views import View, natural
from zygal.mobile.model import Quantization


def _steps(site: Site, order: tuple[int, ...]) -> Quantization:
    """Scales and zero points, along the axis as it lies in an order."""
    scales = site.array(1)
    if scales is None:
        site.refuse("has a scale that depends on the image")
    zeros = site.array(2) if site.has(2) else np.zeros(scales.shape, np.int64)
    axis = order.index(site.attributes()["axis"] % len(order)) if scales.ndim else 0
    return Quantization(np.atleast_1d(scales).astype(np.float32), np.atleast_1d(zeros).astype(np.int64), axis)


@spelt("QuantizeLinear")
def quantized(site: Site) -> View:
    view = site.gathered(site.view())
    x = site.plain(view) if view.array is not None else view.tensor
    order = natural(view.rank) if view.array is not None else view.order
    made = site.step("QUANTIZE", [x], site.shape_of(x), site.made().dtype)
    site.lowering.tensors[made].quantization = _steps(site, order)
    return View(order, made)


@spelt("DequantizeLinear")
def real(site: Site) -> View:
    """A constant is known as real numbers, and remembered as it is stored."""
    view = site.gathered(site.view())
    if view.array is None:
        return View(view.order, site.step("DEQUANTIZE", [view.tensor], site.shape_of(view.tensor), np.float32, 2))
    quantization = _steps(site, natural(view.rank))
    return View(view.order, array=quantization.real(view.array), quantized=(view.array, quantization))
