"""Operators that make tensors of sizes and numbers, and those that ask for sizes."""

from __future__ import annotations

from math import prod

import numpy as np

from zygal.graph import Batch
from zygal.sources.layouts import View
from zygal.sources.tensorflow.site import NodeSite, operator

MOST_FILLED = 1 << 27


def shape_of(call: NodeSite, view: View) -> View:
    """The sizes of a tensor as its axes count."""
    dtype = call.dtype("out_type", 3)
    sizes = call.shape(view)
    if not any(isinstance(size, Batch) for size in sizes):
        return call.held(np.array(sizes, dtype), "sizes")
    made = call.step("Shape", call.plain(view))
    return call.value(made if dtype == np.int64 else call.step("Cast", made, to=dtype.name))


@operator("Shape")
def shape(call: NodeSite) -> View:
    return shape_of(call, call.x())


@operator("ShapeN", outputs=("output",))
def shapes(call: NodeSite) -> list[View]:
    return [shape_of(call, view) for view in call.xs()]


@operator("Rank")
def rank(call: NodeSite) -> View:
    return call.held(np.array(len(call.x().order), np.int32), "rank")


@operator("Size")
def size(call: NodeSite) -> View:
    sizes = shape_of(call, call.x())
    return call.value(call.step("ReduceProd", sizes.name, axes=[0], keepdims=0))


def check_count(call: NodeSite, sizes) -> None:
    count = prod(each.times if isinstance(each, Batch) else each for each in sizes)
    if count > MOST_FILLED or any(not isinstance(each, Batch) and each < 0 for each in sizes):
        call.refuse(f"makes a tensor of {' x '.join(map(str, sizes))}, which no image classifier needs")


@operator("Fill")
def fill(call: NodeSite) -> View:
    sizes, value = call.sizes(0), call.static(1, "values")
    check_count(call, sizes)
    if any(isinstance(each, Batch) for each in sizes):
        single = call.constant(value.reshape((1,) * len(sizes)), "filling")
        return call.value(call.expanded(single, sizes))
    return call.held(np.full(sizes, value.reshape(-1)[0], value.dtype), "filled")


def _like(name: str, value: int) -> None:
    @operator(name)
    def like(call: NodeSite) -> View:
        view = call.x()
        return call.elementwise(
            view, lambda x: call.step("Mul", x, call.number(0, x)) if value == 0 else _ones(call, x)
        )


def _ones(call: NodeSite, x: str) -> str:
    return call.step("Add", call.step("Mul", x, call.number(0, x)), call.number(1, x))


_like("ZerosLike", 0)
_like("OnesLike", 1)


@operator("Range")
def numbers(call: NodeSite) -> View:
    start, limit, step = (call.static_number(place, what) for place, what in enumerate(("a start", "an end", "a step")))
    if step == 0 or abs((limit - start) / step) > MOST_FILLED:
        call.refuse("counts without end")
    return call.held(np.arange(start, limit, step, dtype=call.type_of(call.x().name).dtype), "numbers")


@operator("LinSpace")
def even_steps(call: NodeSite) -> View:
    start, stop = (call.static_number(place, "ends") for place in (0, 1))
    count = int(call.static_number(2, "the count"))
    check_count(call, [count])
    return call.held(np.linspace(start, stop, count, dtype=call.type_of(call.x().name).dtype), "numbers")


@operator("BroadcastArgs")
def broadcast_shapes(call: NodeSite) -> View:
    """The shape that two shapes have together."""
    first, second = (call.static(place, "shapes").tolist() for place in (0, 1))
    return call.held(np.array(np.broadcast_shapes(tuple(first), tuple(second)), np.int32), "sizes")


@operator("InvertPermutation")
def inverted(call: NodeSite) -> View:
    order = call.static(0, "an order")
    return call.held(np.argsort(order).astype(order.dtype), "order")
