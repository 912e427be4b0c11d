"""Settings and arguments of a layer that note what was read, so that nothing of them can be ignored unseen."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any


class Settings(dict):
    """A configuration, or the named arguments of a call, of a class of layers; `read` are the names that were looked
    at."""

    def __init__(self, class_name: str, values: Mapping[str, Any]):
        super().__init__(values)
        self.class_name, self.read = class_name, set()

    def __getitem__(self, name: str) -> Any:
        self.read.add(name)
        return super().__getitem__(name)

    def get(self, name: str, default: Any = None) -> Any:
        """As of a dictionary; the setting counts as read."""
        self.read.add(name)
        return super().get(name, default)

    def values(self):
        """As of a dictionary; all settings count as read."""
        self.read.update(self)
        return super().values()


class Positional(list):
    """The arguments of a call by their places; `read` are the places that were looked at."""

    def __init__(self, values):
        super().__init__(values)
        self.read: set[int] = set()

    def __getitem__(self, index):
        self.read.update(range(len(self))[index] if isinstance(index, slice) else (range(len(self))[index],))
        return super().__getitem__(index)

    def __iter__(self):
        self.read.update(range(len(self)))
        return super().__iter__()


def _any(value: Any) -> bool:
    return True


def _off(value: Any) -> bool:
    return not value


NEUTRAL: dict[str, Callable[[Any], bool]] = {
    **dict.fromkeys(("name", "trainable", "dtype", "batch_shape", "batch_input_shape", "input_shape", "input_dtype",
                     "seed", "implementation", "unroll", "input_length", "input_dim", "optional", "autocast",
                     "dtype_policy", "shared_object_id", "unit_forget_bias", "fill_mode", "fill_value", "training",
                     "zero_output_for_mask", "depth_multiplier", "lora_alpha", "value_dim", "gate_dtype"), _any),
    # How many arrays a layer has follows from these; the arrays are counted.
    **dict.fromkeys(("use_bias", "center", "scale", "use_scale", "bias_axes", "bias", "units", "filters",
    "output_dim"), _any),
    # What only training does.
    **dict.fromkeys(("momentum", "synchronized", "fused", "dropout", "recurrent_dropout", "dropout_rate", "rate",
                     "noise_shape", "renorm_momentum", "l1", "l2", "power_iterations", "W_learning_rate_multiplier",
                     "kernel_learning_rate_multiplier", "bias_learning_rate_multiplier", "flash_attention",
                     "dropout_W", "dropout_U", "inner_init", "consume_less", "embeddings_dtype"), _any),
    # What these switch on is not supported.
    **dict.fromkeys(("stateful", "time_major", "ragged", "sparse", "renorm", "virtual_batch_size", "adjustment",
                     "mask_zero", "lora_rank", "quantization_config", "mask",
                     "input_spec", "return_attention_scores", "return_state", "causal", "use_causal_mask", "use_gate",
                     "renorm_clipping", "batch_normalize", "force_generator", "ignore_index"), _off),
    "data_format": lambda value: value in (None, "channels_last"),
    "seq_axis": _any,
}  # fmt: skip
"""Settings that a handler need not read, by name, where their value passes."""

_TRAINING_ONLY = re.compile(r"(.*_)?(initializer|regularizer|constraint|init)")

BY_CLASS: dict[str, dict[str, Callable[[Any], bool]]] = {
    "InputLayer": dict.fromkeys(("input_tensor",), _any),
    "BatchNormalization": {"mode": lambda value: value == 0, "beta_init": _any, "gamma_init": _any},
    "Normalization": {"input_mean": _any, "input_variance": _any, "mean": _any, "variance": _any},
    "PReLU": {"shared_axes": _any},
    "Bidirectional": {"backward_layer": _any},
    "SpectralNormalization": {"layer": _any},
    "MultiHeadAttention": {"query_shape": _any, "key_shape": _any, "value_shape": _any, "output_shape": _any},
    "GroupedQueryAttention": {"query_shape": _any, "key_shape": _any, "value_shape": _any},
    "EinsumDense": {"output_shape": _any},
    "TFOpLambda": {"function": _any},
    "SlicingOpLambda": {"function": _any},
    "LayerScale": {"projection_dim": _any, "init_values": _any},
}
"""Beyond those, the settings of one class that say nothing which its arrays or tensors do not."""


def unread_settings(settings: Settings, named: bool = False) -> list[str]:
    """The settings that nobody looked at and that may mean something."""
    own = BY_CLASS.get(settings.class_name, {})
    left = []
    for name, value in settings.items():
        if name in settings.read or value is None:
            continue
        if not named and _TRAINING_ONLY.fullmatch(name):
            continue
        accepts = own.get(name) or NEUTRAL.get(name)
        if accepts is None or not accepts(value):
            left.append(name)
    return left
