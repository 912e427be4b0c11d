"""Activations: as layers, as names inside other layers, and as the framework's functions."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygal.sources.keras.handlers import OPERATIONS, layer
from zygal.sources.keras.site import LayerSite
from zygal.sources.layouts import View
from zygal.sources.layouts.arranging import softmax_along
from zygal.sources.recipes import activations


def _hard_sigmoid(call: LayerSite, x: str) -> str:
    """Since version 3 relu6(x + 3) / 6, before that a slope of 0.2."""
    return activations.hard_sigmoid(call, x, 0.2 if call.first_ages else 1 / 6)


def _reach(call: LayerSite, threshold: float) -> float:
    if threshold < 0:
        call.refuse(f"shrinks by {threshold}, which is below zero")
    return threshold


def _squareplus(call: LayerSite, x: str, b: float = 4.0) -> str:
    root = call.step("Sqrt", call.step("Add", call.step("Mul", x, x), call.number(float(b), x)))
    return call.step("Mul", call.step("Add", x, root), call.number(0.5, x))


def _sparse_plus(call: LayerSite, x: str) -> str:
    """0 up to -1, x from 1 on, and (x + 1)^2 / 4 between them."""
    above = call.step("Add", activations.clipped(call, x, -1, 1), call.number(1.0, x))
    bent = call.step("Mul", call.step("Mul", above, above), call.number(0.25, x))
    return call.step("Where", call.step("Greater", x, call.number(1.0, x)), x, bent)


def _gated(call: LayerSite, view: View, axis: int = -1) -> View:
    made = activations.gated(call, call.gathered(view), view.order.index(axis % len(view.order)))
    return View(made, view.order)


BY_NAME = {
    "linear": lambda call, x: x,
    "relu": lambda call, x: call.step("Relu", x),
    "relu6": lambda call, x: activations.clipped(call, x, 0, 6),
    "sigmoid": lambda call, x: call.step("Sigmoid", x),
    "tanh": lambda call, x: call.step("Tanh", x),
    "elu": activations.elu,
    "selu": lambda call, x: call.step("Selu", x),
    "celu": activations.celu,
    "exponential": lambda call, x: call.step("Exp", x),
    "softplus": lambda call, x: call.step("Softplus", x),
    "softsign": lambda call, x: call.step("Softsign", x),
    "silu": activations.silu,
    "swish": activations.silu,
    "mish": activations.mish,
    "gelu": activations.gelu,
    "hard_sigmoid": _hard_sigmoid,
    "hard_silu": lambda call, x: call.step("HardSwish", x),
    "hard_swish": lambda call, x: call.step("HardSwish", x),
    "hard_tanh": lambda call, x: activations.clipped(call, x, -1, 1),
    "leaky_relu": lambda call, x: call.step("LeakyRelu", x, alpha=0.2),
    "log_sigmoid": activations.log_sigmoid,
    "hard_shrink": lambda call, x, threshold=0.5: activations.hard_shrink(
        call, x, _reach(call, threshold), keeps_nan=False
    ),
    "soft_shrink": lambda call, x, threshold=0.5: activations.soft_shrink(
        call, x, _reach(call, threshold), keeps_nan=False
    ),
    "tanh_shrink": activations.tanh_shrink,
    "squareplus": _squareplus,
    "sparse_plus": _sparse_plus,
}
"""Activations of every element by itself."""


def activated(call: LayerSite, view: View, given: Any = "same") -> View:
    """What an activation makes of a value; `given` is a name, a function's or a layer's configuration, or nothing."""
    given = call.config.get("activation") if isinstance(given, str) and given == "same" else given
    if given is None:
        return view
    if isinstance(given, dict):
        config = given.get("config", given.get("function_name"))
        if isinstance(config, dict):
            return _by_layer(call, view, given["class_name"].rpartition(">")[2], config)
        if given.get("registered_name") and ">" in str(given["registered_name"]):
            call.refuse(f"has a custom activation, {given['registered_name']}; use one of the framework's")
        given = config
    name = _snake(str(given).rpartition(">")[2].rpartition(".")[2])
    if name == "glu":
        return _gated(call, view)
    if name in ("softmax", "log_softmax"):
        return softmax_along(call, view, -1, name == "log_softmax")
    if name not in BY_NAME:
        call.refuse(f"has the activation {given}, which is not known; use one of the framework's")
    return call.elementwise(view, lambda x: BY_NAME[name](call, x))


def _by_layer(call: LayerSite, view: View, class_name: str, config: dict) -> View:
    if class_name not in AS_LAYERS:
        call.refuse(f"is activated by a layer {class_name}, which is not known")
    before, call.config = call.config, call.reading(class_name, config)
    try:
        return AS_LAYERS[class_name](call, view)
    finally:
        call.config = before


def _relu(call: LayerSite, view: View) -> View:
    config = call.config
    slope = float(config.get("negative_slope") or 0.0)
    most, threshold = config.get("max_value"), float(config.get("threshold") or 0.0)

    def bent(x: str) -> str:
        if threshold == 0:
            if not slope:
                return call.step("Relu", x) if most is None else activations.clipped(call, x, 0, most)
            made = call.step("LeakyRelu", x, alpha=slope)
            return made if most is None else activations.clipped(call, made, None, most)
        # Above the threshold x itself, below it its distance from the threshold times the slope.
        above = call.step("GreaterOrEqual", x, call.number(threshold, x))
        kept = x if most is None else activations.clipped(call, x, None, most)
        below = call.step("Mul", call.step("Sub", x, call.number(threshold, x)), call.number(slope, x))
        return call.step("Where", above, kept, below)

    return call.elementwise(view, bent)


def _alpha(config: dict, default: float) -> float:
    """The slope of an older activation layer, which may be spelled as an array."""
    value = config.get("negative_slope", config.get("alpha", default))
    return float(value["value"] if isinstance(value, dict) else value)


def _leaky(call: LayerSite, view: View) -> View:
    return call.elementwise(view, lambda x: call.step("LeakyRelu", x, alpha=_alpha(call.config, 0.3)))


def _elu(call: LayerSite, view: View) -> View:
    return call.elementwise(view, lambda x: call.step("Elu", x, alpha=_alpha(call.config, 1.0)))


def _thresholded(call: LayerSite, view: View) -> View:
    theta = call.config.get("theta", 1.0)
    theta = float(theta["value"] if isinstance(theta, dict) else theta)

    def bent(x: str) -> str:
        return call.step("Where", call.step("Greater", x, call.number(theta, x)), x, call.number(0.0, x))

    return call.elementwise(view, bent)


def _softmax(call: LayerSite, view: View) -> View:
    axis = call.config.get("axis", -1)
    if isinstance(axis, list) and len(axis) > 1:
        call.refuse("is a softmax over several axes, which is not supported")
    return softmax_along(call, view, axis[0] if isinstance(axis, list) else axis)


AS_LAYERS = {
    "ReLU": _relu,
    "LeakyReLU": _leaky,
    "ELU": _elu,
    "ThresholdedReLU": _thresholded,
    "Softmax": _softmax,
    "Activation": lambda call, view: activated(call, view),
}
for _name, _handler in AS_LAYERS.items():
    layer(_name)(lambda call, handler=_handler: handler(call, call.x))


@layer("PReLU")
def parametric(call: LayerSite) -> View:
    """A slope for each element or each channel, shared along some axes."""
    view = call.x
    alpha = call.needed("alpha")
    alpha = alpha.reshape((1,) * (len(view.order) - alpha.ndim) + alpha.shape)
    turned = np.transpose(alpha, view.order)
    return View(call.step("PRelu", call.gathered(view), call.constant(turned[0], "alpha")), view.order)


def _snake(name: str) -> str:
    """A function's name as it is written in code; the framework's classes of the same functions are in capitals."""
    if name.lower() == name:
        return name
    return "".join(f"_{letter.lower()}" if letter.isupper() else letter for letter in name).lstrip("_")


_PARAMETERS = {
    "elu": "alpha",
    "celu": "alpha",
    "hard_shrink": "threshold",
    "soft_shrink": "threshold",
    "squareplus": "b",
}
"""The number that some of the functions take in addition to their tensor."""


def _function(name: str):
    def function(call: LayerSite) -> View:
        more = {}
        if name in _PARAMETERS:
            value = call.argument(1, _PARAMETERS[name], call.config.get(_PARAMETERS[name]))
            if isinstance(value, View):
                call.refuse(f"has a tensor for {_PARAMETERS[name]}")
            more = {} if value is None else {_PARAMETERS[name]: float(value)}
        return call.elementwise(call.x, lambda x: BY_NAME[name](call, x, **more))

    return function


for _name in BY_NAME:
    OPERATIONS["".join(part.capitalize() for part in _name.split("_"))] = _function(_name)
    OPERATIONS[f"nn.{_name}"] = _function(_name)
