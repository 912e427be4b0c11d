"""Normalisations, and the layers that standardise images inside the model."""

from __future__ import annotations

import numpy as np

from zygal.sources.keras.handlers import layer
from zygal.sources.keras.site import LayerSite
from zygal.sources.layouts import View, is_batch
from zygal.sources.layouts.arranging import along, scaled
from zygal.sources.recipes import normalisation


@layer("BatchNormalization")
def batch_normalisation(call: LayerSite) -> View:
    view, rank = call.x, call.rank(call.x)
    axis = call.config.get("axis", -1)
    axis = (axis[0] if isinstance(axis, list) else axis) % rank
    size = call.shape(view)[axis]
    if is_batch(size):
        call.refuse("normalises along the batch")
    names = ("gamma", "beta", "moving_mean", "moving_variance")
    left_out = {"gamma": np.ones(size, np.float32), "beta": np.zeros(size, np.float32)}
    arrays = [
        left_out[name] if name in left_out and call.weight(name) is None else call.needed(name, "", (size,))
        for name in names
    ]
    gamma, beta, mean, variance = arrays
    epsilon = float(call.config.get("epsilon", 1e-3))
    name = call.gathered(view)
    if view.order.index(axis) == 1 and rank > 1:
        inputs = [call.constant(array, hint) for array, hint in zip(arrays, names)]
        return View(call.step("BatchNormalization", name, *inputs, epsilon=epsilon), view.order)
    factor = gamma.astype(np.float64) / np.sqrt(variance.astype(np.float64) + epsilon)
    return scaled(call, view, [axis], factor, beta - mean * factor)


def _axes(call: LayerSite, default=-1) -> list[int]:
    axis = call.config.get("axis", default)
    return sorted(each % call.rank(call.x) for each in (axis if isinstance(axis, list) else [axis]))


@layer("LayerNormalization")
def layer_normalisation(call: LayerSite) -> View:
    """Ba et al., 2016; only scaled by the root of the mean square if the layer says so."""
    view, axes = call.x, _axes(call)
    rank, epsilon = call.rank(view), float(call.config.get("epsilon", 1e-3))
    gamma, beta = call.weight("gamma"), call.weight("beta")
    if call.config.get("rms_scaling"):
        return _by_mean_square(call, view, axes, gamma, epsilon)
    if axes == list(range(rank - len(axes), rank)):
        pair = (
            None if each is None else call.constant(each, hint) for each, hint in ((gamma, "gamma"), (beta, "beta"))
        )
        return call.named_view(normalisation.layer_normalisation(call, call.plain(view), len(axes), *pair, epsilon))
    places = sorted(view.order.index(axis) for axis in axes)
    made = normalisation.standardised(call, call.gathered(view), places, epsilon)
    return scaled(call, View(made, view.order), axes, gamma, beta)


@layer("RMSNormalization")
def root_mean_square(call: LayerSite) -> View:
    return _by_mean_square(call, call.x, _axes(call), call.weight("scale"), float(call.config.get("epsilon", 1e-6)))


def _by_mean_square(call: LayerSite, view: View, axes: list[int], factor: np.ndarray | None, epsilon: float) -> View:
    places = sorted(view.order.index(axis) for axis in axes)
    made = normalisation.by_mean_square(call, call.gathered(view), places, epsilon)
    return scaled(call, View(made, view.order), axes, factor, None)


@layer("GroupNormalization")
def group_normalisation(call: LayerSite) -> View:
    """Wu and He, 2018."""
    view, axis = call.x, _axes(call)[0]
    rank, shape = call.rank(view), call.shape(view)
    order = (0, axis, *(each for each in range(1, rank) if each != axis))
    groups = int(call.config.get("groups", 32))
    groups = shape[axis] if groups == -1 else groups
    epsilon = float(call.config.get("epsilon", 1e-3))
    made = View(normalisation.group_normalisation(call, call.in_order(view, order), groups, epsilon), order)
    return scaled(call, made, [axis], call.weight("gamma"), call.weight("beta"))


@layer("UnitNormalization")
def unit_normalisation(call: LayerSite) -> View:
    view = call.x
    places = sorted(view.order.index(axis) for axis in _axes(call))
    # The first ages compare squares with the same number.
    return View(
        normalisation.unit_length(call, call.gathered(view), places, 1e-6 if call.first_ages else 1e-12), view.order
    )


@layer("Normalization")
def standardisation(call: LayerSite) -> View:
    """(x - mean) / deviation with what was measured on the training images."""
    view = call.x
    rank = call.rank(view)
    axis = call.config.get("axis", -1)
    listed = [] if axis is None else axis if isinstance(axis, (list, tuple)) else [axis]
    axes = sorted(each % rank for each in listed)
    statistics = [call.config.get(name) for name in ("mean", "variance")]
    if statistics[0] is None:
        statistics = [call.needed(name) for name in ("mean", "variance")]
    sizes = tuple(call.shape(view)[each] for each in axes)
    mean, variance = (
        np.broadcast_to(
            np.asarray(each, np.float64).reshape(-1)
            if not axes or np.size(each) == 1
            else np.asarray(each, np.float64).reshape(sizes),
            sizes or (1,),
        )
        for each in statistics
    )
    deviation = np.maximum(np.sqrt(variance), 1e-7)
    axes = axes or [rank - 1]
    if call.config.get("invert"):
        return scaled(call, view, axes, deviation, mean)
    centred = call.step("Sub", call.gathered(view), along(call, view, axes, mean, "mean"))
    return View(call.step("Div", centred, along(call, view, axes, deviation, "deviation")), view.order)


@layer("Rescaling")
def rescaling(call: LayerSite) -> View:
    """Times a number plus a number, or one of each for every channel."""
    view, last = call.x, call.rank(call.x) - 1
    factor, offset = (
        np.asarray(call.config.get(name, default), np.float64) for name, default in (("scale", 1), ("offset", 0))
    )
    axes = [last if call.config.get("data_format") != "channels_first" else 1]
    factor, offset = np.atleast_1d(factor), np.atleast_1d(offset)
    return scaled(call, view, axes, factor, offset if offset.any() else None)


@layer("LayerScale")
def layer_scale(call: LayerSite) -> View:
    """A factor for each channel; Touvron et al., 2021."""
    return scaled(call, call.x, [call.rank(call.x) - 1], call.needed("gamma"), None)


@layer("CustomScaleLayer")
def scaled_sum(call: LayerSite) -> View:
    """The first plus a fraction of the second; Szegedy et al., 2016."""
    (first, second), lead = call.together(call.views())
    part = call.step("Mul", second, call.number(float(call.config["scale"]), second))
    return View(call.step("Add", first, part), lead.order, lead.permutation)
