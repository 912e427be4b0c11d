"""ATen operators that reduce axes."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_creation import in_dtype
from zygal.sources.recipes.normalisation import variance as variance_of


def reduced_axes(site: Site, value: str, name: str = "dim") -> list[int]:
    """The axes that a call reduces, from the front; all of them where none is given."""
    axes, rank = site.plain(name), site.type_of(value).rank
    if axes is None or axes == []:
        return list(range(rank))
    return [axis % rank for axis in ([axes] if isinstance(axes, int) else axes)]


def _reduction(operator: str, *names: str) -> None:
    def reduction(site: Site):
        x = in_dtype(site, site.tensor("self"))
        if (
            site.type_of(x).dtype == bool
            or operator in ("ReduceSum", "ReduceProd")
            and site.type_of(x).dtype.kind in "iu"
        ):
            x = x if site.type_of(x).dtype == np.int64 or site.has("dtype") else site.step("Cast", x, to="int64")
        keep = int(site.plain("keepdim", False))
        return site.step(operator, x, axes=reduced_axes(site, x), keepdims=keep)

    aten(*names)(reduction)


_reduction("ReduceMean", "mean.dim", "mean.default")
_reduction("ReduceSum", "sum.dim_IntList", "sum.default")
_reduction("ReduceMax", "amax.default", "max.default")
_reduction("ReduceMin", "amin.default", "min.default")
_reduction("ReduceProd", "prod.dim_int", "prod.default")


@aten("max.dim", "min.dim")
def extreme_with_place(site: Site):
    """The extreme and its place; both are made, and what nobody reads is dropped later."""
    x, axis, keep = site.tensor("self"), site.plain("dim"), int(site.plain("keepdim", False))
    largest = "max" in site.target
    value = site.step("ReduceMax" if largest else "ReduceMin", x, axes=[axis], keepdims=keep)
    index = site.step("ArgMax", x if largest else site.step("Neg", x), axis=axis, keepdims=keep)
    return value, index


@aten("aminmax.default")
def both_extremes(site: Site):
    x, keep = site.tensor("self"), int(site.plain("keepdim", False))
    return tuple(site.step(each, x, axes=reduced_axes(site, x), keepdims=keep) for each in ("ReduceMin", "ReduceMax"))


@aten("count_nonzero.default", "count_nonzero.dim_IntList")
def count_nonzero(site: Site):
    x = site.tensor("self")
    truth = site.step("Cast", site.step("Cast", x, to="bool"), to="int64")
    return site.step("ReduceSum", truth, axes=reduced_axes(site, x), keepdims=0)


@aten("argmax.default")
def place_of_largest(site: Site):
    if site.plain("dim") is None:
        site.refuse("looks for the largest over everything, the batch included")
    return site.step("ArgMax", site.tensor("self"), axis=site.plain("dim"), keepdims=int(site.plain("keepdim", False)))


def _variance(site: Site, x: str, keep: bool) -> str:
    correction = site.plain("correction", 1 if site.plain("unbiased", True) else 0)
    return variance_of(site, x, reduced_axes(site, x), keep, correction)


@aten("var.correction", "var.dim", "var.default")
def variance(site: Site):
    x = site.tensor("self")
    return _variance(site, x, bool(site.plain("keepdim", False)))


@aten("std.correction", "std.dim", "std.default")
def standard_deviation(site: Site):
    x = site.tensor("self")
    return site.step("Sqrt", _variance(site, x, bool(site.plain("keepdim", False))))


@aten("var_mean.correction", "var_mean.dim", "std_mean.correction", "std_mean.dim")
def variance_and_mean(site: Site):
    x = site.tensor("self")
    axes, keep = reduced_axes(site, x), int(site.plain("keepdim", False))
    if "std_mean" in site.target:
        made = site.step("Sqrt", _variance(site, x, bool(keep)))
    else:
        made = _variance(site, x, bool(keep))
    return made, site.step("ReduceMean", x, axes=axes, keepdims=keep)


@aten(
    "linalg_vector_norm.default",
    "norm.ScalarOpt_dim",
    "norm.ScalarOpt_dim_dtype",
    "frobenius_norm.dim",
    "linalg_norm.default",
)
def length(site: Site):
    x = in_dtype(site, site.tensor("self"))
    order = site.plain("ord", site.plain("p", 2))
    order = 2 if order is None else order
    if "linalg_norm" in site.target and site.has("ord") and len(reduced_axes(site, x)) > 1:
        site.refuse("takes a norm of matrices by their singular values, which is not supported")
    axes, keep = reduced_axes(site, x), int(site.plain("keepdim", False))
    if order in (1, 2):
        return site.step(f"ReduceL{order:.0f}", x, axes=axes, keepdims=keep)
    size = site.step("Abs", x)
    if float(order) in (np.inf, -np.inf):
        return site.step("ReduceMax" if float(order) > 0 else "ReduceMin", size, axes=axes, keepdims=keep)
    if order == 0:
        differs = site.step("Cast", site.step("Not", site.step("Equal", x, site.number(0.0, x))), to="float32")
        return site.step("ReduceSum", differs, axes=axes, keepdims=keep)
    powers = site.step("ReduceSum", site.step("Pow", size, site.number(float(order), x)), axes=axes, keepdims=keep)
    return site.step("Pow", powers, site.number(1 / float(order), x))


@aten("logsumexp.default")
def log_of_sum(site: Site):
    x = site.tensor("self")
    axes, keep = reduced_axes(site, x), int(site.plain("keepdim", False))
    largest = site.step("ReduceMax", x, axes=axes, keepdims=1)
    largest = site.step("Where", site.step("IsInf", largest), site.number(0.0, x), largest)
    powers = site.step("Exp", site.step("Sub", x, largest))
    total = site.step("Log", site.step("ReduceSum", powers, axes=axes, keepdims=keep))
    return site.step("Add", total, largest if keep else site.step("Squeeze", largest, axes=axes))


@aten("cumsum.default")
def running_sum(site: Site):
    x = in_dtype(site, site.tensor("self"))
    if site.type_of(x).dtype.kind in "biu" and site.type_of(x).dtype != np.int64 and not site.has("dtype"):
        x = site.step("Cast", x, to="int64")
    return site.step("CumSum", x, axis=site.plain("dim"))


@aten("any.dim", "any.dims", "any.default", "all.dim", "all.dims", "all.default")
def any_or_all(site: Site):
    """The largest or the smallest of truth values taken as numbers."""
    x = site.tensor("self")
    axes, keep = reduced_axes(site, x), int(site.plain("keepdim", False))
    truth = site.step("Cast", x, to="bool") if site.type_of(x).dtype != bool else x
    operator = "ReduceMax" if ".any." in site.target else "ReduceMin"
    return site.step(
        "Cast", site.step(operator, site.step("Cast", truth, to="int32"), axes=axes, keepdims=keep), to="bool"
    )
