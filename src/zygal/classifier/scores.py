"""What the scores of a classifier are, by the operator that makes them or by their values, and what they mean."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice

import numpy as np

LOGITS, PROBABILITIES, LOG_PROBABILITIES = "logits", "probabilities", "log-probabilities"
INDEPENDENT, INDEPENDENT_LOGITS = "independent probabilities", "independent logits"
NOT_KNOWN = "not known"
"""What is said of scores whose last operator could make anything; their values may still show what they are."""
KINDS = (LOGITS, PROBABILITIES, LOG_PROBABILITIES, INDEPENDENT, INDEPENDENT_LOGITS)
"""The independent ones belong to models that may give an image several labels, or none."""

_BY_OPERATOR = {
    "softmax": PROBABILITIES,
    "sigmoid": INDEPENDENT,
    "specialexpit": INDEPENDENT,
    "hardsigmoid": INDEPENDENT,
    "logsoftmax": LOG_PROBABILITIES,
}


_REARRANGING = frozenset(
    (
        "alias",
        "cast",
        "clone",
        "contiguous",
        "dequantizelinear",
        "detach",
        "dropout",
        "flatten",
        "identity",
        "permute",
        "quantizelinear",
        "reshape",
        "slice",
        "squeeze",
        "t",
        "to",
        "tocopy",
        "transpose",
        "unsafeview",
        "unsqueeze",
        "view",
    )
)
"""Operators that change what the scores are no more than a rearrangement does, in every spelling without strokes."""


OF_UNKNOWN_MEANING = "unknown"
"""Stands for an operator whose meaning is not known."""
_COULD_BE_ANYTHING = frozenset(
    (
        OF_UNKNOWN_MEANING,
        "div",
        "exp",
        "gather",
        "if",
        "log",
        "loop",
        "lpnormalization",
        "maximum",
        "minimum",
        "normalize",
        "pow",
        "realdiv",
        "reciprocal",
        "scan",
        "sqrt",
        "tanh",
        "truediv",
        "where",
    )
)
"""Operators behind which scores are of no kind that can be told."""
_QUOTIENTS = ("div", "realdiv", "truediv")
_SPELLED_OUT = (
    (PROBABILITIES, (_QUOTIENTS, ("exp",))),
    (INDEPENDENT, ((*_QUOTIENTS, "reciprocal"), ("add", "addv2"), ("exp",), ("neg",))),
)
"""A softmax as a quotient of exponents, and a sigmoid as 1 / (1 + exp(-x)), the last operator first."""


def before_scores(name: str) -> bool:
    """Whether an operator only rearranges scores or makes another form of them."""
    plain = name.lower().replace("_", "")
    return plain in _REARRANGING or plain in _BY_OPERATOR


def softmax_twice(operators: Iterable[str]) -> bool:
    """Whether the scores are the softmax of a softmax. operators: those that lead to them, the last one first."""
    applied = 0
    for name in operators:
        plain = name.lower().replace("_", "")
        if plain in ("softmax", "logsoftmax"):
            applied += 1
        elif plain not in _REARRANGING:
            break
    return applied > 1


def scores_by_operators(operators: Iterable[str]) -> str:
    """What scores are, by the operators that lead to them, the last one first; "logits" if none of them says more, and
    "not known" where they end in what can make anything.

    Operators that only rearrange or cast are looked through. A source and its artifact are judged alike.
    """
    plain = (name.lower().replace("_", "") for name in operators)
    last = list(islice((name for name in plain if name not in _REARRANGING), 4))
    for kind, spelled in _SPELLED_OUT:
        if len(last) >= len(spelled) and all(name in names for name, names in zip(last, spelled)):
            return kind
    if not last:
        return LOGITS
    return _BY_OPERATOR.get(last[0]) or (NOT_KNOWN if last[0] in _COULD_BE_ANYTHING else LOGITS)


def operators_before(name: str, made_by: Mapping[str, tuple[str, Sequence[str]]]) -> Iterator[str]:
    """The operators that lead to a value, each by its first input. made_by: the operator and the inputs of each
    value."""
    return (made_by[value][0] for value in values_before(name, made_by))


def values_before(name: str, made_by: Mapping[str, tuple[str, Sequence[str]]]) -> Iterator[str]:
    """A value and those that lead to it, each by its first input that an operator makes; see `operators_before`."""
    seen = set()
    while name in made_by and name not in seen:
        seen.add(name)
        yield name
        inputs = made_by[name][1]
        name = next((each for each in inputs if each in made_by), "")


def recorded_scores_kind(scores: np.ndarray) -> str:
    """What recorded scores [N, classes] look like, by their values."""
    if scores.min() >= 0 and scores.max() <= 1 + 1e-5:
        sums = scores.sum(axis=1)
        return PROBABILITIES if np.allclose(sums, 1, atol=1e-3) else INDEPENDENT
    if scores.max() <= 1e-5 and np.allclose(np.exp(scores.astype(np.float64)).sum(axis=1), 1, atol=1e-3):
        return LOG_PROBABILITIES
    return LOGITS


def to_probabilities(scores: np.ndarray, kind: str) -> np.ndarray:
    """Probabilities [N, classes] in float64 of scores of one of KINDS: softmax or sigmoid, where it has not been
    applied."""
    numbers = scores.astype(np.float64)
    if kind in (PROBABILITIES, INDEPENDENT):
        return numbers
    if kind == LOG_PROBABILITIES:
        return np.exp(numbers)
    if kind == INDEPENDENT_LOGITS:
        # Neither side of zero may overflow.
        small = np.exp(-np.abs(numbers))
        return np.where(numbers >= 0, 1, small) / (1 + small)
    raised = np.exp(numbers - numbers.max(axis=1, keepdims=True))
    return raised / raised.sum(axis=1, keepdims=True)


def as_two_classes(scores: np.ndarray, kind: str) -> tuple[np.ndarray, str]:
    """The one score of a yes-or-no model [N, 1] as those of two classes [N, 2], no and yes, and their kind."""
    if kind in (LOGITS, INDEPENDENT_LOGITS):
        return np.concatenate([np.zeros_like(scores), scores], axis=1), LOGITS
    return np.concatenate([1 - scores, scores], axis=1), PROBABILITIES
