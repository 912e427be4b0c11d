"""Whether a program was captured in training mode, and what its calls are in evaluation mode."""

from __future__ import annotations

from typing import Any

from zygal.sources.pytorch.program import Program

_SWITCHES: dict[str, tuple[str, Any]] = {
    **dict.fromkeys(
        ("dropout", "feature_dropout", "alpha_dropout", "feature_alpha_dropout", "native_dropout"), ("train", False)
    ),
    **dict.fromkeys(("lstm", "gru", "rnn_tanh", "rnn_relu"), ("train", False)),
    **dict.fromkeys(
        ("batch_norm", "native_batch_norm", "_native_batch_norm_legit", "_native_batch_norm_legit_functional"),
        ("training", False),
    ),
    **dict.fromkeys(("rrelu", "rrelu_with_noise", "rrelu_with_noise_functional"), ("training", False)),
    **dict.fromkeys(
        (
            "scaled_dot_product_attention",
            "_scaled_dot_product_flash_attention_for_cpu",
            "_scaled_dot_product_flash_attention",
        ),
        ("dropout_p", 0.0),
    ),
}
"""By the operator's name: the argument that says the mode, and its value in evaluation mode."""
_NORMALISATIONS = frozenset(
    ("batch_norm", "native_batch_norm", "_native_batch_norm_legit", "_native_batch_norm_legit_functional")
)
"""They have an evaluation mode only if they keep running statistics."""
ALWAYS_TRAINING = frozenset(("_batch_norm_with_update", "_batch_norm_with_update_functional"))
"""Operators that only training mode calls."""
RANDOM = frozenset(
    (
        "bernoulli",
        "exponential",
        "multinomial",
        "normal",
        "poisson",
        "rand",
        "rand_like",
        "randint",
        "randint_like",
        "randn",
        "randn_like",
        "randperm",
        "uniform",
    )
)
"""Operators whose result is another one each time."""


def operator_of(target: str) -> str:
    """An operator's name without its library, its overload and the mark of writing in place."""
    name = target.removeprefix("torch.ops.").partition(".")[2].partition(".")[0]
    return name[:-1] if name.endswith("_") and not name.endswith("__") else name


def evaluation_argument(target: str, given: dict[str, Any]) -> tuple[str, Any] | None:
    """The argument of a call that is in training mode, and its value in evaluation mode; None if the call is not.

    given: plain values by the names of the arguments; those that are left out or None are not in it.
    """
    operator = operator_of(target)
    switch = _SWITCHES.get(operator)
    if switch is None:
        return None
    name, value = switch
    if operator in _NORMALISATIONS and not ("running_mean" in given and "running_var" in given):
        return None
    default = operator == "native_dropout"
    return switch if given.get(name, default) not in (value, False) else None


def captured_in_training(program: Program) -> bool:
    """Whether a call of the program does what only training mode does."""
    for call in program.calls:
        given = {name: value for name, (kind, value) in call.arguments.items() if kind != "none"}
        operator = operator_of(call.target)
        if operator in ALWAYS_TRAINING or operator in ("bernoulli", "rand") or evaluation_argument(call.target, given):
            return True
    return False
