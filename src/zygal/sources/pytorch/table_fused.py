"""Layers of a transformer that the framework computes as one operator where no gradients are taken.

Their fast paths leave such operators in traces of `MultiheadAttention` and `TransformerEncoderLayer`.
"""

from __future__ import annotations

from math import sqrt

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_indexing import cut
from zygal.sources.recipes import activations, normalisation
from zygal.sources.recipes import attention as attending


@aten("_native_multi_head_attention.default")
def multi_head_attention(site: Site):
    """Self-attention with its projections, [N, tokens, channels]; Vaswani et al., 2017, section 3.2.2."""
    query, key, value = (site.tensor(name) for name in ("query", "key", "value"))
    if not query == key == value:
        site.refuse("attends from one sequence to another")
    _no_mask(site, "mask")
    for name in ("need_weights", "average_attn_weights"):
        site.plain(name)  # They shape the second result, which a layer that reads it is refused for.
    return _self_attention(site, query, "qkv", "proj"), None


@aten("_transformer_encoder_layer_fwd.default")
def encoder_layer(site: Site):
    """Attention and a network of two layers, each with a residual and a normalisation before or behind it."""
    x, first = site.tensor("src"), site.plain("norm_first")
    _no_mask(site, "mask")

    def normal(value: str, number: int) -> str:
        scale, shift = site.tensor(f"norm_weight_{number}"), site.tensor(f"norm_bias_{number}")
        return normalisation.layer_normalisation(site, value, 1, scale, shift, site.plain("eps"))

    def network(value: str) -> str:
        wide = _linear(site, value, "ffn_weight_1", "ffn_bias_1")
        wide = activations.gelu(site, wide, False) if site.plain("use_gelu") else site.step("Relu", wide)
        return _linear(site, wide, "ffn_weight_2", "ffn_bias_2")

    if first:
        x = site.step("Add", x, _self_attention(site, normal(x, 1), "qkv", "proj"))
        return site.step("Add", x, network(normal(x, 2)))
    x = normal(site.step("Add", x, _self_attention(site, x, "qkv", "proj")), 1)
    return normal(site.step("Add", x, network(x)), 2)


def _no_mask(site: Site, name: str) -> None:
    if site.has(name):
        site.refuse(
            "masks tokens in a fused layer; capture the model with torch.backends.mha.set_fastpath_enabled(False)"
        )
    site.plain("mask_type")


def _linear(site: Site, x: str, weight: str, bias: str) -> str:
    turned = site.step("Transpose", site.tensor(weight), perm=[1, 0])
    product = site.step("MatMul", x, turned)
    return site.step("Add", product, site.tensor(bias)) if site.has(bias) else product


def _self_attention(site: Site, x: str, joined: str, projection: str) -> str:
    heads = site.plain("num_head") or site.plain("num_heads")
    batch, tokens, channels = site.type_of(x).shape
    if channels != site.plain("embed_dim") or channels % heads:
        site.refuse("has heads that do not divide its channels")
    parts = site.reshaped(
        _linear(site, x, f"{joined}_weight", f"{joined}_bias"), (batch, tokens, 3, heads, channels // heads)
    )
    query, key, value = (
        site.step("Transpose", site.step("Squeeze", cut(site, parts, 2, at, at + 1), axes=[2]), perm=[0, 2, 1, 3])
        for at in range(3)
    )
    shares = site.step("Softmax", attending.scores(site, query, key, 1 / sqrt(channels // heads)), axis=-1)
    attended = site.step("Transpose", site.step("MatMul", shares, value), perm=[0, 2, 1, 3])
    return _linear(
        site, site.reshaped(attended, (batch, tokens, channels)), f"{projection}_weight", f"{projection}_bias"
    )
