"""Tensors as the framework stores them: where their bytes lie, what they hold, and whether they can be read."""

from __future__ import annotations

from dataclasses import dataclass
from math import prod
from pathlib import Path
from typing import Protocol

import numpy as np

from zygal.errors import SourceError, shown

BFLOAT16 = 13
SCALAR_TYPES = {
    1: "uint8",
    2: "int8",
    3: "int16",
    4: "int32",
    5: "int64",
    6: "float16",
    7: "float32",
    8: "float64",
    12: "bool",
    BFLOAT16: "bfloat16",
}
"""The framework's numbers for dtypes, as in its published schema."""

COMPUTED_AS_FLOAT32 = ("float16", "bfloat16", "float64")

WIDTHS = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 2, 7: 4, 8: 8, 12: 1, 13: 2}
"""Bytes an element, by the framework's numbers for dtypes."""
MOST_REPEATED_BYTES = 64_000_000


@dataclass(frozen=True)
class StoredTensor:
    """Where a tensor lies in the archive and how its bytes are to be read."""

    member: str
    scalar_type: int
    sizes: tuple[int, ...]
    strides: tuple[int, ...]
    offset: int
    trained: bool = False
    requires_grad: bool = False

    def fault(self, stored_bytes: int) -> str | None:
        """What is wrong with it where its member has `held` bytes, or None.

        The framework stores the whole memory that a tensor lies in, so a tensor that is a part of a larger one leaves
        some of it unread; none may read more than there is.
        """
        width = WIDTHS.get(self.scalar_type)
        if width is None:
            return f"has the dtype number {self.scalar_type}, which Zygal does not read"
        if len(self.sizes) != len(self.strides) or min((*self.sizes, *self.strides, self.offset, 0)) < 0:
            return "has sizes or strides that do not fit each other"
        if stored_bytes % width:
            return f"has {stored_bytes} bytes, which are no whole number of elements"
        if 0 in self.sizes:
            return None
        needed = (self.offset + sum((size - 1) * step for size, step in zip(self.sizes, self.strides)) + 1) * width
        return f"takes {needed} bytes, but {stored_bytes} are stored" if needed > stored_bytes else None

    def repeated(self, stored_bytes: int) -> int:
        """By how many bytes it is larger than its member, because its elements share memory (strides of 0)."""
        return max(0, prod(self.sizes) * WIDTHS[self.scalar_type] - stored_bytes)


class TensorBytes(Protocol):
    """What tensors are read from."""

    path: Path

    def member_bytes(self, member: str) -> np.ndarray:
        """The bytes of a member, uint8. Raises SourceError."""


class RepeatedBytes:
    """Checks the tensors of one file: a file of a few bytes could claim any size with elements that share memory."""

    def __init__(self, path: Path):
        self._path, self._bytes = path, 0

    def check(self, name: str, stored: StoredTensor, size: int) -> None:
        """Raises SourceError unless a member of so many bytes holds all elements of the tensor."""
        fault = stored.fault(size)
        if fault:
            raise SourceError(f"{self._path} is damaged: the tensor {shown(name)} {fault}; capture the model again.")
        self._bytes += stored.repeated(size)
        if self._bytes > MOST_REPEATED_BYTES:
            raise SourceError(
                f"{self._path} is damaged or malicious: the tensor {shown(name)} repeats its elements to "
                f"{prod(stored.sizes)} numbers, of which {size} bytes are stored."
            )


def read_tensor(archive: TensorBytes, stored: StoredTensor) -> np.ndarray:
    """A tensor of the archive: memory-mapped where possible, with its strides. Raises SourceError.

    Floating-point tensors of another width come as float32.
    """
    content = archive.member_bytes(stored.member)
    name = SCALAR_TYPES.get(stored.scalar_type)
    if name is None:
        raise SourceError(f"{archive.path} keeps {stored.member} in a dtype that Zygal does not read.")
    dtype = np.dtype("<u2" if name == "bfloat16" else name).newbyteorder("<")
    flat = content.view(dtype)
    steps = [step * dtype.itemsize for step in stored.strides]
    array = np.lib.stride_tricks.as_strided(flat[stored.offset :], stored.sizes, steps, writeable=False)
    if name == "bfloat16":
        return (array.astype(np.uint32) << 16).view(np.float32)
    return array.astype(np.float32) if name in COMPUTED_AS_FLOAT32 else array
