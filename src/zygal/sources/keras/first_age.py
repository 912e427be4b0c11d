"""Configurations of Keras 1 in the words of Keras 2."""

from __future__ import annotations

from typing import Any

_CLASSES = {
    "Convolution1D": "Conv1D", "Convolution2D": "Conv2D", "AtrousConvolution2D": "Conv2D", "Convolution3D": "Conv3D",
    "Deconvolution2D": "Conv2DTranspose", "SeparableConvolution2D": "SeparableConv2D", "MaxoutDense": "MaxoutDense",
}  # fmt: skip
_WORDS = {
    "nb_filter": "filters", "output_dim": "units", "subsample": "strides", "subsample_length": "strides",
    "border_mode": "padding", "dim_ordering": "data_format", "bias": "use_bias", "p": "rate", "atrous_rate": "dilation_rate",
    "pool_length": "pool_size", "stride": "strides", "init": "kernel_initializer", "filter_length": "kernel_size",
    "length": "size", "n": "n",
}  # fmt: skip


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
