"""ATen operators that measure how far apart vectors are."""

from __future__ import annotations

from zygal.sources.pytorch.calls import Site, aten


def _length(site: Site, x: str, axis: int, keep: int = 1) -> str:
    return site.step("ReduceL2", x, axes=[axis], keepdims=keep)


@aten("linalg_vecdot.default")
def product_along(site: Site):
    both = site.step("Mul", site.tensor("x"), site.tensor("y"))
    return site.step("ReduceSum", both, axes=[site.plain("dim", -1)], keepdims=0)


@aten("cosine_similarity.default")
def cosine(site: Site):
    """x y / (|x| |y|), lengths not below eps."""
    left, right, axis = site.tensor("x1"), site.tensor("x2"), site.plain("dim", 1)
    if site.type_of(left).shape != site.type_of(right).shape:
        site.refuse("compares tensors of two shapes, which is not supported")
    least = site.number(float(site.plain("eps", 1e-8)), left)
    units = [site.step("Div", x, site.step("Max", _length(site, x, axis), least)) for x in (left, right)]
    return site.step("ReduceSum", site.step("Mul", *units), axes=[axis], keepdims=0)


@aten("pairwise_distance.default")
def distance(site: Site):
    left, right, order = site.tensor("x1"), site.tensor("x2"), site.plain("p", 2)
    if order not in (1, 2):
        site.refuse(f"measures distances by the power {order}, which is not supported")
    apart = site.step("Add", site.step("Sub", left, right), site.number(float(site.plain("eps", 1e-6)), left))
    last = site.type_of(apart).rank - 1
    return site.step(f"ReduceL{order:.0f}", apart, axes=[last], keepdims=int(site.plain("keepdim", False)))


@aten("cdist.default", "_cdist_forward.default")
def all_distances(site: Site):
    """Between all rows of one matrix and all rows of another.

    As the framework: for more than 25 rows by |x|^2 + |y|^2 - 2 x y, which is a matrix product.
    """
    left, right, order = site.tensor("x1"), site.tensor("x2"), site.plain("p", 2)
    own, rank = (site.type_of(each).rank for each in (left, right))
    mode = site.plain("compute_mode") or 0
    rows = [site.type_of(each).shape[-2] for each in (left, right)]
    if order == 2 and mode != 2 and (mode == 1 or any(not isinstance(n, int) or n > 25 for n in rows)):
        turned = site.step("Transpose", right, perm=[*range(rank - 2), rank - 1, rank - 2])
        squares = [
            site.step("ReduceSum", site.step("Mul", x, x), axes=[axis], keepdims=1)
            for x, axis in ((left, own - 1), (turned, rank - 2))
        ]
        product = site.step("Mul", site.step("MatMul", left, turned), site.number(2.0, left))
        apart = site.step("Sub", site.step("Add", *squares), product)
        return site.step("Sqrt", site.step("Relu", apart))
    if order not in (1, 2):
        site.refuse(f"measures distances by the power {order}, which is not supported")
    wide = site.step("Unsqueeze", left, axes=[own - 1]), site.step("Unsqueeze", right, axes=[rank - 2])
    return site.step(f"ReduceL{order:.0f}", site.step("Sub", *wide), axes=[-1], keepdims=0)
