"""Matrix products, and what is added to them."""

from __future__ import annotations

from math import prod

import numpy as np

from zygal.sources.layouts import View
from zygal.sources.layouts.arranging import along, product
from zygal.sources.recipes import activations
from zygal.sources.recipes.products import by_letters
from zygal.sources.tensorflow.site import NodeSite, operator
from zygal.sources.tensorflow.table_elementwise import with_origin


def _turned(call: NodeSite, name: str, whether: bool) -> str:
    rank = call.type_of(name).rank
    return call.step("Transpose", name, perm=[*range(rank - 2), rank - 1, rank - 2]) if whether else name


@operator("MatMul")
def matmul(call: NodeSite) -> View:
    turned = [bool(call.attribute(name, False)) for name in ("transpose_a", "transpose_b")]
    return multiplied(call, call.x(), call.x(1), *turned)


def multiplied(call: NodeSite, left: View, right: View, turn_left: bool = False, turn_right: bool = False) -> View:
    """Rows of an image are multiplied where the image lies, too; whichever of both is read stays."""
    kernel = (
        call.array(right.name) if right.order == tuple(range(len(right.order))) and right.permutation is None else None
    )
    if kernel is None or kernel.ndim != 2 or turn_left or call.array(left.name) is not None:
        return call.value(
            call.step(
                "MatMul", _turned(call, call.plain(left), turn_left), _turned(call, call.plain(right), turn_right)
            )
        )
    kernel = kernel.T if turn_right else kernel
    made = product(call, left, kernel, None)
    if left.origin is None:
        return made
    return View(made.name, made.order, made.permutation, product(call, left.origin, kernel, None))


@operator("BatchMatMul", "BatchMatMulV2", "BatchMatMulV3")
def several_products(call: NodeSite) -> View:
    turned = [bool(call.attribute(name, False)) for name in ("adj_x", "adj_y")]
    left, right = call.xs()
    if len(right.order) == 2 and call.array(right.name) is not None:
        return multiplied(call, left, right, *turned)
    names = [_turned(call, call.plain(view), whether) for view, whether in zip((left, right), turned)]
    return call.value(call.step("MatMul", *names))


@operator("Einsum")
def einsum(call: NodeSite) -> View:
    """An ellipsis is spelt out; a letter that stands twice in a term is a diagonal, which is refused by the graph."""
    equation, views = call.attribute("equation").replace(" ", ""), call.xs()
    given, _, made = equation.partition("->")
    terms = given.split(",")
    if len(terms) != len(views):
        call.refuse(f"states {len(terms)} operands and has {len(views)}")
    hidden = [
        len(view.order) - len(term.replace("...", "")) if "..." in term else 0 for term, view in zip(terms, views)
    ]
    spare = [letter for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ" if letter not in equation]
    most = max(hidden)
    terms = [term.replace("...", "".join(spare[most - count : most])) for term, count in zip(terms, hidden)]
    made = made.replace("...", "".join(spare[:most]))
    simple = _as_product(call, views, terms, made)
    if simple is not None:
        return simple
    names = [call.plain(view) for view in views]
    if len(terms) == 2 and not any(call.type_of(name).dtype.kind != "f" for name in names):
        return call.value(by_letters(call, *names, (terms[0], terms[1]), made))
    return call.value(call.step("Einsum", *names, equation=f"{','.join(terms)}->{made}"))


def _as_product(call: NodeSite, views: list[View], terms: list[str], made: str) -> View | None:
    """The last axes of a tensor times a constant, which is how dense layers are stated; None for anything else."""
    kernel = call.array(views[1].name) if len(views) == 2 else None
    if kernel is None or call.array(views[0].name) is not None:
        return None
    left, right = terms
    inner = "".join(letter for letter in left if letter in right)
    outer = right.removeprefix(inner) if right.startswith(inner) else ""
    if (
        not inner
        or not outer
        or not left.endswith(inner)
        or made != left.removesuffix(inner) + outer
        or len(set(left + outer)) != len(left + outer)
    ):
        return None
    depth = prod(kernel.shape[: len(inner)])
    if len(inner) == len(outer) == 1:
        return product(call, views[0], kernel, None)
    x = call.plain(views[0])
    ahead = list(call.type_of(x).shape[: len(left) - len(inner)])
    x = call.reshaped(x, [*ahead, depth]) if len(inner) > 1 else x
    result = product(call, call.value(x), kernel.reshape(depth, -1), None)
    return call.value(call.reshaped(call.plain(result), [*ahead, *kernel.shape[len(inner) :]]))


@operator("BiasAdd", "BiasAddV1")
def bias_add(call: NodeSite) -> View:
    view, bias = call.x(), call.x(1)
    return biased(call, view, bias)


def biased(call: NodeSite, view: View, bias: View) -> View:
    """One number for each channel added."""
    axis = len(view.order) - 1 if call.channels_last or len(view.order) < 3 else 1
    array = call.array(bias.name)

    def added(given: View) -> View:
        if array is None:
            names, lead = call.together([given, bias])
            return View(call.step("Add", *names), lead.order, lead.permutation)
        place = axis if given is view else len(given.order) - 1
        if given.permutation is not None and len(given.order) == 2:
            return View(
                call.step("Add", given.name, call.constant(array[np.argsort(given.permutation)], "bias")),
                given.order,
                given.permutation,
            )
        return View(call.step("Add", call.gathered(given), _like(call, given, place, array)), given.order)

    return with_origin(call, view, added)


def _like(call: NodeSite, view: View, axis: int, array: np.ndarray) -> str:
    if array.dtype.kind == "f":
        return along(call, view, [axis], array, "bias")
    shape = [1] * len(view.order)
    shape[axis] = array.size
    return call.constant(np.transpose(array.reshape(shape), view.order), "bias")


@operator("_FusedMatMul")
def fused_product(call: NodeSite) -> View:
    turned = [bool(call.attribute(name, False)) for name in ("transpose_a", "transpose_b")]
    return finished(call, multiplied(call, call.x(), call.x(1), *turned), 2)


def finished(call: NodeSite, made: View, place: int) -> View:
    """What an operator that was fused does behind its product: a bias, then an activation. place: of the first further
    input."""
    for name in ("num_args", "leakyrelu_alpha", "epsilon", "num_host_args"):
        call.attribute(name)
    for step in call.attribute("fused_ops") or []:
        if step == "BiasAdd":
            made = biased(call, made, call.x(place))
            place += 1
        elif step in _FUSED:
            made = call.elementwise(made, lambda x, own=step: _FUSED[own](call, x))
        else:
            call.refuse(f"is fused with {step}, which is not supported")
    return made


_FUSED = {
    "Relu": lambda call, x: call.step("Relu", x),
    "Relu6": lambda call, x: activations.clipped(call, x, 0, 6),
    "Elu": lambda call, x: call.step("Elu", x),
    "Tanh": lambda call, x: call.step("Tanh", x),
    "Sigmoid": lambda call, x: call.step("Sigmoid", x),
    "LeakyRelu": lambda call, x: call.step("LeakyRelu", x, alpha=float(call.attribute("leakyrelu_alpha", 0.2))),
    "GeluExact": lambda call, x: activations.gelu(call, x),
    "GeluApproximate": lambda call, x: activations.gelu(call, x, True),
}
