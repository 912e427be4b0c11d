"""Matrix products."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import FLOATS, NUMBERS, WIDE, Operator, Parameter, register
from zygal.graph.shapes import Batch, Dimension, TensorType, broadcast, fits


@register
class MatMul(Operator):
    name = "MatMul"
    accepts = (FLOATS | WIDE,)

    def infer(self, inputs, attributes):
        left, right = inputs
        if left.rank < 2 or right.rank < 2:
            raise ValueError("a matrix product here needs at least two dimensions on both sides")
        if not fits(left.shape[-1], right.shape[-2]):
            raise ValueError("the inner dimensions differ")
        ahead = broadcast(left.shape[:-2], right.shape[:-2])
        return [TensorType(left.dtype, (*ahead, left.shape[-2], right.shape[-1]))]

    def compute(self, inputs, attributes):
        return [np.matmul(*inputs)]


@register
class Gemm(Operator):
    """alpha * A @ B + beta * C on matrices, either of A and B transposed first if asked."""

    name = "Gemm"
    accepts = (FLOATS | WIDE,)
    parameters = (Parameter("alpha", 1.0), Parameter("beta", 1.0), Parameter("transA", 0), Parameter("transB", 0))

    def infer(self, inputs, attributes):
        left, right = inputs[:2]
        if left.rank != 2 or right.rank != 2:
            raise ValueError("it supports matrices only")
        rows, inner = left.shape[::-1] if attributes["transA"] else left.shape
        depth, columns = right.shape[::-1] if attributes["transB"] else right.shape
        if inner != depth:
            raise ValueError("the inner dimensions differ")
        if len(inputs) > 2 and inputs[2] is not None and broadcast(inputs[2].shape, (rows, columns)) != (rows, columns):
            raise ValueError("the addend does not fit the product")
        return [TensorType(left.dtype, (rows, columns))]

    def compute(self, inputs, attributes):
        left, right = inputs[:2]
        product = (left.T if attributes["transA"] else left) @ (right.T if attributes["transB"] else right)
        product = product * left.dtype.type(attributes["alpha"])
        if len(inputs) > 2 and inputs[2] is not None:
            product = product + left.dtype.type(attributes["beta"]) * inputs[2]
        return [product]


@register
class Einsum(Operator):
    """A sum of products by index letters, as in `bhid,bhjd->bhij`. The batch may only go straight through."""

    name = "Einsum"
    accepts = (NUMBERS,)
    parameters = (Parameter("equation"),)

    def infer(self, inputs, attributes):
        given, arrow, made = attributes["equation"].replace(" ", "").partition("->")
        terms = given.split(",")
        if not arrow or "." in given or [len(term) for term in terms] != [each.rank for each in inputs]:
            raise ValueError(f"the equation {attributes['equation']} does not state all axes")
        sizes: dict[str, Dimension] = {}
        for term, each in zip(terms, inputs):
            for letter, size in zip(term, each.shape):
                if sizes.setdefault(letter, size) != size:
                    raise ValueError(f"the axis {letter} has two sizes")
        if any(isinstance(size, Batch) and letter not in made for letter, size in sizes.items()):
            raise ValueError("it would mix the images of a batch")
        return [TensorType(inputs[0].dtype, tuple(sizes[letter] for letter in made))]

    def compute(self, inputs, attributes):
        return [np.asarray(np.einsum(attributes["equation"], *inputs), inputs[0].dtype)]
