"""Labels in the wrong order: another assignment of names to outputs that explains the predictions better."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

SIGNIFICANCE = 0.05
"""The largest p-value at which labels are called exchanged."""
CLEAR = 1e-4
"""The largest p-value at which they are called so although the present order explains more than half as many images."""


@dataclass(frozen=True)
class Exchange:
    """Labels that look exchanged. predicted_as: true class to predicted class, for the classes concerned.
    correct_if_exchanged: how many images would be correct if the labels were exchanged so; correct: how many are now.
    shift: the offset, if it is the same for all classes. reversed: whether the order of all is reversed. p_value: the
    largest of the sign tests of the groups of classes that change places."""

    predicted_as: dict[str, str]
    correct_if_exchanged: int
    correct: int
    shift: int | None
    reversed: bool
    p_value: float


def exchanged_labels(confusion: np.ndarray, names: Sequence[str]) -> Exchange | None:
    """The exchange of labels that the counts [true class, predicted class] show, or None.

    The assignment of true classes to outputs that makes most images correct (Kuhn, "The Hungarian method for the
    assignment problem", 1955) falls into groups of classes that change places among each other. A group counts if the
    sign test on its images, those predicted as assigned against those predicted as named, is significant, and if most
    of its classes are predicted most often as the assigned class.
    """
    present = np.flatnonzero(confusion.sum(axis=1))
    if len(present) < 2:
        return None
    assigned = _assigned(confusion, present)
    groups = [
        (group, p_value) for group in _groups(present, assigned) if (p_value := _evidence(confusion, group)) is not None
    ]
    if not groups:
        return None
    moved = {true: predicted for group, _ in groups for true, predicted in group}
    correct = int(np.trace(confusion))
    gained = sum(int(confusion[true, predicted] - confusion[true, true]) for true, predicted in moved.items())
    return Exchange(
        predicted_as={names[true]: names[predicted] for true, predicted in sorted(moved.items())},
        correct_if_exchanged=correct + gained,
        correct=correct,
        shift=_shift(moved, len(present), len(names)),
        reversed=_reversed(moved, present, len(names)),
        p_value=max(p_value for _, p_value in groups),
    )


def _assigned(confusion: np.ndarray, present: np.ndarray) -> np.ndarray:
    """For each present class the class that it is assigned to; where two assignments are as good, the one that changes
    less."""
    from scipy.optimize import linear_sum_assignment

    # Whole counts with a preference for the diagonal that no count can be outweighed by.
    weights = confusion[present].astype(np.int64) * (len(present) + 1)
    weights[np.arange(len(present)), present] += 1
    return linear_sum_assignment(weights, maximize=True)[1]


def _groups(present: np.ndarray, assigned: np.ndarray) -> Iterator[list[tuple[int, int]]]:
    """The (class, assigned class) pairs that hang together: cycles, and chains that end in a class without images."""
    target = dict(zip(present.tolist(), assigned.tolist()))
    moved = {true for true, predicted in target.items() if true != predicted}
    beginnings = moved - {target[true] for true in moved}
    for first in [*sorted(beginnings), *sorted(moved)]:
        group = []
        while first in moved:
            moved.remove(first)
            group.append((first, target[first]))
            first = target[first]
        if group:
            yield group


def _evidence(confusion: np.ndarray, group: list[tuple[int, int]]) -> float | None:
    """The p-value of a group's exchange, or None if it is not called one."""
    from scipy.stats import binom

    true, predicted = (np.array(side) for side in zip(*group))
    now, then = confusion[true, true], confusion[true, predicted]
    images, correct_now, correct_then = int(confusion[true].sum()), int(now.sum()), int(then.sum())
    p_value = float(binom.sf(correct_then - 1, correct_now + correct_then, 0.5))
    most = int((then >= confusion[true].max(axis=1)).sum())
    closed = set(true.tolist()) == set(predicted.tolist())
    if 2 * most < len(group) or p_value > SIGNIFICANCE:
        return None
    if closed:
        clear = correct_then >= 2 * correct_now or p_value <= CLEAR
    else:
        # A class that is hard may well be predicted as another one of which there are no images.
        clear = correct_then >= 5 * correct_now and 5 * correct_then >= 3 * images
    return p_value if clear else None


def _reversed(moved: dict[int, int], present: np.ndarray, classes: int) -> bool:
    """Whether the order of all labels is reversed; the middle one of an odd number stays."""
    moving = [true for true in present if 2 * true != classes - 1]
    return len(moving) > 2 and moved == {int(true): classes - 1 - int(true) for true in moving}


def _shift(moved: dict[int, int], present: int, classes: int) -> int | None:
    """The offset that all classes share, the shorter way round."""
    offsets = {(predicted - true) % classes for true, predicted in moved.items()}
    if len(moved) < present or len(offsets) != 1:
        return None
    (offset,) = offsets
    return offset - classes if offset > classes // 2 else offset
