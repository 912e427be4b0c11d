"""Rearranging, joining, picking and reducing."""

from __future__ import annotations

import numpy as np

from zygal.artifact.mobile.site import Site, spelt
from zygal.artifact.mobile.views import View, blocks, channels_last, natural, permuted
from zygal.graph import Batch, Node

_KEEP_COLUMNS = (
    "Relu",
    "Tanh",
    "Sigmoid",
    "HardSwish",
    "LeakyRelu",
    "Elu",
    "Clip",
    "Identity",
    "HardSigmoid",
    "Softplus",
)


@spelt("Reshape", "Flatten", "Squeeze", "Unsqueeze")
def reshaped(site: Site) -> View:
    view, before, after = site.gathered(site.view()), site.type().shape, site.made().shape
    if view.array is None and view.order != natural(view.rank):
        kept = _reshaped_as_it_lies(site, view, before, after)
        if kept is not None:
            return kept
        if (
            len(after) == 2
            and before[0] == after[0]
            and view.order[0] == 0
            and _meets_products(site, site.node.outputs[0])
        ):
            places = (
                np.arange(int(after[1]))
                .reshape(before[1:])
                .transpose([axis - 1 for axis in view.order[1:]])
                .reshape(-1)
            )
            return View((0, 1), site.reshape_tensor(view.tensor, after), permutation=places)
    return site.reshaped(view, after)


def _reshaped_as_it_lies(site: Site, view: View, before, after) -> View | None:
    """Axes that are split or joined among themselves need not be put in order first; None where they must."""
    groups = blocks(before, after)
    if groups is None:
        return None
    unmoved: list[tuple[int, list[int]]] = []
    for one, other in groups:
        wide = [axis for axis in one if before[axis] != 1]
        places = [view.order.index(axis) for axis in wide]
        whole = places == list(range(places[0], places[0] + len(places))) if places else True
        between = [view.order[at] for at in range(min(places), max(places) + 1)] if places else []
        if not whole and any(before[axis] != 1 and axis not in wide for axis in between) or places != sorted(places):
            return None
        unmoved.append((places[0] if places else len(view.order), other))
    order = tuple(axis for _, other in sorted(unmoved, key=lambda each: each[0]) for axis in other)
    return View(order, site.reshape_tensor(view.tensor, permuted(after, order)))


def _meets_products(site: Site, name: str) -> bool:
    """Whether all that reads a matrix is, behind activations, a product with a constant."""
    readers = site.lowering.readers(name)
    if not readers or name in site.lowering.graph.outputs:
        return False
    for node in readers:
        known = (
            node.operator == "Gemm"
            and node.inputs[0] == name
            and node.inputs[1] in site.lowering.graph.constants
            and not node.attributes.get("transA")
        )
        passed = node.operator in _KEEP_COLUMNS and _meets_products(site, node.outputs[0])
        if not (known or passed):
            return False
    return True


@spelt("Transpose")
def transposed(site: Site) -> View:
    """Only the counting of the axes changes; what needs another order turns them then."""
    view = site.gathered(site.view())
    order = list(site.attributes()["perm"] or range(view.rank)[::-1])
    if view.array is not None:
        return View(natural(view.rank), array=view.array.transpose(order))
    return View(tuple(order.index(axis) for axis in view.order), view.tensor)


@spelt("Concat")
def joined(site: Site) -> View:
    axis, rank = site.attributes()["axis"] % site.made().rank, site.made().rank
    token = _tokens_alone(site, axis) or _token_in_front(site, axis)
    if token is not None:
        return token
    views = [site.gathered(_whole(site, place)) for place in range(len(site.node.inputs))]
    order = _cheapest_order(site, views, rank)
    made = site.step(
        "CONCATENATION",
        [site.in_order(view, order) for view in views],
        site.sizes_in(order),
        site.made().dtype,
        axis=order.index(axis),
        activation=0,
    )
    return View(order, made)


def _cheapest_order(site: Site, views: list[View], rank: int) -> tuple[int, ...]:
    """The order that moves the fewest values: of images with their channels last, if that is among the cheapest."""
    orders = [channels_last(rank)] if rank == 4 else []
    orders += dict.fromkeys(view.order for view in views if view.array is None)
    orders = orders or [natural(rank)]
    return min(orders, key=lambda order: sum(view.array is None and site.moves(view, order) for view in views))


