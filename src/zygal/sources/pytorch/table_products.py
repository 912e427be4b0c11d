"""ATen operators that are matrix products: linear layers, products, attention."""

from __future__ import annotations

from math import sqrt

import numpy as np

from zygal.graph import Batch
from zygal.sources.pytorch.calls import Site, aten


@aten("linear.default")
def linear(call: Site):
    x, weight, bias = call.tensor("input"), call.tensor("weight"), call.optional_tensor("bias")
    if call.type_of(x).rank == 2:
        return call.result("Gemm", *((x, weight, bias) if bias else (x, weight)), transB=1)
    turned = call.step("Transpose", weight, perm=[1, 0])
    if not bias:
        return call.result("MatMul", x, turned)
    return call.result("Add", call.step("MatMul", x, turned), bias)


@aten("addmm.default")
def addmm(call: Site):
    factors = {name: float(call.plain(name, 1)) for name in ("alpha", "beta")}
    return call.result("Gemm", call.tensor("mat1"), call.tensor("mat2"), call.tensor("self"), **factors)


@aten("baddbmm.default")
def baddbmm(call: Site):
    product = call.step("MatMul", call.tensor("batch1"), call.tensor("batch2"))
    addend = call.tensor("self")
    if call.plain("alpha", 1) != 1:
        product = call.step("Mul", product, call.number(call.plain("alpha"), product))
    if call.plain("beta", 1) == 0:
        return product
    if call.plain("beta", 1) != 1:
        addend = call.step("Mul", addend, call.number(call.plain("beta"), addend))
    return call.result("Add", product, addend)


@aten("matmul.default", "mm.default", "bmm.default", "mv.default", "dot.default", "vdot.default",
      "__matmul__.default")  # fmt: skip
def matmul(call: Site):
    """Vectors become matrices of one row or one column for the product, as in the framework."""
    left = call.tensor("self")
    right = call.tensor(next(name for name in ("other", "mat2", "vec", "tensor") if call.has(name)))
    ranks = [call.type_of(value).rank for value in (left, right)]
    if 1 not in ranks:
        return call.result("MatMul", left, right)
    if ranks[0] == 1:
        left = call.step("Unsqueeze", left, axes=[0])
    if ranks[1] == 1:
        right = call.step("Unsqueeze", right, axes=[1])
    axes = [-2] * (ranks[0] == 1) + [-1] * (ranks[1] == 1)
    return call.result("Squeeze", call.step("MatMul", left, right), axes=axes)


