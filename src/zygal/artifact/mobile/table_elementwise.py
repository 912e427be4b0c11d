"""Arithmetic, comparisons and activations, element by element."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.views import View, as_it_broadcasts, natural
from zygal.mobile.model import Operator
from zygal.mobile.schema import DTYPE_NUMBERS

_UNARY = {
    "Relu": "RELU",
    "Tanh": "TANH",
    "Sigmoid": "LOGISTIC",
    "HardSwish": "HARD_SWISH",
    "Sqrt": "SQRT",
    "Exp": "EXP",
    "Abs": "ABS",
    "Neg": "NEG",
    "Ceil": "CEIL",
    "Floor": "FLOOR",
    "Round": "ROUND",
    "Sign": "SIGN",
    "Sin": "SIN",
    "Cos": "COS",
    "Log": "LOG",
    "Not": "LOGICAL_NOT",
}
_BINARY = {
    "Add": "ADD",
    "Sub": "SUB",
    "Mul": "MUL",
    "Div": "DIV",
    "Pow": "POW",
    "Less": "LESS",
    "Greater": "GREATER",
    "LessOrEqual": "LESS_EQUAL",
    "GreaterOrEqual": "GREATER_EQUAL",
    "Equal": "EQUAL",
    "And": "LOGICAL_AND",
    "Or": "LOGICAL_OR",
    "Xor": "NOT_EQUAL",
    "Max": "MAXIMUM",
    "Min": "MINIMUM",
}
_TRUTH = ("Less", "Greater", "LessOrEqual", "GreaterOrEqual", "Equal", "And", "Or", "Xor")
_ERF = (0.254829592, -0.284496736, 1.421413741, -1.453152027, 1.061405429)
MOST_BROADCAST_AXES = 6
"""Element-wise operators of the runtime go no further."""


def each(site: Site, function: Callable[[int], int]) -> View:
    """A function of every element by itself, whatever the order."""
    view = site.view()
    tensor = site.plain(view) if view.array is not None else view.tensor
    return View(view.order, function(tensor), permutation=view.permutation)


@spelt(*_UNARY)
def unary(site: Site) -> View:
    return each(site, lambda x: site.unary(_UNARY[site.node.operator], x))


def together(site: Site, views: Sequence[View]) -> tuple[list[int], tuple[int, ...]]:
    """The tensors of values that broadcast, in one order, and that order."""
    rank = max(view.rank for view in views)
    if rank > MOST_BROADCAST_AXES:
        site.refuse(f"works on {rank} axes, more than {MOST_BROADCAST_AXES}")
    views = [site.gathered(view) for view in views]
    widest = [view for view in views if view.rank == rank and view.array is None] or [
        view for view in views if view.rank == rank
    ]
    # The largest value stays as it lies; gates of one pixel go along with it.
    lead = max(widest, key=lambda view: np.prod([1 if size == 1 else 2 for size in _sizes(site, view)]))
    order = lead.order if lead.array is None else natural(rank)
    return [_laid_out(site, view, order) for view in views], order


def _sizes(site: Site, view: View) -> tuple:
    return view.array.shape if view.array is not None else site.shape_of(view.tensor)


def _laid_out(site: Site, view: View, order: tuple[int, ...]) -> int:
    rank, missing = len(order), len(order) - view.rank
    if view.array is not None:
        if view.array.size == 1:
            return site.constant(view.array.reshape(()))
        return site.constant(as_it_broadcasts(view.array, order))
    if missing:
        tensor = site.plain(view)
        view = View(natural(rank), site.reshape_tensor(tensor, (1,) * missing + site.shape_of(tensor)))
    return site.in_order(view, order)


@spelt(*_BINARY)
def binary(site: Site) -> View:
    tensors, order = together(site, site.views())
    dtype = np.dtype(bool) if site.node.operator in _TRUTH else None
    if site.node.operator == "Div" and site.made().dtype.kind in "iu":
        site.refuse("divides whole numbers")
    made = tensors[0]
    for other in tensors[1:]:
        made = site.binary(_BINARY[site.node.operator], made, other, dtype)
    return View(order, made)


@spelt("Mod")
def remainder(site: Site) -> View:
    """With the sign of the divisor; or with that of the dividend, as the remainder of both sizes."""
    tensors, order = together(site, site.views())
    if not site.attributes()["fmod"]:
        return View(order, site.binary("FLOOR_MOD", *tensors))
    if site.made().dtype != np.float32:
        site.refuse("takes remainders of whole numbers with the sign of the dividend")
    size = site.binary("FLOOR_MOD", *(site.unary("ABS", each) for each in tensors))
    return View(order, site.binary("MUL", size, site.unary("SIGN", tensors[0])))


@spelt("Where")
def chosen(site: Site) -> View:
    tensors, order = together(site, site.views())
    return View(order, site.step("SELECT_V2", tensors, site.sizes_in(order), site.made().dtype))


@spelt("Identity")
def same(site: Site) -> View:
    return site.view()


@spelt("Cast")
def cast(site: Site) -> View:
    view, dtype = site.gathered(site.view()), site.made().dtype
    tensor = site.plain(view) if view.array is not None else view.tensor
    made = site.lowering.tensor(site.shape_of(tensor), dtype, site.stem)
    if site.dtype_of(made) == site.dtype_of(tensor):
        return View(view.order, tensor)
    options = {
        "in_data_type": DTYPE_NUMBERS[site.dtype_of(tensor)],
        "out_data_type": DTYPE_NUMBERS[site.dtype_of(made)],
    }
    site.lowering.operators.append(Operator("CAST", [tensor], [made], options))
    return View(view.order, made)


@spelt("IsNaN")
def not_a_number(site: Site) -> View:
    return each(site, lambda x: site.binary("NOT_EQUAL", x, x, np.dtype(bool)))


@spelt("IsInf")
def infinite(site: Site) -> View:
    """The runtime's arithmetic ends at the largest number of float32, where others have infinity."""
    largest = float(np.finfo(np.float32).max)
    return each(
        site, lambda x: site.binary("GREATER_EQUAL", site.unary("ABS", x), site.number(largest, x), np.dtype(bool))
    )


