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


@aten("convolution.default", "_convolution.default", "_convolution.deprecated")
def any_convolution(site: Site):
    if site.plain("transposed"):
        return transposed_convolution(site)
    if any(site.plain("output_padding")):
        site.refuse("has an output padding, which only transposed convolutions have")
    return convolution(site)


@aten("native_layer_norm.default")
def layer_norm_with_statistics(site: Site):
    return layer_norm(site), None, None


@aten("native_group_norm.default")
def group_norm_with_statistics(site: Site):
    return group_norm(site), None, None


@aten(
    "native_batch_norm.default",
    "_native_batch_norm_legit_no_training.default",
    "_native_batch_norm_legit.no_stats",
    "_native_batch_norm_legit.default",
    "_native_batch_norm_legit_functional.default",
    "_batch_norm_with_update_functional.default",
    "_batch_norm_no_update.default",
)
def batch_norm_with_statistics(site: Site):
    made = batch_norm(site)
    kept = [site.tensor(name) if site.has(name) else None for name in ("running_mean", "running_var")]
    if len(site.call.results) == 6:
        return made, None, None, None, *kept
    return made, None, None, *kept


@aten("native_dropout.default")
def dropout_with_mask(site: Site):
    if site.plain("train", True) and site.plain("p"):
        site.note(IN_TRAINING)
    return site.step("Identity", site.tensor("input")), None


@aten("_scaled_dot_product_flash_attention_for_cpu.default", "_scaled_dot_product_flash_attention.default")
def attention_with_statistics(site: Site):
    return attention(site), None


@aten("rrelu_with_noise_functional.default")
def randomized_leaky_relu_with_noise(site: Site):
    return randomized_leaky_relu(site), site.tensor("noise")
