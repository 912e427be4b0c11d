"""Resizing images, by every grid that the framework has had. Each is two small matrices, or blocks where it is
exact."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.resampling import resampling_matrix
from zygal.sources.layouts import View
from zygal.sources.recipes.arranging import by_matrices, resized_by_nearest
from zygal.sources.tensorflow.site import NodeSite, operator

CUBIC_STEPS = 1024
"""The framework looks its cubic weights up in a table of so many steps between two pixels."""


def _wanted(call: NodeSite, place: int = 1) -> list[int]:
    wanted = [int(size) for size in call.static(place, "sizes").reshape(-1)]
    if len(wanted) != 2 or min(wanted) < 1:
        call.refuse(f"resizes to {wanted}")
    call.check_size(wanted)
    return wanted


def _grid(call: NodeSite) -> str:
    corners, centres = bool(call.attribute("align_corners", False)), bool(call.attribute("half_pixel_centers", False))
    if corners and centres:
        call.refuse("aligns corners and centres of pixels at once")
    return "align_corners" if corners else "half_pixel" if centres else "asymmetric"


def _places(size: int, wanted: int, grid: str) -> np.ndarray:
    """Where the new pixels lie in the old image; in float32, as the framework counts."""
    index = np.arange(wanted, dtype=np.float32)
    if grid == "align_corners" and wanted > 1:
        return index * np.float32((size - 1) / np.float32(wanted - 1))
    scale = np.float32(size) / np.float32(wanted)
    return (index + np.float32(0.5)) * scale - np.float32(0.5) if grid == "half_pixel" else index * scale


def _in_float(call: NodeSite, x: str) -> str:
    return x if call.type_of(x).dtype == np.float32 else call.step("Cast", x, to="float32")


@operator("ResizeBilinear")
def bilinear(call: NodeSite) -> View:
    x, order, sizes = call.image(call.x())
    grid, wanted = _grid(call), _wanted(call)
    x = _in_float(call, x)
    if wanted == sizes:
        return View(x, order)
    return View(by_matrices(call, x, [_linear(size, target, grid) for size, target in zip(sizes, wanted)]), order)


def _linear(size: int, wanted: int, grid: str) -> np.ndarray:
    places = _places(size, wanted, grid).astype(np.float64)
    low = np.maximum(np.floor(places), 0).astype(int)
    high = np.minimum(np.ceil(places), size - 1).astype(int)
    share = places - np.floor(places)
    matrix = np.zeros((wanted, size))
    np.add.at(matrix, (np.arange(wanted), low), 1 - share)
    np.add.at(matrix, (np.arange(wanted), high), share)
    return matrix


@operator("ResizeNearestNeighbor")
def nearest(call: NodeSite) -> View:
    x, order, sizes = call.image(call.x())
    grid, wanted = _grid(call), _wanted(call)
    return View(
        resized_by_nearest(call, x, [nearest_places(size, target, grid) for size, target in zip(sizes, wanted)]), order
    )


def nearest_places(size: int, wanted: int, grid: str) -> np.ndarray:
    """The pixels that the framework picks."""
    places = _places(size, wanted, grid)
    if grid == "half_pixel":
        places = (np.arange(wanted, dtype=np.float32) + np.float32(0.5)) * (np.float32(size) / np.float32(wanted))
    # Halves are rounded away from zero; in float32 adding a half could round up to one.
    places = np.floor(places.astype(np.float64) + 0.5) if grid == "align_corners" else np.floor(places)
    return np.clip(places, 0, size - 1).astype(np.int64)


@operator("ResizeBicubic")
def bicubic(call: NodeSite) -> View:
    x, order, sizes = call.image(call.x())
    grid, wanted = _grid(call), _wanted(call)
    return View(
        by_matrices(call, _in_float(call, x), [_cubic(size, target, grid) for size, target in zip(sizes, wanted)]),
        order,
    )


def _cubic(size: int, wanted: int, grid: str) -> np.ndarray:
    """Keys, 1981: with the coefficient -1/2, leaving out what lies beyond, where centres are aligned; else -3/4 with
    the border repeated."""
    centred = grid == "half_pixel"
    slope = -0.5 if centred else -0.75
    places = _places(size, wanted, grid)
    first = np.floor(places).astype(int)
    steps = np.rint((places - first) * CUBIC_STEPS) / CUBIC_STEPS
    matrix = np.zeros((wanted, size))
    for offset in range(-1, 3):
        distance = np.abs(steps - offset)
        near = ((slope + 2) * distance - (slope + 3)) * distance * distance + 1
        far = ((slope * distance - 5 * slope) * distance + 8 * slope) * distance - 4 * slope
        weight = np.where(distance <= 1, near, np.where(distance < 2, far, 0))
        taken = first + offset
        if centred:
            weight = np.where((taken >= 0) & (taken < size), weight, 0)
        np.add.at(matrix, (np.arange(wanted), np.clip(taken, 0, size - 1)), weight)
    return matrix / matrix.sum(1, keepdims=True) if centred else matrix


@operator("ResizeArea")
def area(call: NodeSite) -> View:
    """The mean of the part of the image that a new pixel covers."""
    x, order, sizes = call.image(call.x())
    if call.attribute("align_corners", False):
        call.refuse("aligns corners and takes means, which is not supported")
    return View(
        by_matrices(call, _in_float(call, x), [_covered(size, target) for size, target in zip(sizes, _wanted(call))]),
        order,
    )


def _covered(size: int, wanted: int) -> np.ndarray:
    edges = np.arange(wanted + 1) * (size / wanted)
    low, high = edges[:-1, None], edges[1:, None]
    pixels = np.arange(size)
    return np.clip(np.minimum(high, pixels + 1) - np.maximum(low, pixels), 0, None) / (size / wanted)


@operator("ScaleAndTranslate")
def scaled_and_moved(call: NodeSite) -> View:
    """A resize by a filter that is widened where it shrinks; of all moves only none at all."""
    x, order, sizes = call.image(call.x())
    wanted, factors, moves = _wanted(call), call.static(2, "factors"), call.static(3, "moves")
    kernel, antialias = call.attribute("kernel_type", "lanczos3"), bool(call.attribute("antialias", True))
    mode = {"triangle": "linear", "keyscubic": "cubic"}.get(kernel)
    if mode is None or np.any(moves) or not np.allclose(factors, [t / s for s, t in zip(sizes, wanted)], rtol=1e-6):
        call.refuse(
            f"resizes by {kernel} with factors {factors.tolist()} and moves {moves.tolist()}, which is not supported"
        )
    matrices = [
        resampling_matrix(size, target, mode, "half_pixel", None, True, min(target / size, 1.0) if antialias else 1.0)
        for size, target in zip(sizes, wanted)
    ]
    return View(by_matrices(call, _in_float(call, x), matrices), order)
