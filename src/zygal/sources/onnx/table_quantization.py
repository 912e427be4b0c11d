"""Numbers that are stored in 8 bits: in steps between real ones, or in operators that compute with them."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.onnx.site import Made, OnnxSite, operator
from zygal.sources.onnx.table_windows import slide

STORED = ("int8", "uint8", "int32")


def _steps(site: OnnxSite, scale: str, zero: str | None, dtype: str) -> tuple[str, str]:
    """A scale and its zero point, both one number where they are one: the standard writes that with an axis too."""
    if zero is None:
        zero = site.constant(np.zeros(site.type_of(scale).shape, dtype), "zero")
    if site.type_of(scale).shape == (1,):
        return tuple(
            site.step("Squeeze", each, axes=[0]) if site.type_of(each).rank else each for each in (scale, zero)
        )
    return scale, zero


def _real(site: OnnxSite, x: str, scale: str, zero: str | None, axis: int) -> str:
    """The real numbers of stored ones. What is constant stays stored."""
    dtype = site.type_of(x).dtype.name
    if dtype not in STORED:
        site.refuse(f"stores numbers as {dtype}, which is not supported")
    scale, zero = _steps(site, scale, zero, dtype)
    return site.kept("DequantizeLinear", x, scale, zero, axis=axis)


def _stored(site: OnnxSite, x: str, scale: str, zero: str | None, axis: int, dtype: str = "uint8") -> str:
    scale, zero = _steps(site, scale, zero, dtype)
    return site.step("QuantizeLinear", x, scale, zero, axis=axis)


def _axis(site: OnnxSite) -> int:
    site.without("block_size", 0)
    site.without("precision", 0)
    site.attribute("saturate")
    return site.attribute("axis", 1)


@operator("QuantizeLinear")
def quantize(site: OnnxSite) -> Made:
    """To uint8 unless the zero point says otherwise."""
    axis, number = _axis(site), site.attribute("output_dtype", 0)
    if number not in (0, 2, 3):
        site.refuse(f"stores numbers in the dtype number {number}, which is not supported")
    zero = site.value(2) if site.given(2) else None
    return _stored(site, site.value(0), site.value(1), zero, axis, "int8" if number == 3 else "uint8")


@operator("DequantizeLinear")
def dequantize(site: OnnxSite) -> Made:
    """To float32."""
    axis = _axis(site)
    site.without("output_dtype", 0)
    zero = site.value(2) if site.given(2) else None
    return _real(site, site.value(0), site.value(1), zero, axis)


@operator("DynamicQuantizeLinear")
def quantize_by_range(site: OnnxSite) -> Made:
    """To uint8, in steps that the numbers themselves set: the range of all of them, zero included."""
    x = site.value(0)
    if any(isinstance(size, Batch) for size in site.type_of(x).shape):
        site.refuse(
            "takes its steps from the range of all images of a batch, so the scores of one would depend on the others"
        )
    zero = site.number(0.0, x)
    least = site.step("Min", site.step("ReduceMin", x, keepdims=0), zero)
    most = site.step("Max", site.step("ReduceMax", x, keepdims=0), zero)
    scale = site.step("Div", site.step("Sub", most, least), site.number(255.0, x))
    place = site.step("Clip", site.step("Round", site.step("Div", site.step("Neg", least), scale)), min=0.0, max=255.0)
    stored = site.step("Cast", place, to="uint8")
    return site.step("QuantizeLinear", x, scale, stored, axis=1), scale, stored


@operator("QLinearConv")
def convolution(site: OnnxSite) -> Made:
    """The convolution between steps: real numbers in, what it makes is stored again."""
    x, weight = _real(site, site.value(0), site.value(1), site.value(2), 1), site.value(3)
    operands = [x, _real(site, weight, site.value(4), site.value(5), 0)]
    if site.given(8):
        scale = site.step("Mul", site.value(1), site.value(4))
        operands.append(_real(site, site.value(8), scale, None, 0))
    kernel = list(site.type_of(weight).shape[2:])
    made = slide(site, operands, kernel)
    return _stored(site, made, site.value(6), site.value(7), 1)


@operator("QLinearMatMul")
def product(site: OnnxSite) -> Made:
    """The product between steps."""
    left = _real(site, site.value(0), site.value(1), site.value(2), -2)
    right = _real(site, site.value(3), site.value(4), site.value(5), -1)
    return _stored(site, site.step("MatMul", left, right), site.value(6), site.value(7), -1)


def _without_zero(site: OnnxSite, place: int, zero: int, axis: int) -> str:
    """Stored numbers less their zero point, in float32, which holds them exactly."""
    x = site.step("Cast", site.value(place), to="float32")
    if not site.given(zero):
        return x
    moved = site.step("Cast", site.value(zero), to="float32")
    shape = site.type_of(moved).shape
    if shape not in ((), (1,)):
        rank = site.type_of(x).rank
        moved = site.reshaped(moved, [-1 if at == axis % rank else 1 for at in range(rank)])
    return site.step("Sub", x, moved)


@operator("MatMulInteger")
def whole_product(site: OnnxSite) -> Made:
    """Sums of whole numbers, in float32: exact up to 2^24."""
    made = site.step("MatMul", _without_zero(site, 0, 2, -2), _without_zero(site, 1, 3, -1))
    return site.step("Cast", made, to="int32")


@operator("ConvInteger")
def whole_convolution(site: OnnxSite) -> Made:
    """The same in windows."""
    x, weight = _without_zero(site, 0, 2, 0), _without_zero(site, 1, 3, 0)
    return site.step("Cast", slide(site, [x, weight], list(site.type_of(weight).shape[2:])), to="int32")
