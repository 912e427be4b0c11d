"""Why scores differ although the model may be right: another form of scores, reordered classes, or reordered images."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

_FORMS: dict[str, Callable[[np.ndarray], np.ndarray]] = {}


def _form(name: str):
    def enter(function):
        _FORMS[name] = function
        return function

    return enter


@_form("softmax")
def _softmax(scores: np.ndarray) -> np.ndarray:
    raised = np.exp(scores - scores.max(axis=1, keepdims=True))
    return raised / raised.sum(axis=1, keepdims=True)


@_form("logarithm of the softmax")
def _log_softmax(scores: np.ndarray) -> np.ndarray:
    lowered = scores - scores.max(axis=1, keepdims=True)
    return lowered - np.log(np.exp(lowered).sum(axis=1, keepdims=True))


@_form("sigmoid")
def _sigmoid(scores: np.ndarray) -> np.ndarray:
    return 0.5 * (1 + np.tanh(scores / 2))


def explain_labels(labels: Sequence[str], recorded: Sequence[str]) -> str:
    """A sentence on how the artifact's class names differ from the recorded ones."""
    if len(labels) != len(recorded):
        return f"the artifact has {len(labels)} class names, and {len(recorded)} were recorded"
    indices = {name: index for index, name in enumerate(labels)}
    if set(indices) == set(recorded):
        nearest = np.array([indices[name] for name in recorded])
        return f"the artifact's labels are the recorded ones in another order: {_renaming_in_words(nearest, labels)}"
    index, (own, other) = next((index, pair) for index, pair in enumerate(zip(labels, recorded)) if pair[0] != pair[1])
    return f"class {index} is {own!r} in the artifact, but {other!r} was recorded"


def explain_scores(
    ours: np.ndarray, recorded: np.ndarray, limit: float, labels: Sequence[str] | None = None
) -> str | None:
    """A sentence that explains scores [N, classes] that differ from the recorded ones, or None.

    limit: the largest difference, as a part of the spread, at which scores count as the same. labels: the artifact's.
    """
    ours, recorded = ours.astype(np.float64), recorded.astype(np.float64)
    if not np.isfinite(ours).all():
        return "the artifact's scores are NaN or infinite"
    for explanation, our_scores, recorded_scores in _in_other_forms(ours, recorded):
        allowed = max(limit, 1e-4) * max(float(np.ptp(recorded_scores)), 1e-30)
        if np.abs(our_scores - recorded_scores).max() <= allowed:
            return explanation or None
        renamed = _renaming(our_scores, recorded_scores, allowed)
        if renamed is not None:
            sentence = _renaming_in_words(renamed, labels)
            return f"{sentence}, and {explanation}" if explanation else sentence
        if _shuffled(our_scores, recorded_scores, allowed):
            sentence = "the recorded rows are in another order: the same scores occur, but for other images"
            return f"{sentence}, and {explanation}" if explanation else sentence
    return None


def _in_other_forms(ours: np.ndarray, recorded: np.ndarray):
    yield "", ours, recorded
    probabilities = _probabilities(ours)
    for name, form in _FORMS.items():
        if name == "softmax" and probabilities and _probabilities(recorded):
            yield (
                "the artifact applies softmax twice: its scores are the softmax of the recorded probabilities",
                ours,
                form(recorded),
            )
            yield (
                "the recording applies softmax twice: its scores are the softmax of the artifact's probabilities",
                form(ours),
                recorded,
            )
            continue
        yield (
            f"the artifact does not apply the last step: the recorded scores are the {name} of its scores",
            form(ours),
            recorded,
        )
        yield (
            f"the artifact applies one more step at its end: its scores are the {name} of the recorded scores",
            ours,
            form(recorded),
        )
    yield from _twice(ours, recorded)


_TWICE = (("softmax", _softmax), ("sigmoid", _sigmoid))


def _twice(ours: np.ndarray, recorded: np.ndarray):
    """One side applies the last step twice, and the other not at all."""
    for name, form in _TWICE:
        yield f"the artifact applies {name} twice to the recorded scores", ours, form(form(recorded))
        yield f"the recording applies {name} twice to the artifact's scores", form(form(ours)), recorded


def _probabilities(scores: np.ndarray) -> bool:
    return bool(scores.min() >= 0 and np.abs(scores.sum(axis=1) - 1).max() < 1e-3)


def _renaming(ours: np.ndarray, recorded: np.ndarray, allowed: float) -> np.ndarray | None:
    """For each recorded class the class of ours with the same scores, if every one has one of its own."""
    if ours.shape[1] < 2:
        return None
    # Classes are found by the order of their scores of the first image and its neighbours in it, then proven.
    nearest = np.empty(recorded.shape[1], int)
    for index in range(recorded.shape[1]):
        nearest[index] = int(np.abs(ours - recorded[:, index : index + 1]).max(axis=0).argmin())
    unique = len(set(nearest)) == len(nearest) == ours.shape[1]
    same = unique and np.abs(ours[:, nearest] - recorded).max() <= allowed
    return nearest if same and (nearest != np.arange(len(nearest))).any() else None


def _renaming_in_words(nearest: np.ndarray, labels: Sequence[str] | None) -> str:
    count = len(nearest)
    if count > 2 and (nearest == np.arange(count)[::-1]).all():
        return f"the classes are in reversed order: recorded class 0 is class {nearest[0]} of the artifact"
    moved = int((nearest != np.arange(count)).sum())
    by = int(nearest[0])
    if (nearest == (np.arange(count) + by) % count).all():
        by = by if by <= count // 2 else by - count
        return f"the classes are shifted by {abs(by)}: recorded class 0 is class {nearest[0]} of the artifact"
    as_text = np.array(sorted(range(count), key=str))
    for order, which in ((as_text, "the recording's"), (np.argsort(as_text), "the artifact's")):
        if (nearest == order).all():
            return f'the classes are sorted as text in {which} order ("10" before "2")'
    if labels is not None and len(labels) == count:
        sorted_labels = np.array(sorted(range(count), key=lambda index: labels[index]))
        for order, which in ((sorted_labels, "the recording's"), (np.argsort(sorted_labels), "the artifact's")):
            if (nearest == order).all():
                return f"the classes are sorted by label in {which} order"
    first = int(np.flatnonzero(nearest != np.arange(count))[0])
    return (
        f"{moved} of {count} classes have other indices: recorded class {first} is class {nearest[first]} of "
        f"the artifact"
    )


def _shuffled(ours: np.ndarray, recorded: np.ndarray, allowed: float) -> bool:
    """Whether the rows are the same in another order."""
    if len(ours) < 3 or len(ours) > 5000:
        return False
    nearest = np.array([int(np.abs(ours - row).max(axis=1).argmin()) for row in recorded])
    return len(set(nearest)) == len(nearest) and np.abs(ours[nearest] - recorded).max() <= allowed