def _whole(site: Site, place: int) -> View:
    """A value with as many images as the graph says: what is the same for all of them is repeated."""
    view, shape = site.view(place), site.type(place).shape
    if (
        view.array is not None
        or view.permutation is not None
        or permuted(shape, view.order) == site.shape_of(view.tensor)
    ):
        return view
    return View(natural(view.rank), repeated(site, site.plain(view), shape))


def repeated(site: Site, x: int, shape) -> int:
    """A tensor repeated up to sizes that may hold the batch."""
    if not any(isinstance(size, Batch) for size in shape):
        return site.step("BROADCAST_TO", [x, site.numbers(list(shape))], shape, site.dtype_of(x), 2)
    source = site.lowering.inputs[0]
    count = site.step("SHAPE", [source], (len(site.shape_of(source)),), np.int32, out_type=2)
    count = site.step("SLICE", [count, site.numbers([0]), site.numbers([1])], (1,), np.int32)
    parts = []
    for size in shape:
        parts.append(
            site.binary("MUL", count, site.numbers([size.times])) if isinstance(size, Batch) else site.numbers([size])
        )
    sizes = site.step("CONCATENATION", parts, (len(parts),), np.int32, axis=0, activation=0)
    return site.step("BROADCAST_TO", [x, sizes], shape, site.dtype_of(x), 2)


def _tokens_alone(site: Site, axis: int) -> View | None:
    """Several things that are the same for all images, which are then joined to what is not."""
    places = range(len(site.node.inputs))
    if not axis or not all(_is_repeated(site, place) for place in places) or not _is_only_joined(site):
        return None
    arrays = [np.broadcast_to(site.view(place).array, (1, *map(int, site.type(place).shape[1:]))) for place in places]
    return View(natural(site.made().rank), array=np.concatenate(arrays, axis))


def _is_only_joined(site: Site) -> bool:
    """Whether all that reads a result joins it, other than along the batch."""
    name, rank = site.node.outputs[0], site.made().rank
    return name not in site.lowering.graph.outputs and all(
        node.operator == "Concat" and node.attributes["axis"] % rank for node in site.lowering.readers(name)
    )


def _token_in_front(site: Site, axis: int) -> View | None:
    """What is the same for all images, joined to what is not: the latter with a border of zeros each, plus the former
    with one.

    So no size depends on the batch, which the runtime would have to work out again for every call.
    """
    shapes = [site.type(place).shape for place in range(len(site.node.inputs))]
    same = [place for place in range(len(shapes)) if _is_repeated(site, place)]
    others = [place for place in range(len(shapes)) if place not in same]
    if not same or not others or site.made().dtype != np.float32 or site.made().rank > 4:
        return None
    views = [site.gathered(site.view(place)) for place in others]
    if any(view.array is not None for view in views):
        return None
    order, wide = views[0].order, None
    for place, view in zip(others, views):
        ahead = sum(int(shapes[each][axis]) for each in range(place))
        behind = int(site.made().shape[axis]) - ahead - int(shapes[place][axis])
        pads = [[ahead, behind] if each == axis else [0, 0] for each in order]
        bordered = site.step("PAD", [site.in_order(view, order), site.numbers(pads)], site.sizes_in(order), np.float32)
        wide = bordered if wide is None else site.binary("ADD", wide, bordered)
    parts = []
    for place, shape in enumerate(shapes):
        blank = np.zeros((1, *map(int, shape[1:])), np.float32)
        parts.append(np.broadcast_to(site.view(place).array, blank.shape) if place in same else blank)
    row = np.concatenate(parts, axis).transpose(order)
    return View(order, site.binary("ADD", wide, site.constant(np.ascontiguousarray(row), "token")))


def _is_repeated(site: Site, place: int) -> bool:
    """Whether a value is a constant that is the same for all images."""
    view, shape = site.view(place), site.type(place).shape
    return view.array is not None and isinstance(shape[0], Batch) and view.array.shape[0] == 1


