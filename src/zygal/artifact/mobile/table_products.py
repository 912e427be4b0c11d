"""Matrix products and normalisations."""

from __future__ import annotations

from math import prod

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.views import View, as_it_broadcasts, channels_last, natural
from zygal.graph import Batch
from zygal.mobile.model import Quantization


@spelt("Gemm")
def linear(site: Site) -> View:
    given = site.attributes()
    weight = site.array(1)
    if weight is None or given["transA"]:
        return _unknown_gemm(site, given)
    weight = weight if given["transB"] else weight.T
    view = site.view()
    if view.array is not None or view.order != (0, 1):
        view = View((0, 1), site.plain(view))
    quantized = site.view(1).quantized
    if quantized is not None and (given["alpha"] != 1 or given["beta"] != 1):
        site.refuse("scales a product with a weight that is stored in few bits")
    scale = np.float32(given["alpha"])
    weight = weight if scale == 1 else weight * scale
    bias = site.array(2) if site.has(2) else np.zeros(len(weight), np.float32)
    own = bias is not None and bias.ndim > 0 and bias.size == bias.shape[-1] == len(weight)
    added = bias.reshape(-1) * np.float32(given["beta"]) if own else np.zeros(len(weight), np.float32)
    addend = (
        site.weight(2, added, (0,), "bias")
        if own and site.has(2) and site.view(2).quantized
        else site.constant(added, "bias")
    )
    made = fully_connected(site, view.tensor, _columns(site, weight, given, view.permutation), len(weight), addend)
    if own:
        return View((0, 1), made)
    addend = site.binary("MUL", site.plain(site.view(2)), site.numbers(given["beta"], "float32"))
    return View((0, 1), site.binary("ADD", made, addend))


def _columns(site: Site, weight: np.ndarray, given, permutation: np.ndarray | None) -> int:
    """The weight [outputs, inputs] with its columns as the matrix before it has them."""
    taken = weight if permutation is None else weight[:, permutation]
    made, quantized = site.constant(taken, "weight"), site.view(1).quantized
    if quantized is not None:
        numbers, quantization = quantized[0] if given["transB"] else quantized[0].T, quantized[1]
        kept = numbers if permutation is None else numbers[:, permutation]
        site.lowering.remember(
            made,
            kept,
            Quantization(
                quantization.scales,
                quantization.zero_points,
                (quantization.axis if given["transB"] else 1 - quantization.axis) if quantization.per_axis else 0,
            ),
        )
    return made


def fully_connected(site: Site, x: int, weight: int, outputs: int, bias: int | None) -> int:
    """x [..., inputs] by a weight [outputs, inputs]."""
    sizes = (*site.shape_of(x)[:-1], outputs)
    keeps = len(sizes) > 2
    inputs = [x, weight, *([bias] if bias is not None else [])]
    return site.step(
        "FULLY_CONNECTED",
        inputs,
        sizes,
        np.float32,
        5 if keeps else 1,
        activation=0,
        weights_format=0,
        keep_num_dims=keeps,
    )


def _unknown_gemm(site: Site, given) -> View:
    """With a matrix on the right that depends on the image."""
    if given["alpha"] != 1 or given["beta"] != 1:
        site.refuse("scales a product of matrices that depend on the image")
    left, right = (site.plain(site.view(place)) for place in (0, 1))
    made = site.step(
        "BATCH_MATMUL",
        [left, right],
        site.made().shape,
        np.float32,
        adj_x=bool(given["transA"]),
        adj_y=bool(given["transB"]),
    )
    if site.has(2):
        made = site.binary("ADD", made, site.plain(site.view(2)))
    return View((0, 1), made)


@spelt("MatMul")
def product(site: Site) -> View:
    resized = _of_image(site)
    if resized is not None:
        return resized
    right = site.array(1)
    if right is not None and right.size == prod(right.shape[-2:]) and right.dtype == np.float32:
        x = site.plain(site.view())
        matrix = right.reshape(right.shape[-2:])
        made = fully_connected(site, x, site.weight(1, matrix, (1, 0), "weight"), matrix.shape[1], None)
        return site.result(site.reshape_tensor(made, site.made().shape))
    tensors, transposed = zip(*(_matrix(site, site.view(place)) for place in (0, 1)))
    return site.result(
        site.step(
            "BATCH_MATMUL",
            tensors,
            site.made().shape,
            site.made().dtype,
            adj_x=transposed[0],
            adj_y=transposed[1],
        )
    )


def _is_image(view: View) -> bool:
    return view.array is None and view.order == channels_last(4)


def _of_image(site: Site) -> View | None:
    """A constant matrix along the rows or the columns of an image whose channels come last, as resizes are stated; else
    None."""
    left, right = site.views()
    order, n = channels_last(4), site.made().shape[0]
    if _is_image(left) and right.array is not None and right.rank == 2:
        matrix = site.constant(right.array.T[None, None], "columns")
        return View(
            order,
            site.step(
                "BATCH_MATMUL", [matrix, left.tensor], site.sizes_in(order), np.float32, adj_x=False, adj_y=False
            ),
        )
    if not (_is_image(right) and left.array is not None and left.rank == 2):
        return None
    _, height, width, channels = site.shape_of(right.tensor)
    lines = site.reshape_tensor(right.tensor, (n, height, width * channels))
    made = site.step(
        "BATCH_MATMUL",
        [site.constant(left.array[None], "rows"), lines],
        (n, len(left.array), width * channels),
        np.float32,
        adj_x=False,
        adj_y=False,
    )
    return View(order, site.reshape_tensor(made, site.sizes_in(order)))


