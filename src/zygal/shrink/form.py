"""The form of numbers in 8 bits that a runtime computes with on this processor."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from zygal.machine.processor import Multiplication


@dataclass(frozen=True)
class Form:
    """dtype: of quantized activations. weight_limit: the largest quantized weight; weights lie symmetrically around 0.
    products_quantized: matrix products must quantize what they give; where not, they may give real numbers.
    joined_alike: what is joined or pooled must have the scale and zero point of the result. gates_by_quantizing: a gate
    is computed by an addition whose result is held between 0 and 1 by being quantized. prescribed: scale and zero point
    of the results of operators that have no choice."""

    dtype: np.dtype
    weight_limit: int
    products_quantized: bool
    joined_alike: bool
    gates_by_quantizing: bool
    prescribed: Mapping[str, tuple[float, int]] = field(default_factory=dict)

    @property
    def limits(self) -> tuple[int, int]:
        """The smallest and the largest quantized activation."""
        info = np.iinfo(self.dtype)
        return int(info.min), int(info.max)

    @property
    def weight_bits(self) -> int:
        """Bits of a quantized weight."""
        return self.weight_limit.bit_length() + 1


def onnx_form(multiplication: Multiplication) -> Form:
    """For ONNX Runtime. On x86, its kernels multiply unsigned activations with signed weights, on Arm signed with
    signed. Instructions that add pairs of products in 16 bits hold two products of 7-bit weights at the most (255 * 64
    * 2 < 2**15)."""
    signed = multiplication.architecture == "arm"
    return Form(
        np.dtype(np.int8 if signed else np.uint8), 63 if multiplication.pairs_saturate else 127, False, False, True
    )


MOBILE_FORM = Form(np.dtype(np.int8), 127, True, True, False, {"Sigmoid": (1 / 256, -128), "Tanh": (1 / 128, 0)})
"""What the open flatbuffer format specifies for 8-bit operators."""
