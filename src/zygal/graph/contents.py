"""What small tensors of whole numbers hold, as far as it is known before anything is run.

Programs that compute their shapes read sizes, pick some, multiply and join them: the contents are then numbers and
multiples of the batch, as an array of objects. The operators' own NumPy meanings work on such arrays too.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from math import prod
from typing import Any

import numpy as np

from zygal.graph.model import Node
from zygal.graph.ops import operator_named
from zygal.graph.shapes import Batch, TensorType, is_open

LARGEST = 64
"""Larger tensors hold no shape."""
_FOLLOWED = frozenset(
    (
        "Add",
        "Concat",
        "Expand",
        "Flatten",
        "Gather",
        "Identity",
        "Mul",
        "ReduceProd",
        "Reshape",
        "Slice",
        "Squeeze",
        "Sub",
        "Tile",
        "Transpose",
        "Unsqueeze",
        "Where",
    )
)
"""The operators whose NumPy meaning does to dimensions what it does to numbers."""


def constant_contents(array: np.ndarray) -> np.ndarray | None:
    """The numbers of a small constant of whole numbers or truth values as objects, else None."""
    return array.astype(object) if array.dtype.kind in "iub" and array.size <= LARGEST else None


def result_contents(node: Node, known: Mapping[str, np.ndarray], types: Mapping[str, TensorType]) -> np.ndarray | None:
    """What the node's only result holds, by what its inputs hold; None where that is not known."""
    attributes = operator_named(node.operator).complete(node.attributes)
    if node.operator == "Shape":
        sizes = types[node.inputs[0]].shape[attributes["start"] : attributes["end"]]
        return None if is_open(sizes) else _objects(sizes)
    given = [known.get(name) for name in node.inputs]
    if not given or any(each is None for each in given) or types[node.outputs[0]].dtype.kind not in "iub":
        return None
    if node.operator == "Cast":
        return _truth(given[0]) if types[node.outputs[0]].dtype.kind == "b" else given[0]
    try:
        if node.operator == "Div":
            return _divided(*given)
        if node.operator == "Equal":
            return _equal(*given)
        made = _computed(node, given, attributes, types)
    except (TypeError, ValueError, ZeroDivisionError):  # Not a dimension any more.
        return None
    return made if made is not None and made.size <= LARGEST else None


def _computed(
    node: Node, given: Sequence[np.ndarray], attributes: Mapping[str, Any], types: Mapping[str, TensorType]
) -> np.ndarray | None:
    if (
        node.operator not in _FOLLOWED
        or prod(each for each in types[node.outputs[0]].shape if isinstance(each, int)) > LARGEST
    ):
        return None
    if node.operator == "Gather":
        given = [given[0], given[1].astype(np.int64)]
    (made,) = operator_named(node.operator).compute(given, attributes)
    return np.asarray(made, object)


@np.vectorize(otypes=[object])
def _truth(size: int | Batch) -> bool:
    """There is at least one image."""
    return isinstance(size, Batch) or bool(size)


@np.vectorize(otypes=[object])
def _equal(left: int | Batch, right: int | Batch) -> bool:
    """There is at least one image; how many there are is not known."""
    if isinstance(left, Batch) != isinstance(right, Batch):
        if (right if isinstance(left, Batch) else left) > 0:
            raise TypeError("whether the batch has this size is not known")
        return False
    return left == right


@np.vectorize(otypes=[object])
def _divided(left: int | Batch, right: int | Batch) -> int | Batch:
    if left == right:
        return 1
    return (
        left // right if isinstance(left, Batch) else abs(left) // abs(right) * (1 if (left < 0) == (right < 0) else -1)
    )


def _objects(values: Sequence[int | Batch]) -> np.ndarray:
    made = np.empty(len(values), object)
    made[:] = values
    return made