@aten("einsum.default")
def einsum(call: Site):
    """Stated with all letters; an ellipsis is spelt out."""
    terms, operands = call.plain("equation").replace(" ", ""), call.tensors("tensors")
    given, arrow, made = terms.partition("->")
    inputs = given.split(",")
    ranks = [call.type_of(value).rank for value in operands]
    spare = [letter for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ" if letter not in terms]
    hidden = [rank - len(term.replace("...", "")) if "..." in term else 0 for rank, term in zip(ranks, inputs)]
    inputs = [t.replace("...", "".join(spare[max(hidden) - n : max(hidden)])) for t, n in zip(inputs, hidden)]
    if not arrow:
        once = sorted(letter for letter in set(given) if given.count(letter) == 1 and letter.isalpha())
        made = ("..." if max(hidden) else "") + "".join(once)
    made = made.replace("...", "".join(spare[: max(hidden)]))
    return call.result("Einsum", *operands, equation=f"{','.join(inputs)}->{made}")


@aten("outer.default")
def outer(call: Site):
    column = call.step("Unsqueeze", call.tensor("self"), axes=[1])
    return call.result("Mul", column, call.step("Unsqueeze", call.tensor("vec2"), axes=[0]))


@aten("scaled_dot_product_attention.default")
def attention(call: Site):
    """softmax(q k' scale + mask) v; Vaswani et al., 2017."""
    query, key, value = (call.tensor(name) for name in ("query", "key", "value"))
    shape = call.type_of(query).shape
    if call.plain("enable_gqa", False):
        key, value = (_each_head(call, each, shape[-3]) for each in (key, value))
    scale = call.plain("scale") or 1 / sqrt(shape[-1])
    rank = len(shape)
    turned = call.step("Transpose", key, perm=[*range(rank - 2), rank - 1, rank - 2])
    weights = call.step("Mul", call.step("MatMul", query, turned), call.number(float(scale), query))
    mask = call.optional_tensor("attn_mask")
    if call.plain("is_causal", False):
        rows, columns = shape[-2], call.type_of(key).shape[-2]
        if isinstance(rows, Batch) or isinstance(columns, Batch):
            call.refuse("masks the future along the batch")
        mask = call.constant(np.tri(rows, columns, dtype=bool), "mask")
    if mask and call.type_of(mask).dtype == bool:
        weights = call.step("Where", mask, weights, call.number(float(np.finfo(np.float32).min), weights))
    elif mask:
        weights = call.step("Add", weights, mask)
    shares = call.step("Softmax", weights, axis=-1)
    return call.result("MatMul", _none_where_all_is_masked(call, shares, mask) if mask else shares, value)


def _none_where_all_is_masked(call: Site, shares: str, mask: str) -> str:
    """A row whose mask leaves nothing attends to nothing: zeros, as in the framework."""
    held, truth = call.array(mask), call.type_of(mask).dtype == bool
    if held is not None and not (~(held if truth else held > -np.inf)).all(axis=-1).any():
        return shares
    if truth:
        numbers = call.step("Cast", mask, to="float32")
        some = call.step("Greater", call.step("ReduceMax", numbers, axes=[-1], keepdims=1), call.number(0.0, numbers))
    else:
        largest = call.step("ReduceMax", mask, axes=[-1], keepdims=1)
        some = call.step("Greater", largest, call.number(float("-inf"), largest))
    return call.step("Where", some, shares, call.number(0.0, shares))


def _each_head(call: Site, value: str, heads: int) -> str:
    """Keys or values that several heads share, once for each of them; Ainslie et al., 2023."""
    rank, own = call.type_of(value).rank, call.type_of(value).shape[-3]
    if own == heads:
        return value
    return call.step("Gather", value, call.constant(np.repeat(np.arange(own), heads // own), "heads"), axis=rank - 3)


@aten("tensordot.default")
def product_over_axes(call: Site):
    left, right = call.tensor("self"), call.tensor("other")
    letters = iter("abcdefghijklmnopqrstuvwxyz")
    terms = [[next(letters) for _ in range(call.type_of(value).rank)] for value in (left, right)]
    for ours, theirs in zip(call.plain("dims_self"), call.plain("dims_other")):
        terms[1][theirs] = terms[0][ours]
    both = set(terms[0]) & set(terms[1])
    made = [letter for term in terms for letter in term if letter not in both]
    given = ",".join("".join(term) for term in terms)
    return call.result("Einsum", left, right, equation=f"{given}->{''.join(made)}")


@aten("inner.default")
def product_over_last(call: Site):
    left, right = call.tensor("self"), call.tensor("other")
    letters = iter("abcdefghijklmnopqrstuvwxyz")
    first = "".join(next(letters) for _ in range(call.type_of(left).rank))
    second = "".join(next(letters) for _ in range(call.type_of(right).rank - 1))
    return call.result("Einsum", left, right, equation=f"{first},{second}{first[-1]}->{first[:-1]}{second}")


@aten("linalg_multi_dot.default", "chain_matmul.default")
def product_of_all(call: Site):
    first, *others = call.tensors("tensors" if call.has("tensors") else "matrices")
    for other in others:
        first = call.step("MatMul", first, other)
    return first


@aten("bilinear.default")
def bilinear(call: Site):
    """y_k = x1' W_k x2 + b_k."""
    left, right, weight = call.tensor("input1"), call.tensor("input2"), call.tensor("weight")
    if call.type_of(left).rank != 2:
        call.refuse("is bilinear on more than vectors, which is not supported")
    made = call.step("Einsum", left, weight, right, equation="ni,kij,nj->nk")
    return call.result("Add", made, call.tensor("bias")) if call.has("bias") else made
