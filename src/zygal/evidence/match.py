"""The match: tensors (A), model (B) and the whole way (C) against a witness, each by its own gates."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.engines import Engine, run_in_batches
from zygal.errors import ImageError, WitnessError
from zygal.evidence.causes import Cause, find_cause
from zygal.evidence.compare import ScoreComparison, compare_scores, tensor_differences
from zygal.evidence.images import check_images
from zygal.evidence.witness import Witness
from zygal.inlet import Inlet, apply_to_all

Progress = Callable[[int, int], None]


@dataclass(frozen=True)
class Limits:
    """tensor: grey levels. model and end_to_end: fractions of the spread of the recorded scores."""

    tensor: float = 0.5
    model: float = 1e-4
    end_to_end: float = 1e-2


@dataclass(frozen=True)
class Gate:
    """One condition. `measured` must not be above `limit`, both in `unit`; None means that it could not be measured."""

    comparison: str
    asks: str
    measured: float | None
    limit: float
    unit: str
    explanation: str = ""

    @property
    def holds(self) -> bool:
        return self.measured is not None and self.measured <= self.limit


@dataclass(frozen=True)
class ImageResult:
    """What was found for one image; None where it was not compared. Ranks are (class, score), best first."""

    name: str
    tensor_difference_grey_levels: float | None
    model_difference_of_spread: float
    end_to_end_difference_of_spread: float | None
    recorded_top: tuple[tuple[int, float], ...]
    artifact_top: tuple[tuple[int, float], ...]

    @property
    def badness(self) -> tuple[float, float]:
        """For sorting: what the user will see first, then the tensors."""
        end = self.end_to_end_difference_of_spread
        return (self.model_difference_of_spread if end is None else end, self.tensor_difference_grey_levels or 0.0)


@dataclass(frozen=True)
class Match:
    """The whole result. `unread`: recorded images that cannot be read here. `not_checked`: sentences.

    `cause`: the edit of the inlet that mends gate A, if A broke and one was found.
    """

    gates: tuple[Gate, ...]
    images: tuple[ImageResult, ...]
    ties: tuple[str, ...]
    unread: tuple[tuple[str, str], ...]
    not_checked: tuple[str, ...]
    notes: tuple[str, ...]
    spread: float
    cause: Cause | None

    @property
    def holds(self) -> bool:
        return all(gate.holds for gate in self.gates)


def match(
    engine: Engine,
    witness: Witness,
    inlet: Inlet | None = None,
    images: str | Path | None = None,
    limits: Limits = Limits(),
    progress: Progress = lambda done, total: None,
) -> Match:
    """Compares an artifact with a recording. Without images or without an inlet, B alone is checked.

    Raises WitnessError if the witness does not belong to the images or the artifact.
    """
    spread = witness.spread()
    if spread == 0:
        raise WitnessError("all recorded scores are the same number, so nothing can be proven with this witness.")
    total = len(witness.images)
    model = compare_scores(_scores(engine, witness.tensors, witness), witness.scores, spread, limits.model)
    gates = _score_gates("B", "the artifact on the recorded tensors", model, limits.model)
    not_checked, notes, unread = [], [], []
    tensors: dict[int, float | None] = {}
    end: ScoreComparison | None = None
    cause: Cause | None = None
    if images is None:
        not_checked.append("A and C were not checked: without the image files only the model can be compared")
    elif inlet is None:
        not_checked.append("A and C were not checked: the artifact carries no inlet and none was given")
    else:
        notes = check_images(witness.images, images)
        ours, tensors, unread, shape_fault = _our_tensors(witness, inlet, images, progress)
        tensor_gate = _tensor_gate(tensors, limits.tensor, shape_fault)
        gates = [tensor_gate, *gates]
        if not tensor_gate.holds and tensors:
            cause = find_cause(witness, inlet, images, tensors, limits.tensor)
        if unread:
            gates.insert(0, Gate("images", "recorded images that cannot be read here", len(unread), 0, "images"))
        if shape_fault:
            not_checked.append("C was not checked: the artifact cannot be fed the tensors of this inlet")
        elif ours:
            end = _end_to_end(engine, witness, ours, spread, limits.end_to_end)
            gates += _score_gates("C", "the artifact on our own tensors", end, limits.end_to_end, len(ours))
    place = {index: row for row, index in enumerate(sorted(ours))} if end else {}
    results = [_image_result(i, witness, model, end, place.get(i), tensors.get(i)) for i in range(total)]
    tied = [witness.images[i].name for i in np.flatnonzero(model.ties)]
    tied += [witness.images[i].name for i, row in place.items() if end.ties[row]]
    return Match(
        gates=tuple(gates),
        images=tuple(sorted(results, key=lambda result: result.badness, reverse=True)),
        ties=tuple(dict.fromkeys(tied)),
        unread=tuple(unread),
        not_checked=tuple(not_checked),
        notes=tuple(notes),
        spread=spread,
        cause=cause,
    )


def _scores(engine: Engine, tensors: np.ndarray, witness: Witness) -> np.ndarray:
    scores = np.concatenate(list(run_in_batches(engine, tensors)))
    if scores.ndim != 2 or scores.shape[1] != witness.scores.shape[1]:
        raise WitnessError(
            f"the artifact gives scores {list(scores.shape)}, but {list(witness.scores.shape)} were recorded; "
            "this witness was made from another model."
        )
    return scores


def _our_tensors(witness: Witness, inlet: Inlet, folder: str | Path, progress: Progress):
    """Our tensors by image number, their differences, what could not be read, and why shapes differ if they do."""
    ours, differences, unread = {}, {}, []
    shape_fault = ""
    all_made = apply_to_all([Path(folder) / image.name for image in witness.images], inlet)
    for index, image in enumerate(witness.images):
        progress(index, len(witness.images))
        made = next(all_made)
        if isinstance(made, ImageError):
            unread.append((image.name, str(made)))
            continue
        tensor = made.tensor
        recorded = witness.tensors[index]
        if tensor.shape != recorded.shape or tensor.dtype != recorded.dtype:
            shape_fault = (
                f"ours is {tensor.dtype} {list(tensor.shape)}, recorded is {recorded.dtype} {list(recorded.shape)}"
            )
            differences[index] = None
            continue
        ours[index] = tensor
        differences[index] = float(tensor_differences(made, recorded, inlet.tensor.layout).max())
    progress(len(witness.images), len(witness.images))
    return ours, differences, unread, shape_fault


def _tensor_gate(differences: dict[int, float | None], limit: float, shape_fault: str) -> Gate:
    asks = "our tensors from the image files: largest difference"
    if shape_fault or not differences:
        return Gate("A", asks, None, limit, "grey levels", shape_fault or "no image could be read")
    return Gate("A", asks, max(differences.values()), limit, "grey levels")


def _score_gates(
    letter: str, what: str, compared: ScoreComparison, limit: float, count: int | None = None
) -> list[Gate]:
    total = len(compared.scores) if count is None else count
    return [
        Gate(letter, f"{what}: largest score difference", float(compared.differences.max()), limit, "of the spread"),
        Gate(letter, f"{what}: other top-1 than recorded", int(compared.moved.sum()), 0, f"of {total} images"),
    ]


def _end_to_end(engine, witness: Witness, ours: dict[int, np.ndarray], spread: float, limit: float) -> ScoreComparison:
    order = sorted(ours)
    scores = _scores(engine, np.stack([ours[index] for index in order]), witness)
    return compare_scores(scores, witness.scores[order], spread, limit)


def _image_result(index: int, witness: Witness, model, end, row: int | None, tensor: float | None) -> ImageResult:
    artifact = model.scores[index] if row is None else end.scores[row]
    return ImageResult(
        name=witness.images[index].name,
        tensor_difference_grey_levels=tensor,
        model_difference_of_spread=float(model.differences[index]),
        end_to_end_difference_of_spread=None if row is None else float(end.differences[row]),
        recorded_top=top_classes(witness.scores[index]),
        artifact_top=top_classes(artifact),
    )


def top_classes(scores: np.ndarray, count: int = 3) -> tuple[tuple[int, float], ...]:
    """The best classes of one image with their scores, best first; equal scores in the order of the classes."""
    order = np.argsort(-scores, kind="stable")[:count]
    return tuple((int(index), float(scores[index])) for index in order)
