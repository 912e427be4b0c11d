"""ATen operators that reduce axes."""

from __future__ import annotations

import numpy as np

from zygal.graph import Batch
from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_creation import in_dtype


def reduced_axes(call: Site, value: str, name: str = "dim") -> list[int]:
    """The axes that a call reduces, from the front; all of them where none is given."""
    axes, rank = call.plain(name), call.type_of(value).rank
    if axes is None or axes == []:
        return list(range(rank))
    return [axis % rank for axis in ([axes] if isinstance(axes, int) else axes)]


def _reduction(operator: str, *names: str) -> None:
    def reduction(call: Site):
        x = in_dtype(call, call.tensor("self"))
        if call.type_of(x).dtype == bool or operator in ("ReduceSum", "ReduceProd") and call.type_of(x).dtype.kind in "iu":
            x = x if call.type_of(x).dtype == np.int64 or call.has("dtype") else call.step("Cast", x, to="int64")
        keep = int(call.plain("keepdim", False))
        return call.result(operator, x, axes=reduced_axes(call, x), keepdims=keep)

    aten(*names)(reduction)


_reduction("ReduceMean", "mean.dim", "mean.default")
_reduction("ReduceSum", "sum.dim_IntList", "sum.default")
_reduction("ReduceMax", "amax.default", "max.default")
_reduction("ReduceMin", "amin.default", "min.default")
_reduction("ReduceProd", "prod.dim_int", "prod.default")


@aten("max.dim", "min.dim")
def extreme_with_place(call: Site):
    """The extreme and its place; both are made, and what nobody reads is dropped later."""
    x, axis, keep = call.tensor("self"), call.plain("dim"), int(call.plain("keepdim", False))
    largest = "max" in call.call.target
    value = call.result("ReduceMax" if largest else "ReduceMin", x, axes=[axis], keepdims=keep)
    place = call.step("ArgMax", x if largest else call.step("Neg", x), axis=axis, keepdims=keep)
    return value, place


@aten("aminmax.default")
def both_extremes(call: Site):
    x, keep = call.tensor("self"), int(call.plain("keepdim", False))
    return tuple(call.step(each, x, axes=reduced_axes(call, x), keepdims=keep) for each in ("ReduceMin", "ReduceMax"))


@aten("count_nonzero.default", "count_nonzero.dim_IntList")
def count_nonzero(call: Site):
    x = call.tensor("self")
    truth = call.step("Cast", call.step("Cast", x, to="bool"), to="int64")
    return call.result("ReduceSum", truth, axes=reduced_axes(call, x), keepdims=0)


@aten("argmax.default")
def place_of_largest(call: Site):
    if call.plain("dim") is None:
        call.refuse("looks for the largest over everything, the batch included")
    return call.result(
        "ArgMax", call.tensor("self"), axis=call.plain("dim"), keepdims=int(call.plain("keepdim", False))
    )


def _variance(call: Site, x: str, axes: list[int], keep: int, add) -> str:
    """The mean squared distance from the mean, times n / (n - correction)."""
    shape = call.type_of(x).shape
    if any(isinstance(shape[axis], Batch) for axis in axes):
        call.refuse("takes statistics over the batch")
    count = int(np.prod([shape[axis] for axis in axes], dtype=np.int64))
    if not count:
        call.refuse("takes statistics of nothing")
    correction = call.plain("correction", 1 if call.plain("unbiased", True) else 0)
    centred = call.step("Sub", x, call.step("ReduceMean", x, axes=axes, keepdims=1))
    square = call.step("Mul", centred, centred)
    if correction == 0:
        return add("ReduceMean", square, axes=axes, keepdims=keep)
    total = call.step("ReduceSum", square, axes=axes, keepdims=keep)
    return add("Div", total, call.number(float(max(count - correction, 0)), x))


