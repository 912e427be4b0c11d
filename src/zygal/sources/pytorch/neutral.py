"""Arguments that do not change what a call computes at inference, so that no handler need read them.

Every other argument of a call must be read by its handler, or be left out or None: what is not understood is refused.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from zygal.sources.pytorch.archive import STRIDED
from zygal.sources.pytorch.program import Call


def _any(value: Any) -> bool:
    return True


EVERYWHERE: dict[str, Callable[[Any], bool]] = {
    "device": _any,  # Where it is computed; the artifact runs on the CPU.
    "pin_memory": _any,
    "non_blocking": _any,
    "requires_grad": _any,
    "memory_format": _any,  # How the elements lie; that a copy is made is the business of `aliases`.
    "copy": _any,
    "layout": lambda value: value in (None, STRIDED),
    "cudnn_enabled": _any,
    "cudnn_enable": _any,
    "allow_tf32": _any,
    "benchmark": _any,
    "deterministic": _any,
    "implicit": _any,
}
_BATCH_NORM = {"momentum": _any, "training": _any, "train": _any}
_RESHAPED_SIZES = {"N": _any, "C": _any, "HxW": _any}  # They are the sizes of the input.
_ONLY_GRADIENTS = {"padding_idx": _any, "scale_grad_by_freq": _any, "sparse": _any}

BY_OPERATOR: dict[str, dict[str, Callable[[Any], bool]]] = {
    **dict.fromkeys(
        (
            "native_batch_norm",
            "_native_batch_norm_legit_no_training",
            "_native_batch_norm_legit",
            "_native_batch_norm_legit_functional",
            "_batch_norm_with_update_functional",
            "_batch_norm_no_update",
            "batch_norm",
            "instance_norm",
        ),
        _BATCH_NORM,
    ),
    "native_group_norm": _RESHAPED_SIZES,
    "embedding": _ONLY_GRADIENTS,
    # The floating-point width in which it is computed, which is float32 here whatever it was.
    "_softmax": {"half_to_float": _any},
    "_log_softmax": {"half_to_float": _any},
    "topk": {"sorted": _any},  # Sorted results are allowed where any order is.
    "sort": {"stable": _any},
    "argsort": {"stable": _any},  # The standard's operator keeps the order of equals.
    "dropout": {"p": _any, "train": _any},
    "feature_dropout": {"p": _any, "train": _any},
    "alpha_dropout": {"p": _any, "train": _any},
    "feature_alpha_dropout": {"p": _any, "train": _any},
    "native_dropout": {"p": _any, "train": _any},
    "bernoulli": {"generator": _any},
    "rrelu": {"training": _any, "generator": _any},
    "rrelu_with_noise_functional": {"training": _any, "generator": _any},
    "empty": {"physical_layout": _any},
    "empty_permuted": {"physical_layout": _any},
    "set_": {"self": _any},
    "lstm": {"dropout": _any, "train": _any},
    "gru": {"dropout": _any, "train": _any},
    "rnn_tanh": {"dropout": _any, "train": _any},
    "rnn_relu": {"dropout": _any, "train": _any},
    "scaled_dot_product_attention": {"dropout_p": _any},
    **dict.fromkeys(
        ("_scaled_dot_product_flash_attention_for_cpu", "_scaled_dot_product_flash_attention"),
        {"dropout_p": _any, "return_debug_mask": _any},
    ),
    "copy": {"self": _any},
    "fill": {"self": _any},
    "zero": {"self": _any},
    "zeros_like": {"self": _any},
    "ones_like": {"self": _any},
    "full_like": {"self": _any},
    "gather": {"sparse_grad": _any},
    "repeat_interleave": {"output_size": _any},  # How long the result is follows from the rest.
    "einsum": {"path": _any},  # The order of evaluation.
}
"""By the operator's name without its overload, in-place forms included."""

CHECKS = frozenset(
    (
        "_assert_tensor_metadata",
        "_assert_scalar",
        "_assert_async",
        "sym_constrain_range",
        "sym_constrain_range_for_size",
        "eq",
        "ne",
        "ge",
        "gt",
        "le",
        "lt",
        "and_",
        "or_",
        "not_",
    )
)
"""The framework's own assertions on sizes: nothing is computed from them."""


def unread_arguments(call: Call, read: set[str]) -> list[str]:
    """The arguments of a call that its handler did not look at, and that may change its result."""
    operator = call.target.split(".")[-2] if call.target.count(".") > 1 else call.target.rpartition(".")[2]
    if operator in CHECKS and (
        not call.target.startswith("torch.ops.aten.") or operator.startswith(("_assert", "sym_"))
    ):
        return []
    own = BY_OPERATOR.get(operator) or BY_OPERATOR.get(operator.rstrip("_"), {})
    unread = []
    for name, (kind, value) in call.arguments.items():
        if name in read or kind == "none":
            continue
        harmless = own.get(name) or EVERYWHERE.get(name)
        if harmless is None or not harmless(value):
            unread.append(name)
    return unread
