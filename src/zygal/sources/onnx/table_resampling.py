"""Images in another size: two small matrices, picked pixels, or the graph's own operator where it is exact."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from zygal.graph import Batch
from zygal.graph.ops.resampling import GRIDS, resampling_matrix
from zygal.sources.onnx.site import Made, OnnxSite, operator
from zygal.sources.recipes.arranging import by_matrices, resized_by_nearest

_ROUNDED = {
    "round_prefer_floor": lambda places: np.ceil(places - np.float32(0.5)),
    "round_prefer_ceil": lambda places: np.floor(places + np.float32(0.5)),
    "floor": np.floor,
    "ceil": np.ceil,
}
GRID = "coordinate_transformation_mode"


@dataclass(frozen=True)
class _Along:
    """What happens along one axis. factor: of the size, as the node states it or as the sizes give it."""

    size: int
    wanted: int
    factor: float


@operator("Resize", "Upsample")
def resize(site: OnnxSite) -> Made:
    """Before opset 11 a pixel is where its index over the factor lies, and the nearest is the one below."""
    x, mode = site.value(0), site.attribute("mode", "nearest")
    older = site.kind == "Upsample" or site.version < 11
    grid = "asymmetric" if older else site.attribute(GRID, "half_pixel")
    rounding = "floor" if older else site.attribute("nearest_mode", "round_prefer_floor")
    changed = {axis: each for axis, each in enumerate(_axes(site, older)) if each is not None}
    if not changed:
        return site.step("Identity", x)
    _check_settings(site, mode, grid)
    if min(changed) < 2:
        site.refuse("resizes along the batch or the channels")
    if grid == "align_corners" and any(each.wanted != each.size * each.factor for each in changed.values()):
        site.refuse("resizes by a factor that gives no whole size, on a grid of corners, where runtimes disagree")
    spatial = [
        changed.get(axis) or _Along(size, size, 1.0) for axis, size in enumerate(site.type_of(x).shape[2:], start=2)
    ]
    antialias = bool(site.attribute("antialias", 0)) and any(each.wanted < each.size for each in spatial)
    mode = {"bilinear": "linear"}.get(mode, mode)
    whole = all(each.wanted == each.size * each.factor and each.factor == int(each.factor) for each in spatial)
    if len(spatial) == 2 and whole and grid in GRIDS and not antialias:
        scales = [1.0, 1.0, *(float(each.factor) for each in spatial)]
        return site.step("Resize", x, scales=scales, mode=mode, nearest_mode=rounding, **{GRID: grid})
    if mode == "nearest":
        places = [_nearest(site, each, grid, rounding) for each in spatial]
        return resized_by_nearest(site, x, places)
    if site.type_of(x).dtype != np.float32 or len(spatial) > 2:
        site.refuse(f"resizes {site.type_of(x)} by {mode}, which is not supported")
    return by_matrices(site, x, [_matrix(site, each, mode, grid, antialias) for each in spatial])


def _axes(site: OnnxSite, older: bool) -> list[_Along | None]:
    """By axis what happens along it; None where nothing does."""
    shape = site.type_of(site.value(0)).shape
    factors = wanted = None
    if site.kind == "Upsample" and site.version < 9:
        factors = site.attribute("scales")
    elif older:
        factors = site.known(1, "factors").tolist()
    elif site.given(3):
        wanted = site.dimensions(3, "sizes")
    elif site.given(2):
        factors = site.known(2, "factors").tolist()
    axes = site.attribute("axes") or list(range(len(shape)))
    site.without("keep_aspect_ratio_policy", "stretch")
    if len(wanted or factors or ()) != len(axes):
        site.refuse("has not one size or factor for each axis")
    found: list[_Along | None] = [None] * len(shape)
    for place, axis in enumerate(axes):
        size, axis = shape[axis], axis % len(shape)
        if (wanted is not None and wanted[place] == size) or (factors is not None and factors[place] == 1):
            continue
        if isinstance(size, Batch) or wanted is not None and isinstance(wanted[place], Batch):
            site.refuse("resizes along the batch")
        out = wanted[place] if wanted is not None else int(np.floor(np.float32(size) * np.float32(factors[place])))
        if out < 1:
            site.refuse(f"resizes {size} to {out}")
        factor = out / size if wanted is not None else float(factors[place])
        found[axis] = _Along(size, out, factor)
    return found


def _check_settings(site: OnnxSite, mode: str, grid: str) -> None:
    site.attribute("extrapolation_value")
    if grid not in (*GRIDS, "tf_half_pixel_for_nn", "half_pixel_symmetric"):
        site.refuse(f"has {GRID} {grid}, which is not supported")
    if mode not in ("nearest", "linear", "bilinear", "cubic"):
        site.refuse(f"has the mode {mode}, which is not known")
    coefficient = site.attribute("cubic_coeff_a", -0.75)
    outside = site.attribute("exclude_outside", 0)
    if mode == "cubic" and (coefficient != -0.75 or outside or site.attribute("antialias", 0)):
        site.refuse("resizes by cubic with another coefficient than -0.75, antialias or exclude_outside")
    if mode == "linear" and outside and not site.attribute("antialias", 0):
        site.refuse("has exclude_outside, which is not supported")


def _nearest(site: OnnxSite, along: _Along, grid: str, rounding: str) -> np.ndarray:
    """The pixels that are taken; places are counted in float32, as runtimes do."""
    single, index = np.float32, np.arange(along.wanted, dtype=np.float32)
    factor = single(along.factor)
    if grid == "align_corners":
        places = index * single(along.size - 1) / single(max(along.wanted - 1, 1))
    elif grid == "asymmetric":
        places = index / factor
    elif grid == "tf_half_pixel_for_nn":
        places = (index + single(0.5)) / factor
    elif grid == "half_pixel_symmetric":
        site.refuse("resizes by nearest on the grid half_pixel_symmetric, which is not supported")
    else:
        places = (index + single(0.5)) / factor - single(0.5)
        if grid == "pytorch_half_pixel" and along.wanted == 1:
            places = index
    return np.clip(_ROUNDED[rounding](places), 0, along.size - 1).astype(np.int64)


def _matrix(site: OnnxSite, along: _Along, mode: str, grid: str, antialias: bool) -> np.ndarray:
    if along.wanted == along.size and along.factor == 1:
        return np.eye(along.size)
    if grid == "tf_half_pixel_for_nn" or grid == "half_pixel_symmetric" and along.wanted != along.size * along.factor:
        site.refuse(f"resizes by {mode} on the grid {grid}, which is not supported")
    if grid == "pytorch_half_pixel" and along.wanted == 1:
        return np.eye(1, along.size)
    grid = "half_pixel" if grid in ("pytorch_half_pixel", "half_pixel_symmetric") else grid
    if antialias and not site.attribute("exclude_outside", 0):
        return _widened(along, grid)
    return resampling_matrix(along.size, along.wanted, mode, grid, along.factor, antialias)


def _widened(along: _Along, grid: str) -> np.ndarray:
    """The weights of a linear filter that is widened when shrinking; beyond the border the border's pixel counts."""
    beyond = int(np.ceil(1 / min(along.factor, 1.0))) + 1
    index, samples = np.arange(along.wanted)[:, None], np.arange(-beyond, along.size + beyond)
    places = {
        "align_corners": index * (along.size - 1) / max(along.wanted - 1, 1),
        "asymmetric": index / along.factor,
    }.get(grid, (index + 0.5) / along.factor - 0.5)
    weights = np.maximum(1 - np.abs(samples - places) * min(along.factor, 1.0), 0)
    matrix = np.zeros((along.wanted, along.size))
    np.add.at(matrix.T, np.clip(samples, 0, along.size - 1), weights.T)
    return matrix / matrix.sum(1, keepdims=True)
