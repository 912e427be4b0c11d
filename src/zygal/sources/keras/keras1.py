"""Configurations of Keras 1 in the words of Keras 2."""

from __future__ import annotations

from typing import Any

import numpy as np

_CLASSES = {
    "Convolution1D": "Conv1D",
    "Convolution2D": "Conv2D",
    "AtrousConvolution2D": "Conv2D",
    "Convolution3D": "Conv3D",
    "Deconvolution2D": "Conv2DTranspose",
    "SeparableConvolution2D": "SeparableConv2D",
    "MaxoutDense": "MaxoutDense",
}
_WORDS = {
    "nb_filter": "filters",
    "output_dim": "units",
    "subsample": "strides",
    "subsample_length": "strides",
    "border_mode": "padding",
    "dim_ordering": "data_format",
    "bias": "use_bias",
    "p": "rate",
    "atrous_rate": "dilation_rate",
    "pool_length": "pool_size",
    "stride": "strides",
    "init": "kernel_initializer",
    "filter_length": "kernel_size",
    "length": "size",
    "n": "n",
}


def as_second_age(configuration: dict[str, Any]) -> dict[str, Any]:
    """The configuration of a model, its layers and whatever they hold renamed. Raises KeyError or TypeError."""
    config = configuration["config"]
    if isinstance(config, list):
        config = [_layer(entry) for entry in config]
    elif isinstance(config, dict) and "layers" in config:
        config = {**config, "layers": [_layer(entry) for entry in config["layers"]]}
    return {**configuration, "config": config}


def _layer(entry: dict[str, Any]) -> dict[str, Any]:
    if entry["class_name"] in ("Sequential", "Model"):
        return as_second_age(entry)
    given = entry["config"]
    config = {_WORDS.get(word, word): value for word, value in given.items()}
    if "nb_row" in given:
        config["kernel_size"] = [given["nb_row"], given["nb_col"]]
    if "nb_col" in given and "kernel_dim1" in given:
        config["kernel_size"] = [given[f"kernel_dim{axis}"] for axis in (1, 2, 3)]
    for spent in ("nb_row", "nb_col", "kernel_dim1", "kernel_dim2", "kernel_dim3"):
        config.pop(spent, None)
    if config.get("data_format") in ("th", "tf"):
        config["data_format"] = "channels_first" if config["data_format"] == "th" else "channels_last"
    if "input_dtype" in given:
        config.setdefault("dtype", given["input_dtype"])
    config.setdefault("trainable", True)
    name = _CLASSES.get(entry["class_name"], entry["class_name"])
    if name == "Merge":
        mode = given.get("mode", "sum")
        name = {"sum": "Add", "mul": "Multiply", "concat": "Concatenate", "ave": "Average", "max": "Maximum"}.get(
            mode, name
        )
        config["axis"] = given.get("concat_axis", -1)
    return {**entry, "class_name": name, "config": config}


_CONVOLUTIONS = ("Conv1D", "Conv2D", "Conv3D", "Conv2DTranspose")


def kernel_of_age(kernel: np.ndarray, layer, version: str, backend: str) -> np.ndarray:
    """A kernel as the third age keeps it.

    Keras 1 kept those of channels-first convolutions as [filters, channels, rows, columns], and its Theano back
    end, in Keras 2 too, turned kernels round before it used them.
    """
    if layer.class_name not in _CONVOLUTIONS:
        return kernel
    first, channels_first = version.startswith(("0", "1")), layer.config.get("data_format") == "channels_first"
    if first and layer.class_name == "Conv1D" and kernel.ndim == 4:
        kernel = kernel[:, 0]
    if first and layer.class_name == "Conv2D" and channels_first:
        kernel = kernel.transpose(2, 3, 1, 0)
    if first and layer.class_name == "Conv2DTranspose":
        kernel = kernel.transpose(2, 3, 0, 1) if channels_first else kernel.transpose(0, 1, 3, 2)
    if backend == "theano":
        kernel = kernel[tuple(slice(None, None, -1) for _ in kernel.shape[:-2])]
    return kernel
