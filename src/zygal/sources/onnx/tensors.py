"""What a message declares of its inputs, and the numbers of its weights, as an artifact computes with them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import onnx
from onnx import TensorProto, helper, numpy_helper

from zygal.errors import SourceError, shown
from zygal.graph import Batch, TensorType
from zygal.onnx.contents import declared
from zygal.onnx.validate import external_bytes

DTYPES = frozenset(("float16", "float32", "float64", "int8", "int16", "int32", "int64", "uint8", "bool"))


def input_type(info: onnx.ValueInfoProto, where: str, image_shape: tuple[int, ...] | None) -> TensorType:
    """The type of an input: axis 0 is the batch if it is open; other open sizes are those of `image_shape`. Raises
    SourceError."""
    dtype, sizes = declared(info)
    if dtype not in DTYPES:
        raise SourceError(f"{where} takes {shown(info.name)} as {dtype}, which an artifact does not compute with.")
    if not info.type.tensor_type.HasField("shape"):
        raise SourceError(f"{where} does not say how many axes its input {shown(info.name)} has.")
    if image_shape is not None and len(image_shape) == len(sizes) - 1:
        fits = all(size == wanted for size, wanted in zip(sizes[1:], image_shape) if isinstance(size, int))
        sizes = (sizes[0], *(image_shape if fits else sizes[1:]))
    open_sizes = [axis for axis, size in enumerate(sizes) if axis and not isinstance(size, int)]
    if open_sizes and isinstance(sizes[0], int):
        raise SourceError(
            f"{where} leaves axis {open_sizes[0]} of its input {shown(info.name)} open and fixes axis 0 at {sizes[0]} "
            "(its batch may stand in another place than axis 0, which is not supported); if these are the sizes of "
            "an image, say them with --shape."
        )
    if open_sizes:
        listed = ", ".join(str(size) if isinstance(size, int) else "?" for size in sizes)
        raise SourceError(
            f"{where} leaves the size of its images open ([{listed}]); say it with --shape, as in --shape 3,224,224, "
            "or give an inlet that ends with a size."
        )
    if any(size == 0 for size in sizes):
        raise SourceError(f"{where} takes images {list(sizes)}, which hold nothing.")
    return TensorType(np.dtype(dtype), tuple(size if isinstance(size, int) else Batch() for size in sizes))


def array_of(tensor: TensorProto, where: str) -> np.ndarray:
    """The numbers of a weight; memory-mapped where they are in an external file. Raises SourceError."""
    dtype = helper.tensor_dtype_to_np_dtype(tensor.data_type)
    if dtype.name not in DTYPES:
        raise SourceError(
            f"{where} cannot be converted: it keeps {shown(tensor.name or 'a constant')} as {dtype}, which an artifact "
            "does not compute with."
        )
    if tensor.data_location != TensorProto.EXTERNAL:
        return numpy_helper.to_array(tensor)
    beside, offset, length = external_bytes(tensor, Path(where))
    if not length:
        return np.zeros(tuple(tensor.dims), dtype)
    return np.memmap(beside, dtype, "r", offset, tuple(tensor.dims))