@aten("var.correction", "var.dim", "var.default")
def variance(call: Site):
    x = call.tensor("self")
    return _variance(call, x, reduced_axes(call, x), int(call.plain("keepdim", False)), call.result)


@aten("std.correction", "std.dim", "std.default")
def standard_deviation(call: Site):
    x = call.tensor("self")
    return call.result("Sqrt", _variance(call, x, reduced_axes(call, x), int(call.plain("keepdim", False)), call.step))


@aten("var_mean.correction", "var_mean.dim", "std_mean.correction", "std_mean.dim")
def variance_and_mean(call: Site):
    x = call.tensor("self")
    axes, keep = reduced_axes(call, x), int(call.plain("keepdim", False))
    if "std_mean" in call.call.target:
        made = call.result("Sqrt", _variance(call, x, axes, keep, call.step))
    else:
        made = _variance(call, x, axes, keep, call.result)
    return made, call.step("ReduceMean", x, axes=axes, keepdims=keep)


@aten("linalg_vector_norm.default", "norm.ScalarOpt_dim", "norm.ScalarOpt_dim_dtype", "frobenius_norm.dim",
      "linalg_norm.default")  # fmt: skip
def length(call: Site):
    x = in_dtype(call, call.tensor("self"))
    order = call.plain("ord", call.plain("p", 2))
    order = 2 if order is None else order
    if "linalg_norm" in call.call.target and call.has("ord") and len(reduced_axes(call, x)) > 1:
        call.refuse("takes a norm of matrices by their singular values, which is not supported")
    axes, keep = reduced_axes(call, x), int(call.plain("keepdim", False))
    if order in (1, 2):
        return call.result(f"ReduceL{order:.0f}", x, axes=axes, keepdims=keep)
    size = call.step("Abs", x)
    if float(order) in (np.inf, -np.inf):
        return call.result("ReduceMax" if float(order) > 0 else "ReduceMin", size, axes=axes, keepdims=keep)
    if order == 0:
        differs = call.step("Cast", call.step("Not", call.step("Equal", x, call.number(0.0, x))), to="float32")
        return call.result("ReduceSum", differs, axes=axes, keepdims=keep)
    powers = call.step("ReduceSum", call.step("Pow", size, call.number(float(order), x)), axes=axes, keepdims=keep)
    return call.result("Pow", powers, call.number(1 / float(order), x))


@aten("logsumexp.default")
def log_of_sum(call: Site):
    x = call.tensor("self")
    axes, keep = reduced_axes(call, x), int(call.plain("keepdim", False))
    largest = call.step("ReduceMax", x, axes=axes, keepdims=1)
    largest = call.step("Where", call.step("IsInf", largest), call.number(0.0, x), largest)
    powers = call.step("Exp", call.step("Sub", x, largest))
    total = call.step("Log", call.step("ReduceSum", powers, axes=axes, keepdims=keep))
    return call.result("Add", total, largest if keep else call.step("Squeeze", largest, axes=axes))


@aten("cumsum.default")
def running_sum(call: Site):
    x = in_dtype(call, call.tensor("self"))
    if call.type_of(x).dtype.kind in "biu" and call.type_of(x).dtype != np.int64 and not call.has("dtype"):
        x = call.step("Cast", x, to="int64")
    return call.result("CumSum", x, axis=call.plain("dim"))


@aten("any.dim", "any.dims", "any.default", "all.dim", "all.dims", "all.default")
def any_or_all(call: Site):
    """The largest or the smallest of truth values taken as numbers."""
    x = call.tensor("self")
    axes, keep = reduced_axes(call, x), int(call.plain("keepdim", False))
    truth = call.step("Cast", x, to="bool") if call.type_of(x).dtype != bool else x
    operator = "ReduceMax" if ".any." in call.call.target else "ReduceMin"
    return call.result(
        "Cast", call.step(operator, call.step("Cast", truth, to="int32"), axes=axes, keepdims=keep), to="bool"
    )
