"""ATen operators that change the size of images. Each is two small matrices, or the standard's operator where it is
exact."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.resampling import resampling_matrix
from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.recipes.arranging import by_matrices, resized_by_nearest


def _sizes(site: Site) -> tuple[str, tuple[int, ...], list[int], list[float] | None]:
    """The images, their sizes, the sizes that are wanted, and the factors, if those were given."""
    x = site.tensor("input" if site.has("input") else "self")
    spatial = site.type_of(x).shape[2:]
    factors = site.plain("scale_factors")
    if factors is None:
        factors = [site.plain(name) for name in ("scales_h", "scales_w", "scales") if site.has(name)] or None
    wanted = site.plain("output_size")
    if wanted is None:
        wanted = [int(np.floor(size * factor)) for size, factor in zip(spatial, factors)]
    return x, spatial, wanted, factors


def _nearest(site: Site, exact: bool):
    """The pixels that the framework picks. It counts places in float32, so that a rounding decides where one falls
    between two pixels."""
    x, spatial, wanted, factors = _sizes(site)
    scales = factors if factors is not None else [None] * len(spatial)
    number = np.float64 if site.type_of(x).dtype == np.float64 else np.float32
    places = []
    for size, out, factor in zip(spatial, wanted, scales):
        found = nearest_places(size, out, factor, number, exact)
        if found is None:
            site.refuse(
                f"resizes {size} to {out} by nearest-exact, for which the framework picks other pixels in one "
                f"memory layout than in another"
            )
        places.append(found)
    return resized_by_nearest(site, x, places)


def nearest_places(size: int, wanted: int, factor: float | None, number: type, exact: bool) -> np.ndarray | None:
    """Which of `size` pixels are picked for the wanted ones, counted in the dtype `number`; factor: if it was given
    instead of the size. None where the framework's own kernels disagree."""
    step = number(size) / number(wanted) if not factor else number(1.0 / factor)
    index = np.arange(wanted, dtype=number)
    ways = _exact_places(index, step) if exact else [index * step]
    found = [np.minimum(np.floor(way).astype(np.int64), size - 1) for way in ways]
    return found[0] if all((way == found[0]).all() for way in found) else None


def _exact_places(index: np.ndarray, step: np.floating) -> list[np.ndarray]:
    """The middle of each new pixel in the old image, in the ways in which the framework's kernels compute it: one
    operation after the other, with a fused product and sum, and without moving by half a pixel forth and back."""
    half, zero = index.dtype.type(0.5), index.dtype.type(0)
    wide = index.astype(np.float64)
    fused = (np.float64(step) * (wide + 0.5) - 0.5).astype(index.dtype)
    return [
        np.maximum(step * (index + half) - half, zero) + half,
        np.maximum(fused, zero) + half,
        (index + half) * step,
    ]


def _resample(site: Site, mode: str, grid: str, antialias: bool = False):
    x, spatial, wanted, factors = _sizes(site)
    scales = factors if factors is not None else [None] * len(spatial)
    whole = all(out % size == 0 for size, out in zip(spatial, wanted))
    same = factors is None or all(out == size * factor for size, out, factor in zip(spatial, wanted, factors))
    if tuple(wanted) == spatial:
        return site.step("Identity", x)
    if len(spatial) == 2 and whole and same and not antialias and mode != "cubic":
        ratio = [out // size for size, out in zip(spatial, wanted)]
        return site.step(
            "Resize", x, scales=[1.0, 1.0, *map(float, ratio)], coordinate_transformation_mode=grid, mode=mode
        )
    matrices = [
        resampling_matrix(size, out, mode, grid, scale, antialias) for size, out, scale in zip(spatial, wanted, scales)
    ]
    return by_matrices(site, x, matrices)


def _grid(site: Site) -> str:
    return "align_corners" if site.plain("align_corners", False) else "half_pixel"


@aten("upsample_nearest2d.vec", "upsample_nearest2d.default", "upsample_nearest1d.vec", "upsample_nearest1d.default")
def nearest(site: Site):
    return _nearest(site, exact=False)


@aten("_upsample_nearest_exact2d.vec", "_upsample_nearest_exact2d.default", "_upsample_nearest_exact1d.vec")
def nearest_exact(site: Site):
    return _nearest(site, exact=True)


@aten("upsample_bilinear2d.vec", "upsample_bilinear2d.default", "upsample_linear1d.vec", "upsample_linear1d.default")
def linear(site: Site):
    return _resample(site, "linear", _grid(site))


@aten("upsample_bicubic2d.vec", "upsample_bicubic2d.default")
def cubic(site: Site):
    return _resample(site, "cubic", _grid(site))


@aten("_upsample_bilinear2d_aa.vec", "_upsample_bilinear2d_aa.default")
def linear_antialiased(site: Site):
    return _resample(site, "linear", _grid_without_corners(site), antialias=True)


@aten("_upsample_bicubic2d_aa.vec", "_upsample_bicubic2d_aa.default")
def cubic_antialiased(site: Site):
    return _resample(site, "cubic", _grid_without_corners(site), antialias=True)


def _grid_without_corners(site: Site) -> str:
    if site.plain("align_corners", False):
        site.refuse("aligns corners and smooths, which is not supported")
    return "half_pixel"


@aten("grid_sampler.default", "grid_sampler_2d.default")
def grid_sample(site: Site):
    x = site.tensor("input")
    if site.type_of(x).rank != 4:
        site.refuse("samples volumes, which is not supported")
    mode = ("linear", "nearest", "cubic")[site.plain("interpolation_mode")]
    padding = ("zeros", "border", "reflection")[site.plain("padding_mode")]
    corners = int(site.plain("align_corners", False))
    return site.step("GridSample", x, site.tensor("grid"), mode=mode, padding_mode=padding, align_corners=corners)


@aten("affine_grid_generator.default")
def affine_grid(site: Site):
    """theta (x, y, 1) for all places of the wanted image, running from -1 to 1; Jaderberg et al., 2015."""
    theta, size = site.tensor("theta"), site.plain("size")
    if len(size) != 4:
        site.refuse("makes a grid in a volume, which is not supported")
    height, width = size[2:]
    shrink = (lambda n: 1.0) if site.plain("align_corners") else (lambda n: (n - 1) / n)
    rows, columns = (np.linspace(-1, 1, n) * shrink(n) if n > 1 else np.zeros(1) for n in (height, width))
    x, y = np.meshgrid(columns, rows)
    places = np.stack([x, y, np.ones_like(x)], -1).reshape(-1, 3).astype(np.float32)
    turned = site.step("Transpose", theta, perm=[0, 2, 1])
    grid = site.step("MatMul", site.constant(places, "places"), turned)
    return site.reshaped(grid, [site.type_of(theta).shape[0], height, width, 2])
