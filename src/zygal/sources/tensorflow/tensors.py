"""The schema's tensors and shapes as arrays and tuples."""

from __future__ import annotations

from math import prod
from typing import Any

import numpy as np

from zygal.errors import SourceError, shown
from zygal.graph import Batch, TensorType
from zygal.sources.tensorflow.messages import DTYPES

MOST_ELEMENTS = 1 << 31
MOST_REPEATED = 1 << 27
MOST_TEXTS = 1 << 22
_FIELDS = {
    "float32": "float_val",
    "float64": "double_val",
    "int32": "int_val",
    "uint8": "int_val",
    "int16": "int_val",
    "int8": "int_val",
    "uint16": "int_val",
    "int64": "int64_val",
    "bool": "bool_val",
    "string": "string_val",
    "float16": "half_val",
    "bfloat16": "half_val",
    "uint32": "uint32_val",
    "uint64": "uint64_val",
}
COMPUTED_AS_FLOAT32 = ("float16", "bfloat16", "float64")


def storage_dtype(name: str) -> np.dtype | None:
    """How numbers of a dtype lie in files; None for what is no plain number."""
    if name == "bfloat16":
        return np.dtype("<u2")
    return np.dtype(name).newbyteorder("<") if name in _FIELDS and name != "string" else None


def in_float32(array: np.ndarray, name: str) -> np.ndarray:
    """Numbers as the artifact computes with them: every floating point in float32."""
    if name == "bfloat16":
        return (array.astype(np.uint32) << 16).view(np.float32)
    return array.astype(np.float32) if name in COMPUTED_AS_FLOAT32 else array


def computed_dtype(number: int, where: str) -> np.dtype:
    """The dtype in which the artifact computes what the schema calls by a number. Raises SourceError for what it cannot
    hold."""
    name = DTYPES.get(number % 100 if number > 100 else number)
    if name in COMPUTED_AS_FLOAT32:
        return np.dtype(np.float32)
    if name is None or storage_dtype(name) is None:
        raise SourceError(f"{where} is of the dtype {name or number}, which an artifact cannot hold.")
    return np.dtype(name)


def array_of(tensor: Any, where: str) -> tuple[np.ndarray, str]:
    """The numbers or texts of a tensor message, and the dtype that they are stored in. Raises SourceError.

    A list of fewer values than the shape has places repeats its last one.
    """
    name = DTYPES.get(tensor.dtype % 100 if tensor.dtype > 100 else tensor.dtype, "")
    shape = tuple(each.size for each in tensor.tensor_shape.dim)
    if min(shape, default=0) < 0 or prod(shape) > MOST_ELEMENTS:
        raise SourceError(f"{where} is damaged: a constant has the shape {shown(list(shape))}.")
    if name not in _FIELDS:
        raise SourceError(f"{where} holds a constant of the dtype {name or tensor.dtype}, which is not supported.")
    count, dtype = prod(shape), storage_dtype(name)
    content = tensor.tensor_content
    if content and dtype is not None:
        if len(content) != count * dtype.itemsize:
            raise SourceError(f"{where} is damaged: a constant of the shape {list(shape)} has {len(content)} bytes.")
        return in_float32(np.frombuffer(content, dtype).reshape(shape), name), name
    listed = getattr(tensor, _FIELDS[name])
    if len(listed) > count or count and not len(listed) and name == "string":
        raise SourceError(f"{where} is damaged: a constant of the shape {list(shape)} lists {len(listed)} values.")
    if dtype is None:
        if count > max(MOST_TEXTS, len(listed)):
            raise SourceError(
                f"{where} repeats a text to a constant of the shape {shown(list(shape))}, which no image "
                f"classifier needs."
            )
        values = np.empty(count, object)
        values[:] = [*listed, *[listed[-1]] * (count - len(listed))] if count else []
        return values.reshape(shape), name
    if name in ("float16", "bfloat16"):
        values = np.array(listed, np.uint16).view("<f2" if name == "float16" else "<u2")
    else:
        values = np.array(listed, dtype)
    if len(values) < count:
        if count > MOST_REPEATED:
            raise SourceError(
                f"{where} repeats a number to a constant of the shape {shown(list(shape))}, which no image "
                f"classifier needs."
            )
        last = values[-1:] if len(values) else np.zeros(1, values.dtype)
        values = (
            np.broadcast_to(last, count)
            if len(values) < 2
            else np.concatenate([values, np.broadcast_to(last, count - len(values))])
        )
    return in_float32(values.reshape(shape), name), name


def sizes_of(shape: Any) -> tuple[int | None, ...] | None:
    """The sizes of a shape message, None for one that is open; None if not even the number of axes is known."""
    if shape.unknown_rank:
        return None
    return tuple(each.size if each.size >= 0 else None for each in shape.dim)


def shown_type(dtype: int, shape: Any) -> TensorType | None:
    """A declared tensor as far as it can be shown: the first open size is the batch; None if other sizes are open."""
    sizes, name = sizes_of(shape), DTYPES.get(dtype)
    if sizes is None or name is None or name not in _FIELDS or name == "string":
        return None
    first = tuple(Batch() if size is None and axis == 0 else size for axis, size in enumerate(sizes))
    return None if None in first else TensorType(np.dtype(np.float32) if name == "bfloat16" else np.dtype(name), first)