def _matrix(site: Site, view: View) -> tuple[int, bool]:
    """A stack of matrices, and whether it lies turned."""
    view = site.gathered(view)
    order = natural(view.rank)
    swapped = (*order[:-2], order[-1], order[-2])
    if view.array is None and view.order == swapped:
        return view.tensor, True
    return site.in_order(view, order), False


@spelt("Einsum")
def sums_of_products(site: Site) -> View:
    """As a product of matrices where the letters allow it: those of both and the result in front, one group for each
    other kind."""
    given, _, made = site.attributes()["equation"].replace(" ", "").partition("->")
    terms = given.split(",")
    if len(terms) != 2:
        site.refuse(f"sums products by the equation {site.attributes()['equation']}")
    first, second = terms
    both = [letter for letter in first if letter in second]
    ahead, inner = [each for each in both if each in made], [each for each in both if each not in made]
    rows, columns = ([each for each in term if each not in both] for term in terms)
    if any(each not in made for each in rows + columns) or any(len(set(term)) != len(term) for term in (*terms, made)):
        site.refuse(f"sums products by the equation {site.attributes()['equation']}")
    sizes = dict(zip(first + second, (*site.type(0).shape, *site.type(1).shape)))
    tensors = []
    for place, term, order in ((0, first, [*ahead, *rows, *inner]), (1, second, [*ahead, *inner, *columns])):
        x = site.in_order(site.view(place), tuple(term.index(each) for each in order))
        groups = (rows, inner) if place == 0 else (inner, columns)
        tensors.append(
            site.reshape_tensor(x, (*(sizes[each] for each in ahead), *(_times(sizes, group) for group in groups)))
        )
    shape = (*(sizes[each] for each in ahead), _times(sizes, rows), _times(sizes, columns))
    result = site.step("BATCH_MATMUL", tensors, shape, np.float32, adj_x=False, adj_y=False)
    order = [*ahead, *rows, *columns]
    wide = site.reshape_tensor(result, [sizes[each] for each in order])
    return View(tuple(made.index(each) for each in order), wide)


def _times(sizes, letters):
    number, batches = 1, 0
    for each in letters:
        batches += isinstance(sizes[each], Batch)
        number *= sizes[each].times if isinstance(sizes[each], Batch) else sizes[each]
    return Batch(number) if batches else number


@spelt("BatchNormalization")
def by_statistics(site: Site) -> View:
    view, arrays = site.view(), [site.array(place) for place in range(1, 5)]
    if any(array is None for array in arrays):
        site.refuse("has statistics that depend on the image")
    scale, bias, mean, variance = (array.astype(np.float64) for array in arrays)
    factor = scale / np.sqrt(variance + site.attributes()["epsilon"])
    view = View(view.order, site.plain(view)) if view.array is not None else site.gathered(view)
    made = view.tensor
    for operator, line in (("MUL", factor), ("ADD", bias - mean * factor)):
        made = site.binary(operator, made, _along(site, line.astype(np.float32), 1, view.order))
    return View(view.order, made)


def _along(site: Site, line: np.ndarray, axis: int, order: tuple[int, ...]) -> int:
    """Numbers along one axis of the graph, as they broadcast in an order."""
    place = order.index(axis)
    return site.constant(line.reshape(-1, *(1,) * (len(order) - place - 1)), "line")


@spelt("LayerNormalization")
def over_features(site: Site) -> View:
    view, given = site.unmoved(), site.attributes()
    axes = list(range(given["axis"] % view.rank, view.rank))
    normal = _standardised(site, view, axes, given["epsilon"])
    for place, operator in ((1, "MUL"), (2, "ADD")):
        if not site.has(place):
            continue
        array = site.array(place)
        if array is None:
            site.refuse("has a scale or shift that depends on the image")
        normal = site.binary(operator, normal, site.constant(as_it_broadcasts(array, view.order), "line"))
    return View(view.order, normal)


@spelt("InstanceNormalization")
def over_places(site: Site) -> View:
    view, arrays = site.gathered(site.view()), [site.array(place) for place in (1, 2)]
    if any(array is None for array in arrays):
        site.refuse("has a scale or shift that depends on the image")
    normal = _standardised(site, view, list(range(2, view.rank)), site.attributes()["epsilon"])
    for operator, line in zip(("MUL", "ADD"), arrays):
        neutral = 1.0 if operator == "MUL" else 0.0
        if (line != neutral).any():
            normal = site.binary(operator, normal, _along(site, line, 1, view.order))
    return View(view.order, normal)


def _standardised(site: Site, view: View, axes: list[int], epsilon: float) -> int:
    """(x - mean) / sqrt(variance + epsilon)."""
    x, places = view.tensor, [at for at, axis in enumerate(view.order) if axis in axes]
    numbers = site.numbers(places)
    sizes = tuple(1 if at in places else size for at, size in enumerate(site.shape_of(x)))
    mean = site.step("MEAN", [x, numbers], sizes, np.float32, keep_dims=True)
    centred = site.binary("SUB", x, mean)
    variance = site.step("MEAN", [site.binary("MUL", centred, centred), numbers], sizes, np.float32, keep_dims=True)
    spread = site.unary("RSQRT", site.binary("ADD", variance, site.numbers(epsilon, "float32")))
    return site.binary("MUL", centred, spread)
