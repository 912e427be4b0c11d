"""ATen operators that measure how far apart vectors are."""

from __future__ import annotations

from zygal.sources.pytorch.calls import Site, aten


def _length(call: Site, x: str, axis: int, keep: int = 1) -> str:
    return call.step("ReduceL2", x, axes=[axis], keepdims=keep)


@aten("linalg_vecdot.default")
def product_along(call: Site):
    both = call.step("Mul", call.tensor("x"), call.tensor("y"))
    return call.result("ReduceSum", both, axes=[call.plain("dim", -1)], keepdims=0)


@aten("cosine_similarity.default")
def cosine(call: Site):
    """x y / (|x| |y|), lengths not below eps."""
    left, right, axis = call.tensor("x1"), call.tensor("x2"), call.plain("dim", 1)
    if call.type_of(left).shape != call.type_of(right).shape:
        call.refuse("compares tensors of two shapes, which is not supported")
    least = call.number(float(call.plain("eps", 1e-8)), left)
    units = [call.step("Div", x, call.step("Max", _length(call, x, axis), least)) for x in (left, right)]
    return call.result("ReduceSum", call.step("Mul", *units), axes=[axis], keepdims=0)


@aten("pairwise_distance.default")
def distance(call: Site):
    left, right, order = call.tensor("x1"), call.tensor("x2"), call.plain("p", 2)
    if order not in (1, 2):
        call.refuse(f"measures distances by the power {order}, which is not supported")
    apart = call.step("Add", call.step("Sub", left, right), call.number(float(call.plain("eps", 1e-6)), left))
    last = call.type_of(apart).rank - 1
    return call.result(f"ReduceL{order:.0f}", apart, axes=[last], keepdims=int(call.plain("keepdim", False)))


@aten("cdist.default", "_cdist_forward.default")
def all_distances(call: Site):
    """Between all rows of one matrix and all rows of another.

    As the framework: for more than 25 rows by |x|^2 + |y|^2 - 2 x y, which is a matrix product.
    """
    left, right, order = call.tensor("x1"), call.tensor("x2"), call.plain("p", 2)
    own, rank = (call.type_of(each).rank for each in (left, right))
    mode = call.plain("compute_mode") or 0
    rows = [call.type_of(each).shape[-2] for each in (left, right)]
    if order == 2 and mode != 2 and (mode == 1 or any(not isinstance(n, int) or n > 25 for n in rows)):
        turned = call.step("Transpose", right, perm=[*range(rank - 2), rank - 1, rank - 2])
        squares = [call.step("ReduceSum", call.step("Mul", x, x), axes=[axis], keepdims=1)
                   for x, axis in ((left, own - 1), (turned, rank - 2))]  # fmt: skip
        product = call.step("Mul", call.step("MatMul", left, turned), call.number(2.0, left))
        apart = call.step("Sub", call.step("Add", *squares), product)
        return call.result("Sqrt", call.step("Relu", apart))
    if order not in (1, 2):
        call.refuse(f"measures distances by the power {order}, which is not supported")
    wide = call.step("Unsqueeze", left, axes=[own - 1]), call.step("Unsqueeze", right, axes=[rank - 2])
    return call.result(f"ReduceL{order:.0f}", call.step("Sub", *wide), axes=[-1], keepdims=0)
