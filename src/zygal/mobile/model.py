"""A mobile classifier as plain records."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np


@dataclass(frozen=True)
class Quantization:
    """real = scale * (stored - zero point), for the whole tensor or for each place along an axis. scales: float32 [1]
    or [places]; zero_points: int64 of that shape."""

    scales: np.ndarray
    zero_points: np.ndarray
    axis: int = 0

    @property
    def per_axis(self) -> bool:
        """Whether there is a scale for each channel."""
        return self.scales.size > 1

    def real(self, stored: np.ndarray) -> np.ndarray:
        """The real numbers, float32, that stored ones stand for."""
        shape = [-1 if at == self.axis else 1 for at in range(stored.ndim)] if self.per_axis else ()
        return (
            (stored.astype(np.int64) - self.zero_points.reshape(shape)) * self.scales.reshape(shape).astype(np.float64)
        ).astype(np.float32)

    def same_as(self, other: Quantization | None) -> bool:
        """Whether two store numbers alike."""
        if other is None or self.scales.shape != other.scales.shape or self.per_axis and self.axis != other.axis:
            return False
        return np.array_equal(self.scales, other.scales) and np.array_equal(self.zero_points, other.zero_points)


@dataclass
class Tensor:
    """shape: the sizes at which the file was made. open_axes: those that may have another size when it is run. data: of
    a constant, its numbers in `shape`."""

    name: str
    shape: tuple[int, ...]
    dtype: str
    open_axes: tuple[int, ...] = ()
    data: np.ndarray | None = None
    quantization: Quantization | None = None
    is_variable: bool = False

    @property
    def sizes(self) -> tuple[int | None, ...]:
        """None for an open size."""
        return tuple(None if axis in self.open_axes else size for axis, size in enumerate(self.shape))


@dataclass
class Operator:
    """inputs: numbers of tensors, -1 for one that is left out."""

    name: str
    inputs: list[int]
    outputs: list[int]
    options: Mapping[str, Any] = field(default_factory=dict)
    version: int = 1


@dataclass(frozen=True)
class Signature:
    """A way to call the model by names. inputs, outputs: tensors' numbers."""

    key: str
    inputs: Mapping[str, int]
    outputs: Mapping[str, int]


@dataclass
class MobileModel:
    """metadata: bytes by name. files: what is appended to the flatbuffer as members of a zip archive, by name.
    quantized: while it is made, the stored form of constants of real numbers, as tensors' numbers."""

    tensors: list[Tensor]
    operators: list[Operator]
    inputs: list[int]
    outputs: list[int]
    signatures: list[Signature] = field(default_factory=list)
    metadata: dict[str, Any] = field(default_factory=dict)
    description: str = ""
    files: dict[str, bytes] = field(default_factory=dict)
    quantized: dict[int, int] = field(default_factory=dict)

    def uses(self) -> Counter[int]:
        """How often each tensor is read, as an output too."""
        return Counter([*(number for operator in self.operators for number in operator.inputs), *self.outputs])

    def makers(self) -> dict[int, int]:
        """The place of the operator that makes each tensor."""
        return {number: place for place, operator in enumerate(self.operators) for number in operator.outputs}
