"""Attention on matrices of rows: query [..., rows, size], key and value [..., places, size]."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.emitter import Emitter

LOWEST = float(np.finfo(np.float32).min)


def scores(emit: Emitter, query: str, key: str, scale: float | None, scale_first: bool = False) -> str:
    """query key' scale; what is scaled before the product is rounded otherwise than what is scaled behind it."""
    rank = emit.type_of(key).rank
    turned = emit.step("Transpose", key, perm=[*range(rank - 2), rank - 1, rank - 2])
    if scale is None or scale == 1:
        return emit.step("MatMul", query, turned)
    if scale_first:
        return emit.step("MatMul", emit.step("Mul", query, emit.number(float(scale), query)), turned)
    return emit.step("Mul", emit.step("MatMul", query, turned), emit.number(float(scale), query))


def without_future(emit: Emitter, weights: str) -> str:
    """The mask, True where a row may look: at its own place and those before it."""
    rows, places = emit.type_of(weights).shape[-2:]
    if isinstance(rows, Batch) or isinstance(places, Batch):
        emit.refuse("masks the future along the batch")
    return emit.constant(np.tri(rows, places, dtype=bool), "mask")


def masked(emit: Emitter, weights: str, mask: str, lowest: float = LOWEST) -> str:
    """The weights where a mask of truth is true and `lowest` elsewhere, or plus a mask of numbers."""
    if emit.type_of(mask).dtype == bool:
        return emit.step("Where", mask, weights, emit.number(lowest, weights))
    return emit.step("Add", weights, mask)


def attended(emit: Emitter, weights: str, value: str) -> str:
    """softmax(weights) value; Vaswani et al., 2017."""
    return emit.step("MatMul", emit.step("Softmax", weights, axis=-1), value)


def shared_heads(emit: Emitter, value: str, heads: int) -> str:
    """Keys or values [..., own, places, size] that several heads share, once for each of them; Ainslie et al., 2023."""
    rank, own = emit.type_of(value).rank, emit.type_of(value).shape[-3]
    if own == heads:
        return value
    return emit.step("Gather", value, emit.constant(np.repeat(np.arange(own), heads // own), "heads"), axis=rank - 3)
