"""Names that ATen operators have in programs that were taken apart further by the framework before they were saved."""

from __future__ import annotations

from zygal.sources.pytorch.calls import IN_TRAINING, Site, aten
from zygal.sources.pytorch.table_activations import randomized_leaky_relu
from zygal.sources.pytorch.table_convolution import (
    batch_norm,
    convolution,
    group_norm,
    layer_norm,
    transposed_convolution,
)
from zygal.sources.pytorch.table_products import attention


@aten("convolution.default")
def any_convolution(call: Site):
    if call.plain("transposed"):
        return transposed_convolution(call)
    if any(call.plain("output_padding")):
        call.refuse("has an output padding, which only transposed convolutions have")
    return convolution(call)


@aten("native_layer_norm.default")
def layer_norm_with_statistics(call: Site):
    return layer_norm(call), None, None


@aten("native_group_norm.default")
def group_norm_with_statistics(call: Site):
    return group_norm(call), None, None


@aten("native_batch_norm.default", "_native_batch_norm_legit_no_training.default", "_native_batch_norm_legit.no_stats",
      "_native_batch_norm_legit.default", "_native_batch_norm_legit_functional.default",
      "_batch_norm_with_update_functional.default", "_batch_norm_no_update.default")  # fmt: skip
def batch_norm_with_statistics(call: Site):
    made = batch_norm(call)
    kept = [call.tensor(name) if call.has(name) else None for name in ("running_mean", "running_var")]
    if len(call.call.results) == 6:
        return made, None, None, None, *kept
    return made, None, None, *kept


@aten("native_dropout.default")
def dropout_with_mask(call: Site):
    if call.plain("train", True) and call.plain("p"):
        call.note(IN_TRAINING)
    return call.result("Identity", call.tensor("input")), None


@aten("_scaled_dot_product_flash_attention_for_cpu.default")
def attention_with_statistics(call: Site):
    return attention(call), None


@aten("rrelu_with_noise_functional.default")
def randomized_leaky_relu_with_noise(call: Site):
    return randomized_leaky_relu(call), call.tensor("noise")
