"""Which variables each class of layers has, in the order in which the layer creates them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Variable:
    """A variable of a layer: its name, the part of the layer that holds it, and whether training changes it."""

    name: str
    part: str = ""
    trained: bool = True


def _plain(*names: str) -> Callable[[dict[str, Any]], list[Variable]]:
    """Variables of which the bias may be switched off."""

    def variables(config: dict[str, Any]) -> list[Variable]:
        return [Variable(name) for name in names if name != "bias" or config.get("use_bias", True)]

    return variables


def _normalisation(config: dict[str, Any]) -> list[Variable]:
    made = [Variable("gamma")] if config.get("scale", True) else []
    return made + ([Variable("beta")] if config.get("center", True) else [])


def _batch_normalisation(config: dict[str, Any]) -> list[Variable]:
    return [*_normalisation(config), Variable("moving_mean", "", False), Variable("moving_variance", "", False)]


def _standardisation(config: dict[str, Any]) -> list[Variable]:
    if config.get("mean") is not None:
        return []
    return [Variable(name, "", False) for name in ("mean", "variance", "count")]


def _recurrent(part: str = "cell") -> Callable[[dict[str, Any]], list[Variable]]:
    def variables(config: dict[str, Any]) -> list[Variable]:
        names = ["kernel", "recurrent_kernel"] + ["bias"] * bool(config.get("use_bias", True))
        return [Variable(name, part) for name in names]

    return variables


def _both_ways(config: dict[str, Any]) -> list[Variable]:
    inner = config["layer"]["config"]
    backward = (config.get("backward_layer") or {}).get("config", inner)
    return [*_recurrent("forward_layer/cell")(inner), *_recurrent("backward_layer/cell")(backward)]


def _heads(config: dict[str, Any]) -> list[Variable]:
    names = ["kernel"] + ["bias"] * bool(config.get("use_bias", True))
    parts = ("query_dense", "key_dense", "value_dense", "output_dense")
    return [Variable(name, part) for part in parts for name in names]


def _wrapped(config: dict[str, Any]) -> list[Variable]:
    inner = config["layer"]
    member = VARIABLES.get(inner["class_name"], lambda _: [])(inner["config"])
    return [Variable(each.name, f"layer/{each.part}".strip("/"), each.trained) for each in member]


def _spectral(config: dict[str, Any]) -> list[Variable]:
    return [*_wrapped(config), Variable("vector_u", "", False)]


VARIABLES: dict[str, Callable[[dict[str, Any]], list[Variable]]] = {
    **dict.fromkeys(
        ("Conv1D", "Conv2D", "Conv3D", "Conv1DTranspose", "Conv2DTranspose", "Conv3DTranspose", "Dense"),
        _plain("kernel", "bias"),
    ),
    **dict.fromkeys(("DepthwiseConv1D", "DepthwiseConv2D"), _plain("kernel", "bias")),
    **dict.fromkeys(("SeparableConv1D", "SeparableConv2D"), _plain("depthwise_kernel", "pointwise_kernel", "bias")),
    "EinsumDense": lambda config: _plain("kernel", "bias")({"use_bias": bool(config.get("bias_axes"))}),
    "BatchNormalization": _batch_normalisation,
    "LayerNormalization": lambda config: _normalisation(config if not config.get("rms_scaling") else {"center": False}),
    "GroupNormalization": _normalisation,
    "RMSNormalization": _plain("scale"),
    "Normalization": _standardisation,
    "PReLU": _plain("alpha"),
    "Embedding": _plain("embeddings"),
    "LSTM": _recurrent(),
    "GRU": _recurrent(),
    "SimpleRNN": _recurrent(),
    "Bidirectional": _both_ways,
    "TimeDistributed": _wrapped,
    "SpectralNormalization": _spectral,
    "MultiHeadAttention": _heads,
    "GroupedQueryAttention": _heads,
    "GroupQueryAttention": _heads,
    "Attention": lambda config: [Variable("scale")] if config.get("use_scale") else [],
    "AdditiveAttention": lambda config: [Variable("scale")] if config.get("use_scale", True) else [],
    "LayerScale": _plain("gamma"),
}
"""The variables of each class of layers, in the order in which the layer makes them."""
