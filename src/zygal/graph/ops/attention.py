"""Attention as one operator."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import FLOATS, TRUTH, Operator, Parameter, register
from zygal.graph.shapes import Shape, TensorType, broadcast


@register
class Attention(Operator):
    """softmax(scale query key' + addend) value for each head; Vaswani et al., 2017. Heads may share keys and values;
    Ainslie et al., 2023.

    Inputs: query, key and value as rows of heads [N, rows, heads * size], or with an axis of heads [N, heads, rows,
    size]; and optionally what is broadcast against the scores [N, heads, rows, places]: an addend, or a truth value for
    what is looked at. The result has the form of the query. A row that looks at nothing is 0.
    """

    name = "Attention"
    apart = frozenset((3,))
    accepts = (FLOATS, FLOATS, FLOATS, FLOATS | TRUTH, FLOATS)
    parameters = (Parameter("q_num_heads", None), Parameter("kv_num_heads", None), Parameter("scale", None))

    def infer(self, inputs, attributes):
        query, key, value, *mask = inputs
        if any(each is not None for each in mask[1:]):
            raise ValueError("keys and values of earlier runs are not something that a classifier has")
        shapes = [_by_heads(each.shape, heads) for each, heads in zip((query, key, value), _heads(attributes))]
        batch, heads, rows, size = shapes[0]
        if shapes[1][3] != size or shapes[1][:3] != shapes[2][:3] or shapes[1][0] != batch or heads % shapes[1][1]:
            raise ValueError("query, key and value do not fit each other")
        scores = (batch, heads, rows, shapes[1][2])
        if mask and mask[0] is not None:
            # A mask may end before the places do; what it does not name is not looked at.
            ahead = (*mask[0].shape[:-1], 1) if mask[0].shape[-1] <= scores[3] else mask[0].shape
            if broadcast(ahead, scores) != scores:
                raise ValueError("the mask does not fit the scores")
        width = shapes[2][3]
        return [
            TensorType(query.dtype, (batch, rows, heads * width) if query.rank == 3 else (batch, heads, rows, width))
        ]

    def compute(self, inputs, attributes):
        query, key, value = (
            each.reshape(*each.shape[:2], heads, -1).swapaxes(1, 2) if each.ndim == 3 else each
            for each, heads in zip(inputs, _heads(attributes))
        )
        shared = query.shape[1] // key.shape[1]
        key, value = (np.repeat(each, shared, axis=1) for each in (key, value))
        scale = attributes["scale"] if attributes["scale"] is not None else query.shape[-1] ** -0.5
        scores = query @ key.swapaxes(-1, -2) * query.dtype.type(scale)
        if len(inputs) > 3 and inputs[3] is not None:
            scores = scores + _addend(inputs[3], scores)
        highest = scores.max(-1, keepdims=True)
        powers = np.exp(scores - np.where(np.isfinite(highest), highest, 0))
        sums = powers.sum(-1, keepdims=True)
        made = np.asarray(powers / np.where(sums == 0, 1, sums), query.dtype) @ value
        return [made.swapaxes(1, 2).reshape(*inputs[0].shape[:2], -1) if inputs[0].ndim == 3 else made]


def _heads(attributes) -> tuple[int | None, int | None, int | None]:
    """Of query, key and value."""
    return attributes["q_num_heads"], attributes["kv_num_heads"], attributes["kv_num_heads"]


def _by_heads(shape: Shape, heads: int | None) -> Shape:
    """The shape with an axis of heads. Raises ValueError."""
    if len(shape) == 4:
        return shape
    if len(shape) != 3 or not heads or shape[2] % heads:
        raise ValueError(f"{list(map(str, shape))} are not rows of {heads} heads")
    return shape[0], heads, shape[1], shape[2] // heads


def _addend(mask: np.ndarray, scores: np.ndarray) -> np.ndarray:
    """What is added to the scores: nothing where a truth value is true, and minus infinity where it is false or there
    is none."""
    low = scores.dtype.type(-np.inf)
    added = np.where(mask, scores.dtype.type(0), low) if mask.dtype == bool else mask
    missing = scores.shape[-1] - mask.shape[-1] if mask.shape[-1] > 1 else 0
    return np.pad(added, [(0, 0)] * (mask.ndim - 1) + [(0, missing)], constant_values=low)
