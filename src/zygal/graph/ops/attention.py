"""Attention as one operator."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import FLOATS, Operator, Parameter, register
from zygal.graph.shapes import TensorType, broadcast


@register
class Attention(Operator):
    """softmax(scale query key' + addend) value for each head; Vaswani et al., 2017.

    Inputs: query [N, rows, heads * size], key [N, places, heads * size], value [N, places, heads * width], and an optional addend that
    is broadcast against the scores [N, heads, rows, places]. The result is [N, rows, heads * width].
    """

    name = "Attention"
    accepts = (FLOATS,)
    parameters = (Parameter("q_num_heads"), Parameter("kv_num_heads"), Parameter("scale", None))

    def infer(self, inputs, attributes):
        query, key, value, *addend = inputs
        heads = attributes["q_num_heads"]
        if heads != attributes["kv_num_heads"] or any(each.rank != 3 or each.shape[2] % heads for each in (query, key, value)):
            raise ValueError(f"its inputs are not rows of {heads} heads each")
        if query.shape[2] != key.shape[2] or key.shape[1] != value.shape[1] or len({each.shape[0] for each in (query, key, value)}) > 1:
            raise ValueError("query, key and value do not fit each other")
        scores = (query.shape[0], heads, query.shape[1], key.shape[1])
        if addend and broadcast(addend[0].shape, scores) != scores:
            raise ValueError("the addend does not fit the scores")
        return [TensorType(query.dtype, (*query.shape[:2], value.shape[2]))]

    def compute(self, inputs, attributes):
        heads = attributes["q_num_heads"]
        query, key, value = (each.reshape(*each.shape[:2], heads, -1).swapaxes(1, 2) for each in inputs[:3])
        scale = attributes["scale"] if attributes["scale"] is not None else query.shape[-1] ** -0.5
        scores = query @ key.swapaxes(-1, -2) * query.dtype.type(scale)
        scores = scores + inputs[3] if len(inputs) > 3 else scores
        powers = np.exp(scores - scores.max(-1, keepdims=True))
        made = powers / powers.sum(-1, keepdims=True) @ value
        return [made.swapaxes(1, 2).reshape(*inputs[0].shape[:2], -1)]
