"""Which of a model's outputs are the class scores, where it has several and none is named."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from zygal.classifier.scores import before_scores, values_before
from zygal.errors import SourceError
from zygal.graph import TensorType

_LINEAR = frozenset(("addmm", "dense", "einsum", "gemm", "linear", "matmul", "mm"))
"""The operators of a linear layer, in every spelling without strokes."""
_NAMES = frozenset(
    ("classes", "classification", "logits", "prediction", "predictions", "probabilities", "probs", "scores")
)
"""What training code calls class scores."""
_ADDED = frozenset(("add", "mul"))
"""A bias and a scale behind a linear layer."""


@dataclass(frozen=True)
class Candidate:
    """One output. type: None where it is not known. linear: the place, among all operators of the model, of the linear
    layer that it ends in; None if it ends in another operator."""

    name: str
    type: TensorType | None
    linear: int | None


@dataclass(frozen=True)
class Choice:
    """The output that is taken. reason: why, as the end of a sentence; empty if it was named or is the only one."""

    name: str
    reason: str = ""

    def note(self, names: Sequence[str]) -> str:
        """A sentence for the user."""
        return (
            f"the model returns {len(names)} tensors ({', '.join(names)}); the scores are taken from {self.name}, "
            f"{self.reason}. Choose another with --scores NAME"
        )


def choose_output(where: str, candidates: Sequence[Candidate], named: str | None, classes: int | None = None) -> Choice:
    """The output with that name; else the one that looks most like class scores, the first of several alike.

    classes: how many classes there are, if it is known, by the labels for instance. Raises SourceError if there is no
    output of that name, or none at all.
    """
    names = [each.name for each in candidates]
    if not names:
        raise SourceError(f"{where} has no output; save the model with one that returns class scores.")
    if named is not None:
        if named not in names:
            raise SourceError(f"{where} has no output {named}; it has {', '.join(names)}.")
        return Choice(named)
    if len(candidates) == 1:
        return Choice(names[0])
    left, reason = list(candidates), ""
    for fits, why in (
        (_is_table, "the only output of the shape [batch, classes]"),
        (lambda each: _columns(each) == classes, f"the only output with {classes} classes"),
        (
            lambda each: each.name.lower().rpartition(".")[2] in _NAMES,
            "the only output that is called like class scores",
        ),
        (lambda each: each.linear is not None, "the only output that ends in a linear layer"),
        (lambda each: each.linear == max(other.linear or 0 for other in left), "which ends in the last linear layer"),  # noqa: B023
    ):
        kept = [each for each in left if fits(each)]
        if 0 < len(kept) < len(left):
            left, reason = kept, why
        if len(left) == 1:
            return Choice(left[0].name, reason)
    return Choice(
        left[0].name,
        "the first of the outputs that look like class scores"
        if len(left) < len(candidates) or _is_table(left[0])
        else "the first one, because none looks like class scores",
    )


def _is_table(candidate: Candidate) -> bool:
    """Whether an output is [batch, classes] in floating point."""
    type = candidate.type
    return type is not None and type.rank == 2 and type.dtype.kind == "f" and isinstance(type.shape[1], int)


def _columns(candidate: Candidate) -> int | None:
    return candidate.type.shape[1] if _is_table(candidate) else None


def depths(made_by: Mapping[str, tuple[str, Sequence[str]]]) -> dict[str, int]:
    """How many operators follow each other up to each value, at the most. made_by: see `scores.operators_before`, each
    value behind those that it reads. For files whose order says nothing: a head in the middle is less deep."""
    found: dict[str, int] = {}
    for name, (_, inputs) in made_by.items():
        found[name] = 1 + max((found.get(each, 0) for each in inputs), default=0)
    return found


def linear_place(value: str, made_by: Mapping[str, tuple[str, Sequence[str]]], places: Mapping[str, int]) -> int | None:
    """The place of the linear layer that a value ends in; None if it ends in no linear layer.

    made_by: see `scores.operators_before`. places: of each value's operator, or of its layer, in the model.
    """
    steps = list(values_before(value, made_by))
    behind = _ends_in_linear(made_by[step][0] for step in steps)
    return None if behind is None else places[steps[behind]]


def _ends_in_linear(operators: Iterable[str]) -> int | None:
    """How many operators stand behind the linear layer that an output ends in; None if it ends in no linear layer.

    operators: those that lead to it, the last one first. Rearrangements, biases and what makes probabilities are looked
    through.
    """
    for behind, name in enumerate(operators):
        plain = name.lower().replace("_", "")
        if plain in _LINEAR:
            return behind
        if plain not in _ADDED and not before_scores(name):
            return None
    return None
