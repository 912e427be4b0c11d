"""Flattening, reshaping, joining, scaling and matrix products of values whose axes lie in some order."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from zygal.sources.layouts.views import LaidOut, View, is_batch


def along(call: LaidOut, view: View, axes: list[int], array: np.ndarray, hint: str) -> str:
    """An array with one number for each place along some axes, as a constant that broadcasts against the view."""
    shape = [1] * len(view.order)
    for axis, size in zip(axes, array.shape):
        shape[axis] = size
    return call.constant(np.transpose(array.reshape(shape), view.order).astype(np.float32), hint)


def scaled(call: LaidOut, view: View, axes: list[int], factor: np.ndarray | None, offset: np.ndarray | None) -> View:
    """The view times one array plus another, both lying along some axes."""
    name = call.gathered(view)
    if factor is not None:
        name = call.step("Mul", name, along(call, view, axes, factor, "factor"))
    if offset is not None:
        name = call.step("Add", name, along(call, view, axes, offset, "offset"))
    return View(name, view.order)


def softmax_along(call: LaidOut, view: View, axis: int, log: bool = False) -> View:
    """Softmax along one axis of a view."""
    position = view.order.index(axis % len(view.order))
    return View(call.step("LogSoftmax" if log else "Softmax", call.gathered(view), axis=position), view.order)


def permuted(call: LaidOut, view: View, axes: Sequence[int]) -> View:
    """Only the counting of the axes changes; what needs another order in memory turns it then."""
    return View(call.gathered(view), tuple(list(axes).index(axis) for axis in view.order))


def product(call: LaidOut, view: View, kernel: np.ndarray, bias: np.ndarray | None) -> View:
    """x kernel + bias along the last axis, kernel [width, M].

    Channels of an image that lies channels first are mixed by a convolution of one pixel.
    """
    inputs = [call.constant(bias, "bias")] if bias is not None else []
    if len(view.order) == 2 and view.order == (0, 1):
        # The columns that a flattened image left in another order are met by rows in that order.
        rows = kernel if view.permutation is None else kernel[np.argsort(view.permutation)]
        return call.named_view(call.step("Gemm", view.name, call.constant(rows, "kernel"), *inputs))
    if view.order == (0, 3, 1, 2):
        weight = call.constant(kernel.T[:, :, None, None], "kernel")
        made = call.step(
            "Conv",
            view.name,
            weight,
            *inputs,
            strides=[1, 1],
            pads=[0] * 4,
            dilations=[1, 1],
            group=1,
            kernel_shape=[1, 1],
        )
        return View(made, view.order)
    made = call.step("MatMul", call.plain(view), call.constant(kernel, "kernel"))
    return call.named_view(call.step("Add", made, *inputs) if inputs else made)


def flattened(call: LaidOut, view: View, channels_first: bool = False) -> View:
    """All but the first axis as one. Columns keep the order in which the image lies; what reads them knows which is
    which."""
    rank, shape = call.rank(view), call.shape(view)
    if rank == 1:
        return call.named_view(call.step("Unsqueeze", view.name, axes=[1]))
    if rank == 2:
        return view
    if view.order[0] != 0:
        view = call.named_view(call.plain(view))
    order = view.order
    if channels_first:
        # The framework itself turns such images before it flattens them.
        order = tuple({0: 0, 1: rank - 1}.get(axis, axis - 1) for axis in view.order)
        shape = (shape[0], *shape[2:], shape[1])
    call.check_size(shape[1:])
    name = call.step("Flatten", call.gathered(view), axis=1)
    if any(is_batch(size) for size in shape[1:]):
        call.refuse("flattens the batch")
    places = np.arange(int(np.prod(shape[1:]))).reshape(shape[1:])
    layout = np.transpose(places, [axis - 1 for axis in order[1:]]).reshape(-1)  # the place of each column as it lies
    if np.array_equal(layout, np.arange(layout.size)):
        return View(name, (0, 1))
    return View(name, (0, 1), np.argsort(layout))


def reshaped_to(call: LaidOut, view: View, sizes: list[int]) -> View:
    """To sizes that leave out the batch; one may be -1."""
    shape = call.shape(view)
    count = int(np.prod(shape[1:], dtype=np.int64))
    sizes = [int(size) for size in sizes]
    if -1 in sizes:
        sizes[sizes.index(-1)] = count // max(-int(np.prod(sizes, dtype=np.int64)), 1)
    if int(np.prod(sizes, dtype=np.int64)) != count or min(sizes, default=1) < 0:
        call.refuse(f"reshapes {count} elements of an image to {sizes}")
    channels = shape[-1]
    if view.order != tuple(range(len(view.order))) and sizes[-1] == channels == count:
        # One pixel: nothing moves.
        return call.named_view(call.reshaped(call.gathered(view), [shape[0], *sizes]))
    return call.named_view(call.reshaped(call.plain(view), [shape[0], *sizes]))


def joined(call: LaidOut, views: list[View], axis: int) -> View:
    """Values one behind the other along an axis, in the order in which the first lies."""
    views = [View(call.gathered(view), view.order) for view in views]
    order = views[0].order
    names = [call.in_order(view, order) for view in views]
    return View(call.step("Concat", *names, axis=order.index(axis % len(order))), order)
