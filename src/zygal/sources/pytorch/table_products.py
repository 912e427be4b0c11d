"""ATen operators that are matrix products: linear layers, products, attention."""

from __future__ import annotations

from math import sqrt

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.recipes import attention as attending


@aten("linear.default")
def linear(site: Site):
    x, weight, bias = site.tensor("input"), site.tensor("weight"), site.optional_tensor("bias")
    if site.type_of(x).rank == 2:
        return site.step("Gemm", *((x, weight, bias) if bias else (x, weight)), transB=1)
    turned = site.step("Transpose", weight, perm=[1, 0])
    if not bias:
        return site.step("MatMul", x, turned)
    return site.step("Add", site.step("MatMul", x, turned), bias)


@aten("addmm.default")
def addmm(site: Site):
    factors = {name: float(site.plain(name, 1)) for name in ("alpha", "beta")}
    return site.step("Gemm", site.tensor("mat1"), site.tensor("mat2"), site.tensor("self"), **factors)


@aten("baddbmm.default")
def baddbmm(site: Site):
    product = site.step("MatMul", site.tensor("batch1"), site.tensor("batch2"))
    addend = site.tensor("self")
    if site.plain("alpha", 1) != 1:
        product = site.step("Mul", product, site.number(site.plain("alpha"), product))
    if site.plain("beta", 1) == 0:
        return product
    if site.plain("beta", 1) != 1:
        addend = site.step("Mul", addend, site.number(site.plain("beta"), addend))
    return site.step("Add", product, addend)


@aten("matmul.default", "mm.default", "bmm.default", "mv.default", "dot.default", "vdot.default", "__matmul__.default")
def matmul(site: Site):
    """Vectors become matrices of one row or one column for the product, as in the framework."""
    left = site.tensor("self")
    right = site.tensor(next(name for name in ("other", "mat2", "vec", "tensor") if site.has(name)))
    ranks = [site.type_of(value).rank for value in (left, right)]
    if 1 not in ranks:
        return site.step("MatMul", left, right)
    if ranks[0] == 1:
        left = site.step("Unsqueeze", left, axes=[0])
    if ranks[1] == 1:
        right = site.step("Unsqueeze", right, axes=[1])
    axes = [-2] * (ranks[0] == 1) + [-1] * (ranks[1] == 1)
    return site.step("Squeeze", site.step("MatMul", left, right), axes=axes)


@aten("einsum.default")
def einsum(site: Site):
    """Stated with all letters; an ellipsis is spelt out."""
    terms, operands = site.plain("equation").replace(" ", ""), site.tensors("tensors")
    given, arrow, made = terms.partition("->")
    inputs = given.split(",")
    ranks = [site.type_of(value).rank for value in operands]
    spare = [letter for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ" if letter not in terms]
    hidden = [rank - len(term.replace("...", "")) if "..." in term else 0 for rank, term in zip(ranks, inputs)]
    inputs = [t.replace("...", "".join(spare[max(hidden) - n : max(hidden)])) for t, n in zip(inputs, hidden)]
    if not arrow:
        once = sorted(letter for letter in set(given) if given.count(letter) == 1 and letter.isalpha())
        made = ("..." if max(hidden) else "") + "".join(once)
    made = made.replace("...", "".join(spare[: max(hidden)]))
    return site.step("Einsum", *operands, equation=f"{','.join(inputs)}->{made}")


@aten("outer.default")
def outer(site: Site):
    column = site.step("Unsqueeze", site.tensor("self"), axes=[1])
    return site.step("Mul", column, site.step("Unsqueeze", site.tensor("vec2"), axes=[0]))


@aten("scaled_dot_product_attention.default")
def attention(site: Site):
    """softmax(q k' scale + mask) v; Vaswani et al., 2017."""
    query, key, value = (site.tensor(name) for name in ("query", "key", "value"))
    shape = site.type_of(query).shape
    if site.plain("enable_gqa", False):
        key, value = (attending.shared_heads(site, each, shape[-3]) for each in (key, value))
    weights = attending.scores(site, query, key, site.plain("scale") or 1 / sqrt(shape[-1]))
    mask = site.optional_tensor("attn_mask")
    if site.plain("is_causal", False):
        mask = attending.without_future(site, weights)
    if mask:
        weights = attending.masked(site, weights, mask)
    shares = site.step("Softmax", weights, axis=-1)
    return site.step("MatMul", _none_where_all_is_masked(site, shares, mask) if mask else shares, value)


def _none_where_all_is_masked(site: Site, shares: str, mask: str) -> str:
    """A row whose mask leaves nothing attends to nothing: zeros, as in the framework."""
    mask_array, truth = site.array(mask), site.type_of(mask).dtype == bool
    if mask_array is not None and not (~(mask_array if truth else mask_array > -np.inf)).all(axis=-1).any():
        return shares
    if truth:
        numbers = site.step("Cast", mask, to="float32")
        some = site.step("Greater", site.step("ReduceMax", numbers, axes=[-1], keepdims=1), site.number(0.0, numbers))
    else:
        largest = site.step("ReduceMax", mask, axes=[-1], keepdims=1)
        some = site.step("Greater", largest, site.number(float("-inf"), largest))
    return site.step("Where", some, shares, site.number(0.0, shares))


@aten("tensordot.default")
def product_over_axes(site: Site):
    left, right = site.tensor("self"), site.tensor("other")
    letters = iter("abcdefghijklmnopqrstuvwxyz")
    terms = [[next(letters) for _ in range(site.type_of(value).rank)] for value in (left, right)]
    for axis_of_first, axis_of_other in zip(site.plain("dims_self"), site.plain("dims_other")):
        terms[1][axis_of_other] = terms[0][axis_of_first]
    both = set(terms[0]) & set(terms[1])
    made = [letter for term in terms for letter in term if letter not in both]
    given = ",".join("".join(term) for term in terms)
    return site.step("Einsum", left, right, equation=f"{given}->{''.join(made)}")


@aten("inner.default")
def product_over_last(site: Site):
    left, right = site.tensor("self"), site.tensor("other")
    letters = iter("abcdefghijklmnopqrstuvwxyz")
    first = "".join(next(letters) for _ in range(site.type_of(left).rank))
    second = "".join(next(letters) for _ in range(site.type_of(right).rank - 1))
    return site.step("Einsum", left, right, equation=f"{first},{second}{first[-1]}->{first[:-1]}{second}")


@aten("linalg_multi_dot.default", "chain_matmul.default")
def product_of_all(site: Site):
    first, *others = site.tensors("tensors" if site.has("tensors") else "matrices")
    for other in others:
        first = site.step("MatMul", first, other)
    return first


@aten("bilinear.default")
def bilinear(site: Site):
    """y_k = x1' W_k x2 + b_k."""
    left, right, weight = site.tensor("input1"), site.tensor("input2"), site.tensor("weight")
    if site.type_of(left).rank != 2:
        site.refuse("is bilinear on more than vectors, which is not supported")
    made = site.step("Einsum", left, weight, right, equation="ni,kij,nj->nk")
    return site.step("Add", made, site.tensor("bias")) if site.has("bias") else made
