"""The match: tensors (A), model (B) and the whole way (C) against a witness, each by its own gates."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np

from zygal.engines import Engine, run_in_batches
from zygal.engines.runtime import RawPixelEngine
from zygal.errors import ImageError, WitnessError
from zygal.evidence.causes import Cause, find_cause
from zygal.evidence.compare import ScoreComparison, compare_scores, tensor_differences
from zygal.evidence.images import check_images
from zygal.evidence.layers import Departure, first_departure
from zygal.evidence.result import Gate, ImageResult, Limits, Match
from zygal.evidence.score_causes import explain_scores
from zygal.evidence.witness import Witness
from zygal.inlet import Inlet, apply_inlet, apply_to_all
from zygal.inlet.apply import raw_pixels

Progress = Callable[[str, float], None]

RAW_LEVELS = 1.0
"""How far the inlet inside an artifact may be from ours: a sum of float32 can fall on the other side of a half."""


def match(
    engine: Engine,
    witness: Witness,
    inlet: Inlet | None = None,
    images: str | Path | None = None,
    limits: Limits = Limits(),
    progress: Progress = lambda what, part: None,
    labels: Sequence[str] | None = None,
) -> Match:
    """Compares an artifact with a recording, and looks for the cause of what breaks.

    Without images or without an inlet, B alone is checked; of a witness without tensors, C alone. labels: the artifact's,
    for naming causes. Raises WitnessError if the witness does not belong to the images or the artifact.
    """
    found = _Findings(witness, limits)
    if witness.tensors is None:
        found.not_checked.append("A and B were not checked: the witness holds no tensors")
    else:
        found.check_model(engine, labels)
    if images is None or inlet is None:
        why = "without the image files only the model can be compared"
        why = why if images is None else "the artifact carries no inlet and none was given"
        if witness.tensors is None:
            raise WitnessError(f"nothing can be checked: the witness holds no tensors, and {why}.")
        found.not_checked.append(f"A and C were not checked: {why}")
    else:
        found.notes = check_images(witness.images, images)
        found.check_inlet(engine, inlet, images, progress, labels)
        if isinstance(engine, RawPixelEngine):
            found.check_raw_pixels(engine, inlet, images)
    return found.result()


class _Findings:
    """A match while it is made."""

    def __init__(self, witness: Witness, limits: Limits):
        self.witness, self.limits, self.spread = witness, limits, witness.spread()
        if self.spread == 0:
            raise WitnessError("all recorded scores are the same number, so nothing can be proven with this witness.")
        self.gates: list[Gate] = []
        self.not_checked: list[str] = []
        self.notes: list[str] = []
        self.unreadable: list[tuple[str, str]] = []
        self.differences: dict[int, float | None] = {}
        self.model: ScoreComparison | None = None
        self.end: ScoreComparison | None = None
        self.end_order: list[int] = []
        self.cause: Cause | None = None
        self.other_top_1: tuple[int, int] | None = None
        self.score_cause: str | None = None
        self.departure: Departure | None = None

    def check_model(self, engine: Engine, labels: Sequence[str] | None) -> None:
        """B: the artifact on the recorded tensors."""
        witness, limit = self.witness, self.limits.model
        scores = _scores(engine, witness.tensors, witness)
        self.model = compare_scores(scores, witness.scores, self.spread, limit)
        gates = _score_gates("B", "the artifact on the recorded tensors", self.model, limit)
        self.gates += gates
        if all(gate.passes for gate in gates):
            return
        self.score_cause = explain_scores(scores, witness.scores, limit, labels)
        if witness.layers is not None and self.score_cause is None:
            self.departure = first_departure(engine, witness)

    def check_inlet(
        self, engine: Engine, inlet: Inlet, images: str | Path, progress: Progress, labels: Sequence[str] | None
    ) -> None:
        """A: our tensors against the recorded ones, and C: the artifact on our tensors."""
        witness, limits = self.witness, self.limits
        ours, self.differences, self.unreadable, shape_fault = _our_tensors(witness, inlet, images, progress)
        if witness.tensors is not None:
            gate = _tensor_gate(self.differences, limits.tensor, shape_fault)
            self.gates.insert(0, gate)
            if not gate.passes and self.differences:
                self.cause = find_cause(witness, inlet, images, self.differences, limits.tensor, progress)
        if self.unreadable:
            self.gates.insert(
                0, Gate("images", "recorded images that cannot be read here", len(self.unreadable), 0, "images")
            )
        if shape_fault:
            self.not_checked.append("C was not checked: the artifact cannot be fed the tensors of this inlet")
            return
        if not ours:
            return
        self.end_order = sorted(ours)
        self.end = self._compared(engine, ours)
        gates = _score_gates("C", "the artifact on our own tensors", self.end, limits.end_to_end, len(ours))
        self.gates += gates
        if witness.tensors is None and not all(gate.passes for gate in gates):
            recorded = witness.scores[self.end_order]
            self.score_cause = explain_scores(self.end.scores, recorded, limits.end_to_end, labels)
        if self.cause is not None:
            corrected, *_ = _our_tensors(witness, self.cause.inlet, images, lambda what, part: None)
            mended = self._compared(engine, {index: corrected[index] for index in self.end_order})
            self.other_top_1 = int(self.end.moved.sum()), int(mended.moved.sum())

    def check_raw_pixels(self, engine: RawPixelEngine, inlet: Inlet, images: str | Path) -> None:
        """P: the artifact's own inlet against ours, and the whole artifact on raw pixels."""
        largest, rows, scores = 0.0, [], []
        for index, image in enumerate(self.witness.images):
            path = Path(images) / image.name
            try:
                pixels, made = raw_pixels(path, inlet.decode), apply_inlet(path, inlet)
            except ImageError:
                continue
            tensor, score = engine.look(pixels[None])
            if tensor[0].shape != made.tensor.shape:
                self.not_checked.append("P was not checked: the inlet given makes other tensors than the one inside")
                return
            largest = max(largest, float(tensor_differences(made, tensor[0], inlet.tensor.layout).max()))
            rows.append(index)
            scores.append(score[0])
        if not rows:
            self.not_checked.append("P was not checked: not one image could be read")
            return
        # A thousandth of a level is what float32 leaves of a mean and a deviation.
        self.gates.append(Gate("P", "the inlet inside the artifact against ours: largest difference", round(largest, 3),
                               RAW_LEVELS, "grey levels"))  # fmt: skip
        compared = compare_scores(np.stack(scores), self.witness.scores[rows], self.spread, self.limits.end_to_end)
        moved = int(compared.moved.sum())
        self.gates.append(
            Gate("P", "the artifact on raw pixels: other top-1 than recorded", moved, 0, f"of {len(rows)} images")
        )

    def _compared(self, engine: Engine, ours: dict[int, np.ndarray]) -> ScoreComparison:
        scores = _scores(engine, np.stack([ours[index] for index in self.end_order]), self.witness)
        return compare_scores(scores, self.witness.scores[self.end_order], self.spread, self.limits.end_to_end)

    def result(self) -> Match:
        images = self.witness.images
        place = {index: row for row, index in enumerate(self.end_order)}
        results = [self._image_result(index, place.get(index)) for index in range(len(images))]
        tied = [images[index].name for index in np.flatnonzero(self.model.ties)] if self.model else []
        tied += [images[index].name for index, row in place.items() if self.end.ties[row]]
        return Match(
            gates=tuple(self.gates),
            images=tuple(
                sorted((r for r in results if r is not None), key=lambda result: result.badness, reverse=True)
            ),
            ties=tuple(dict.fromkeys(tied)),
            unreadable=tuple(self.unreadable),
            not_checked=tuple(self.not_checked),
            notes=tuple(self.notes),
            spread=self.spread,
            cause=self.cause,
            other_top_1=self.other_top_1,
            score_cause=self.score_cause,
            departure=self.departure,
        )

    def _image_result(self, index: int, row: int | None) -> ImageResult | None:
        if row is None and self.model is None:
            return None
        return ImageResult(
            name=self.witness.images[index].name,
            tensor_difference_grey_levels=self.differences.get(index),
            model_difference_of_spread=None if self.model is None else float(self.model.differences[index]),
            end_to_end_difference_of_spread=None if row is None else float(self.end.differences[row]),
            recorded_top=top_classes(self.witness.scores[index]),
            artifact_top=top_classes(self.model.scores[index] if row is None else self.end.scores[row]),
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
    ours, differences, unreadable = {}, {}, []
    shape_fault = ""
    all_made = apply_to_all([Path(folder) / image.name for image in witness.images], inlet)
    for index, image in enumerate(witness.images):
        progress("comparing", index / len(witness.images))
        made = next(all_made)
        if isinstance(made, ImageError):
            unreadable.append((image.name, str(made)))
            continue
        tensor = made.tensor
        if witness.tensors is None:
            ours[index] = tensor
            continue
        recorded = witness.tensors[index]
        if tensor.shape != recorded.shape or tensor.dtype != recorded.dtype:
            shape_fault = (
                f"ours is {tensor.dtype} {list(tensor.shape)}, recorded is {recorded.dtype} {list(recorded.shape)}"
            )
            differences[index] = None
            continue
        ours[index] = tensor
        differences[index] = float(tensor_differences(made, recorded, inlet.tensor.layout).max())
    return ours, differences, unreadable, shape_fault


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


def top_classes(scores: np.ndarray, count: int = 3) -> tuple[tuple[int, float], ...]:
    """The best classes of one image with their scores, best first; equal scores in the order of the classes."""
    order = np.argsort(-scores, kind="stable")[:count]
    return tuple((int(index), float(scores[index])) for index in order)