@spelt("Expand")
def expanded(site: Site) -> View:
    """What element-wise operators and joins read needs no repeating: they broadcast."""
    view, shape, missing = site.gathered(site.view()), site.made().shape, site.made().rank - site.type().rank
    if view.array is not None and isinstance(shape[0], Batch):
        wide = view.array.reshape((1,) * missing + view.array.shape)
        if wide.shape[0] == 1 and _is_only_joined(site):
            return View(natural(wide.ndim), array=np.broadcast_to(wide, (1, *map(int, shape[1:]))))
    if (
        all(_broadcasts(site, node) for node in site.lowering.readers(site.node.outputs[0]))
        and site.node.outputs[0] not in site.lowering.graph.outputs
    ):
        return site.view()
    x = site.plain(view)
    if missing:
        x = site.reshape_tensor(x, (1,) * missing + site.shape_of(x))
    return site.result(x if site.shape_of(x) == shape else repeated(site, x, shape))


def _broadcasts(site: Site, node: Node) -> bool:
    """Whether a node is an element-wise operation whose other operands have the full shape already."""
    types, whole = site.lowering.graph.types, site.lowering.graph.types[node.outputs[0]].shape
    others = [types[name].shape for name in node.inputs if name != site.node.outputs[0]]
    return node.operator in ("Add", "Sub", "Mul", "Div", "Max", "Min") and whole in others


@spelt("Shape")
def sizes(site: Site) -> View:
    x, given = site.plain(site.view()), site.attributes()
    rank = len(site.shape_of(x))
    first, last, _ = slice(given["start"], given["end"]).indices(rank)
    whole = site.step("SHAPE", [x], (rank,), np.int32, out_type=2)
    made = site.step("SLICE", [whole, site.numbers([first]), site.numbers([last - first])], (last - first,), np.int32)
    return View((0,), made)


@spelt("Tile")
def tiled(site: Site) -> View:
    view, times = site.unmoved(), site.attributes()["repeats"]
    numbers = site.numbers([times[axis] for axis in view.order])
    return View(view.order, site.step("TILE", [view.tensor, numbers], site.sizes_in(view.order), site.made().dtype))


@spelt("Pad")
def bordered(site: Site) -> View:
    view, given = site.unmoved(), site.attributes()
    begins, ends = given["pads"][: view.rank], given["pads"][view.rank :]
    table = [[begins[axis], ends[axis]] for axis in view.order]
    x, shape = view.tensor, list(site.shape_of(view.tensor))
    if min(map(min, table)) < 0:
        x, table = _cut(site, x, table)
    shape = [size if isinstance(size, Batch) else size + sum(pair) for size, pair in zip(site.shape_of(x), table)]
    if given["mode"] == "edge":
        return View(view.order, _by_gathering(site, x, table))
    if given["mode"] == "reflect":
        return View(view.order, site.step("MIRROR_PAD", [x, site.numbers(table)], shape, site.dtype_of(x), mode=0))
    if given["mode"] != "constant":
        site.refuse(f"pads by {given['mode']}")
    quantization = site.lowering.tensors[x].quantization
    if given["value"] == (0 if quantization is None else quantization.zero_points[0]):
        return View(view.order, site.step("PAD", [x, site.numbers(table)], shape, site.dtype_of(x)))
    return View(
        view.order,
        site.step("PADV2", [x, site.numbers(table), site.number(given["value"], x)], shape, site.dtype_of(x)),
    )


def _cut(site: Site, x: int, table) -> tuple[int, list[list[int]]]:
    """The borders that are negative are cut off; those that are left."""
    shape = site.shape_of(x)
    begins = [max(-begin, 0) for begin, _ in table]
    sizes = [
        size if isinstance(size, Batch) else size - begin - max(-end, 0)
        for size, begin, (_, end) in zip(shape, begins, table)
    ]
    wanted = site.numbers([-1 if isinstance(size, Batch) else size for size in sizes])
    made = site.step("SLICE", [x, site.numbers(begins), wanted], sizes, site.dtype_of(x))
    return made, [[max(each, 0) for each in pair] for pair in table]


def _by_gathering(site: Site, x: int, table) -> int:
    """The border's elements again and again."""
    for axis, (begin, end) in enumerate(table):
        if begin or end:
            size = int(site.shape_of(x)[axis])
            x = taken(site, x, np.clip(np.arange(-begin, size + end), 0, size - 1), axis)
    return x


def taken(site: Site, x: int, places: np.ndarray, axis: int) -> int:
    shape = site.shape_of(x)
    sizes = (*shape[:axis], *places.shape, *shape[axis + 1 :])
    return site.step(
        "GATHER",
        [x, site.constant(places.astype(np.int32), "places")],
        sizes,
        site.dtype_of(x),
        axis=axis,
        batch_dims=0,
    )
