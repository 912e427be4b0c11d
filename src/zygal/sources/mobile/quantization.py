"""Between the stored numbers of a flatbuffer and the real numbers that they stand for, in the graph."""

from __future__ import annotations

import numpy as np

from zygal.errors import SourceError
from zygal.graph import GraphBuilder
from zygal.mobile.model import Quantization, Tensor
from zygal.sources.layouts import View
from zygal.sources.mobile.names import stem_of

STORED = ("int8", "uint8")
SMALL = 4096
"""Constants of no more numbers are widened: they are the addends and factors of a channel."""


class Quantizer:
    """widen: everything is computed in real numbers; what would not fit the stored numbers is still held within their
    range."""

    def __init__(self, where: str, builder: GraphBuilder, widen: bool):
        self._where, self._builder, self.widen = where, builder, widen

    def check(self, tensor: Tensor) -> None:
        """Raises SourceError for stored numbers that an artifact does not have."""
        if tensor.quantization is not None and tensor.dtype not in (*STORED, "int32") and not self.widen:
            raise SourceError(
                f"{self._where} cannot be converted as it is: {tensor.name} is stored as {tensor.dtype} with a scale, "
                "which an artifact does not compute with; add --widen to compute in float32."
            )
        if tensor.quantization is not None and tensor.quantization.per_axis and tensor.data is None:
            raise SourceError(
                f"{self._where} cannot be converted: {tensor.name} has several scales, which only constants can have."
            )

    def real(self, tensor: Tensor) -> np.ndarray:
        """A constant's real numbers."""
        data, given = tensor.data, tensor.quantization
        if given is None or data.dtype.kind == "f":
            return data.astype(np.float32) if data.dtype == np.float16 else data
        return given.real(data)

    def constant(self, tensor: Tensor) -> View:
        """A constant as real numbers: a large one stays stored in few bits."""
        if (
            tensor.quantization is None
            or tensor.data.size <= SMALL
            or self.widen
            or tensor.dtype not in STORED
            or tensor.quantization.per_axis
        ):
            array = self.real(tensor)
            return View(self._builder.constant(stem_of(tensor.name), array), tuple(range(array.ndim)))
        name = self.dequantized(
            self._builder.constant(f"{stem_of(tensor.name)}.stored", tensor.data),
            tensor.quantization,
            tensor.data.dtype,
            tensor.name,
        )
        return View(name, tuple(range(tensor.data.ndim)))

    def weight(self, tensor: Tensor, stored: np.ndarray, axis: int, name: str) -> str:
        """A weight's value in the graph. stored: its numbers as they are needed, its scales now along `axis`."""
        given = tensor.quantization
        if tensor.data.dtype.kind == "f":
            return self._builder.constant(name, stored.astype(np.float32, copy=False))
        if given is None:
            raise SourceError(
                f"{self._where} cannot be converted: {tensor.name} is stored as {tensor.dtype} without saying "
                f"what the numbers mean."
            )
        if self.widen or stored.dtype.name not in (*STORED, "int32"):
            moved = Quantization(given.scales, given.zero_points, axis)
            return self._builder.constant(
                name, self.real(Tensor(tensor.name, stored.shape, tensor.dtype, data=stored, quantization=moved))
            )
        stored_name = self._builder.constant(f"{name}.stored", np.ascontiguousarray(stored))
        return self.dequantized(stored_name, Quantization(given.scales, given.zero_points, axis), stored.dtype, name)

    def dequantized(self, stored: str, given: Quantization, dtype: np.dtype, name: str, layer: str = "") -> str:
        """Adds the real numbers of stored ones."""
        inputs = [stored, *self._parameters(given, dtype, name, zero=dtype != np.int32)]
        made = self._builder.free_name(f"{stem_of(name)}.real")
        self._builder.add("DequantizeLinear", inputs, made, layer, **({"axis": given.axis} if given.per_axis else {}))
        return made

    def quantized(self, view: View, tensor: Tensor, layer: str) -> View:
        """Adds the stored numbers of real ones; where everything is widened, the nearest ends of their range
        instead."""
        given, dtype = tensor.quantization, np.dtype(tensor.dtype)
        if self.widen:
            limits = np.iinfo(dtype)
            low, high = ((end - int(given.zero_points[0])) * float(given.scales[0]) for end in (limits.min, limits.max))
            made = self._builder.free_name(f"{stem_of(tensor.name)}.held")
            self._builder.add("Clip", (view.name,), made, layer, min=low, max=high)
            return View(made, view.order, view.permutation)
        made = self._builder.free_name(stem_of(tensor.name))
        self._builder.add("QuantizeLinear", (view.name, *self._parameters(given, dtype, tensor.name)), made, layer)
        return View(made, view.order, view.permutation)

    def _parameters(self, given: Quantization, dtype: np.dtype, name: str, zero: bool = True) -> list[str]:
        scales, zeros = (
            each if given.per_axis else each.reshape(())
            for each in (given.scales.astype(np.float32), given.zero_points.astype(dtype))
        )
        limits = np.iinfo(dtype)
        if zero and ((given.zero_points < limits.min) | (given.zero_points > limits.max)).any():
            raise SourceError(f"{self._where} is damaged: {name} has a zero point outside {dtype}.")
        made = [self._builder.constant(f"{stem_of(name)}.scale", scales)]
        return [*made, self._builder.constant(f"{stem_of(name)}.zero_point", zeros)] if zero else made