@spelt("Reciprocal")
def reciprocal(site: Site) -> View:
    return each(site, lambda x: site.binary("DIV", site.number(1.0, x), x))


@spelt("LeakyRelu")
def leaky(site: Site) -> View:
    return each(site, lambda x: site.unary("LEAKY_RELU", x, alpha=float(site.attributes()["alpha"])))


@spelt("Elu")
def elu(site: Site) -> View:
    alpha = site.attributes()["alpha"]
    if alpha == 1.0:
        return each(site, lambda x: site.unary("ELU", x))
    return each(site, lambda x: _bent(site, x, alpha))


def _bent(site: Site, x: int, alpha: float) -> int:
    """max(x, 0) + alpha * elu(min(x, 0))."""
    below = site.unary("ELU", site.binary("MINIMUM", x, site.number(0.0, x)))
    return site.binary("ADD", site.unary("RELU", x), site.binary("MUL", below, site.number(alpha, x)))


@spelt("Selu")
def selu(site: Site) -> View:
    given = site.attributes()
    return each(site, lambda x: site.binary("MUL", _bent(site, x, given["alpha"]), site.number(given["gamma"], x)))


@spelt("Softsign")
def softsign(site: Site) -> View:
    return each(site, lambda x: site.binary("DIV", x, site.binary("ADD", site.unary("ABS", x), site.number(1.0, x))))


@spelt("Softplus")
def softplus(site: Site) -> View:
    """max(x, 0) + log(1 + exp(-|x|)), which does not overflow."""

    def of(x: int) -> int:
        small = site.unary("EXP", site.unary("NEG", site.unary("ABS", x)))
        return site.binary(
            "ADD", site.unary("RELU", x), site.unary("LOG", site.binary("ADD", small, site.number(1.0, x)))
        )

    return each(site, of)


@spelt("HardSigmoid")
def hard_sigmoid(site: Site) -> View:
    given = site.attributes()

    def of(x: int) -> int:
        if abs(given["alpha"] * 6 - 1) < 1e-6 and given["beta"] == 0.5:
            six = site.unary("RELU6", site.binary("ADD", x, site.number(3.0, x)))
            return site.binary("MUL", six, site.number(1 / 6, x))
        line = site.binary("ADD", site.binary("MUL", x, site.number(given["alpha"], x)), site.number(given["beta"], x))
        return _between(site, line, 0.0, 1.0)

    return each(site, of)


def _between(site: Site, x: int, low: float | None, high: float | None) -> int:
    if low is not None:
        x = site.binary("MAXIMUM", x, site.number(low, x))
    return x if high is None else site.binary("MINIMUM", x, site.number(high, x))


@spelt("Clip")
def clip(site: Site) -> View:
    given = site.attributes()
    low, high = given["min"], given["max"]
    named = (
        {(0, 6): "RELU6", (0, None): "RELU", (-1, 1): "RELU_N1_TO_1"}.get((low, high))
        if site.type().dtype == np.float32
        else None
    )
    return each(site, lambda x: site.unary(named, x) if named else _between(site, x, low, high))


@spelt("PRelu")
def by_own_slopes(site: Site) -> View:
    tensors, order = together(site, site.views())
    return View(order, site.step("PRELU", tensors, site.sizes_in(order), site.made().dtype))


@spelt("Gelu")
def gelu(site: Site) -> View:
    return each(site, lambda x: site.unary("GELU", x, approximate=False))


@spelt("Erf")
def error_function(site: Site) -> View:
    """By a rational approximation with an error below 1.5e-7; Abramowitz and Stegun, 1964, 7.1.26."""

    def of(x: int) -> int:
        size, one = site.unary("ABS", x), site.number(1.0, x)
        t = site.binary("DIV", one, site.binary("ADD", site.binary("MUL", size, site.number(0.3275911, x)), one))
        total = site.number(_ERF[-1], x)
        for coefficient in _ERF[-2::-1]:
            total = site.binary("ADD", site.binary("MUL", total, t), site.number(coefficient, x))
        bell = site.unary("EXP", site.unary("NEG", site.binary("MUL", x, x)))
        rest = site.binary("MUL", site.binary("MUL", total, t), bell)
        return site.binary("MUL", site.unary("SIGN", x), site.binary("SUB", one, rest))

    return each(site, of)


@spelt("Tan")
def tangent(site: Site) -> View:
    return each(site, lambda x: site.binary("DIV", site.unary("SIN", x), site.unary("COS", x)))


@spelt("Softmax", "LogSoftmax")
def softmax(site: Site) -> View:
    view = site.gathered(site.view())
    axis = site.attributes()["axis"] % view.rank
    order = (
        view.order
        if view.order[-1] == axis and view.array is None
        else (*(each for each in natural(view.rank) if each != axis), axis)
    )
    x = site.in_order(view, order)
    options = {"beta": 1.0} if site.node.operator == "Softmax" else {}
    return View(order, site.unary("SOFTMAX" if options else "LOG_SOFTMAX", x, **options))
