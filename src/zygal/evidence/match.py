"""The match: tensors (A), model (B) and end to end (C) against a witness, each with its own gates."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

import numpy as np

from zygal.engines import Engine, run_in_batches
from zygal.engines.onnx_inside import RawPixelEngine
from zygal.errors import ImageError, WitnessError
from zygal.evidence.causes import Cause, find_cause
from zygal.evidence.compare import ScoreComparison, compare_scores, largest_of, order_kept, tensor_differences
from zygal.evidence.layers import Departure, first_departure
from zygal.evidence.result import ImageResult, Limits, Match
from zygal.evidence.score_causes import explain_labels, explain_scores
from zygal.evidence.witness import Witness
from zygal.inlet import Inlet, Resize, apply_inlet, apply_to_all
from zygal.inlet.apply import raw_pixels
from zygal.inlet.images import check_images
from zygal.outcome import Gate

Progress = Callable[[str, float], None]


def raw_level_limit(inlet: Inlet) -> float:
    """The limit of P in grey levels. float32 sums can round a pixel to the neighbouring level; where a resize rounds
    after each of its two passes, this can happen twice."""
    twice = any(isinstance(step, Resize) and step.rounding.startswith("passes") for step in inlet.frame)
    return 2.0 if twice else 1.0


def match(
    engine: Engine,
    witness: Witness,
    inlet: Inlet | None = None,
    images: str | Path | None = None,
    limits: Limits = Limits(),
    progress: Progress = lambda what, part: None,
    labels: Sequence[str] | None = None,
) -> Match:
    """Compares an artifact with a recording, and looks for the causes of failed gates.

    Without images or without an inlet only B is checked; with a witness without tensors only C. labels: the artifact's,
    for naming classes in causes. Raises WitnessError if the witness does not belong to the images or the artifact.
    """
    found = _Findings(witness, limits)
    if witness.tensors is None:
        found.not_checked.append("A and B: not checked, because the witness holds no tensors")
    else:
        found.check_model(engine, labels)
    if images is None or inlet is None:
        why = "--images is not given" if images is None else "the artifact holds no inlet and --inlet is not given"
        if witness.tensors is None:
            raise WitnessError(
                f"nothing can be checked: the witness holds no tensors, and {why}; give both --images and an inlet."
            )
        found.not_checked.append(f"A and C: not checked, because {why}")
    else:
        found.notes = check_images(witness.images, images)
        found.check_inlet(engine, inlet, images, progress, labels)
        if isinstance(engine, RawPixelEngine):
            found.check_raw_pixels(engine, inlet, images)
    found.check_labels(labels)
    return found.result()


def served_gates(
    service: Engine, local: Engine | None, witness: Witness, spread: float, model_limit: float, limit: float
) -> tuple[tuple[Gate, ...], bool]:
    """E: a service against the artifact that it should serve, both on the recorded tensors; and whether the artifact
    gives the recorded scores within model_limit. No gate without the artifact or the tensors."""
    if local is None or witness.tensors is None:
        return (), False
    expected = _scores(local, witness.tensors, witness)
    matches = bool(np.abs(expected.astype(np.float64) - witness.scores).max() <= model_limit * spread)
    difference = np.abs(_scores(service, witness.tensors, witness).astype(np.float64) - expected).max() / spread
    difference = float(difference) if np.isfinite(difference) else None
    return (
        Gate(
            "E",
            "service and artifact: scores on the recorded tensors, largest difference",
            difference,
            limit,
            "of the spread",
            "NaN or infinity",
        ),
    ), matches


class _Findings:
    """A match while it is made."""

    def __init__(self, witness: Witness, limits: Limits):
        self.witness, self.limits, self.spread = witness, limits, witness.spread()
        if self.spread == 0:
            raise WitnessError(
                "all recorded scores are equal, so this witness proves nothing; record it again from the trained model."
            )
        self.gates: list[Gate] = []
        self.not_checked: list[str] = []
        self.notes: list[str] = []
        self.unreadable: list[tuple[str, str]] = []
        self.differences: dict[int, float | None] = {}
        self.model: ScoreComparison | None = None
        self.end: ScoreComparison | None = None
        self.end_order: list[int] = []
        self.cause: Cause | None = None
        self.changed_top_1: tuple[int, int] | None = None
        self.score_cause: str | None = None
        self.departure: Departure | None = None
        self.label_cause: str | None = None

    def check_labels(self, labels: Sequence[str] | None) -> None:
        """L: the artifact's class names against the recorded ones."""
        recorded = self.witness.labels
        if recorded is None or labels is None:
            holder = "the witness" if recorded is None else "the artifact"
            also = " (record them with zygal witness --labels)" if recorded is None else " (convert with --labels)"
            self.not_checked.append(f"L: the class names were not compared, because {holder} holds none{also}")
            return
        total = max(len(recorded), len(labels))
        differing = [index for index in range(total) if recorded[index : index + 1] != tuple(labels[index : index + 1])]
        self.gates.append(
            Gate(
                "L", "labels: class names that differ from the recorded ones", len(differing), 0, f"of {total} classes"
            )
        )
        if differing:
            self.label_cause = explain_labels(labels, recorded)

    def check_model(self, engine: Engine, labels: Sequence[str] | None) -> None:
        """B: the artifact on the recorded tensors."""
        witness, limit = self.witness, self.limits.model
        scores = _scores(engine, witness.tensors, witness)
        self.model = compare_scores(scores, witness.scores, self.spread)
        gates = self._score_gates("B", "model: scores on the recorded tensors", self.model, witness.scores, limit)
        self.gates += gates
        if all(gate.passes for gate in gates):
            return
        self.score_cause = explain_scores(scores, witness.scores, limit, labels)
        if witness.layers is None or self.score_cause is not None:
            return
        if hasattr(engine, "values"):
            self.departure = first_departure(engine, witness, scores, self.limits.shrunk)
        else:
            self.not_checked.append(
                "layers: not compared, because a service gives scores alone; match the artifact itself to see where it "
                "departs"
            )

    def check_inlet(
        self, engine: Engine, inlet: Inlet, images: str | Path, progress: Progress, labels: Sequence[str] | None
    ) -> None:
        """A: our tensors against the recorded ones, and C: the artifact on our tensors."""
        witness, limits = self.witness, self.limits
        ours, self.differences, self.unreadable, shape_difference = _our_tensors(witness, inlet, images, progress)
        if witness.tensors is not None:
            gate = _tensor_gate(self.differences, limits.tensor, shape_difference)
            self.gates.insert(0, gate)
            if not gate.passes and self.differences:
                self.cause = find_cause(witness, inlet, images, self.differences, limits.tensor, progress)
        if shape_difference:
            self.not_checked.append("C: not checked, because the artifact does not take the tensors of this inlet")
            return
        if not ours:
            return
        self.end_order = sorted(ours)
        self.end = self._compared(engine, ours)
        gates = self._score_gates(
            "C", "end to end: scores from the image files", self.end, witness.scores[self.end_order], limits.end_to_end
        )
        self.gates += gates
        if witness.tensors is None and not all(gate.passes for gate in gates):
            recorded = witness.scores[self.end_order]
            self.score_cause = explain_scores(self.end.scores, recorded, limits.end_to_end, labels)
        if self.cause is not None:
            corrected, *_ = _our_tensors(witness, self.cause.inlet, images, lambda what, part: None)
            corrected_scores = self._compared(engine, {index: corrected[index] for index in self.end_order})
            self.changed_top_1 = int(self.end.changed.sum()), int(corrected_scores.changed.sum())

    def check_raw_pixels(self, engine: RawPixelEngine, inlet: Inlet, images: str | Path) -> None:
        """P: the artifact's own inlet against ours, and the whole artifact on raw pixels."""
        largest, rows, scores = 0.0, [], []
        for index, image in enumerate(self.witness.images):
            path = Path(images) / image.name
            try:
                pixels, prepared = raw_pixels(path, inlet.decode), apply_inlet(path, inlet)
            except ImageError:
                continue
            tensor, score = engine.inspect(pixels[None])
            if tensor[0].shape != prepared.tensor.shape:
                self.not_checked.append(
                    "P: not checked, because --inlet gives tensors of another shape than the inlet inside the artifact"
                )
                return
            largest = largest_of((largest, float(tensor_differences(prepared, tensor[0], inlet.tensor.layout).max())))
            rows.append(index)
            scores.append(score[0])
        if not rows:
            self.not_checked.append("P: not checked, because no image could be read")
            return
        # float32 leaves about a thousandth of a level after subtracting a mean and dividing by a deviation.
        self.gates.append(
            Gate(
                "P",
                "inlet inside the artifact: largest difference from ours",
                round(largest, 3),
                raw_level_limit(inlet),
                "grey levels",
            )
        )
        compared = compare_scores(np.stack(scores), self.witness.scores[rows], self.spread)
        self.gates.append(
            _agree_gate("P", "artifact on raw pixels", compared, self.limits)
            if self.limits.shrunk
            else _changed_gate("P", "artifact on raw pixels", compared)
        )

    def _score_gates(
        self, letter: str, what: str, compared: ScoreComparison, recorded: np.ndarray, limit: float
    ) -> list[Gate]:
        if self.limits.shrunk:
            order = order_kept(compared.scores, recorded, self.spread)
            return [
                _agree_gate(letter, what, compared, self.limits),
                Gate(
                    letter, f"{what}, classes in the recorded order", order, self.limits.order, "share", at_least=True
                ),
            ]
        return [
            Gate(letter, f"{what}, largest difference", float(compared.differences.max()), limit, "of the spread"),
            _changed_gate(letter, what, compared),
        ]

    def _compared(self, engine: Engine, ours: dict[int, np.ndarray]) -> ScoreComparison:
        scores = _scores(engine, np.stack([ours[index] for index in self.end_order]), self.witness)
        return compare_scores(scores, self.witness.scores[self.end_order], self.spread)

    def result(self) -> Match:
        images = self.witness.images
        rows = {index: row for row, index in enumerate(self.end_order)}
        results = [self._image_result(index, rows.get(index)) for index in range(len(images))]
        tied = [images[index].name for index in np.flatnonzero(self.model.ties)] if self.model else []
        tied += [images[index].name for index, row in rows.items() if self.end.ties[row]]
        return Match(
            gates=tuple(self.gates),
            images=tuple(
                sorted((r for r in results if r is not None), key=lambda result: result.sort_key, reverse=True)
            ),
            ties=tuple(dict.fromkeys(tied)),
            unreadable=tuple(self.unreadable),
            not_checked=tuple(self.not_checked),
            notes=tuple(self.notes),
            spread=self.spread,
            cause=self.cause,
            changed_top_1=self.changed_top_1,
            score_cause=self.score_cause,
            departure=self.departure,
            label_cause=self.label_cause,
            model=self.model,
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
            f"the artifact returns scores {list(scores.shape)}, but scores {list(witness.scores.shape)} were recorded; "
            "this witness belongs to another model."
        )
    return scores


def _our_tensors(witness: Witness, inlet: Inlet, folder: str | Path, progress: Progress):
    """Our tensors by image index, their differences, unreadable images, and why shapes differ if they do."""
    ours, differences, unreadable = {}, {}, []
    shape_difference = ""
    results = apply_to_all([Path(folder) / image.name for image in witness.images], inlet)
    for index, image in enumerate(witness.images):
        progress("comparing", index / len(witness.images))
        prepared = next(results)
        if isinstance(prepared, ImageError):
            unreadable.append((image.name, str(prepared)))
            continue
        tensor = prepared.tensor
        if witness.tensors is None:
            ours[index] = tensor
            continue
        recorded = witness.tensors[index]
        if tensor.shape != recorded.shape or tensor.dtype != recorded.dtype:
            shape_difference = (
                f"ours {tensor.dtype} {list(tensor.shape)}, recorded {recorded.dtype} {list(recorded.shape)}"
            )
            differences[index] = None
            continue
        ours[index] = tensor
        differences[index] = float(tensor_differences(prepared, recorded, inlet.tensor.layout).max())
    return ours, differences, unreadable, shape_difference


def _tensor_gate(differences: dict[int, float | None], limit: float, shape_difference: str) -> Gate:
    condition = "preprocessing: largest tensor difference"
    if shape_difference or not differences:
        return Gate("A", condition, None, limit, "grey levels", shape_difference or "no image could be read")
    return Gate("A", condition, largest_of(differences.values()), limit, "grey levels")


def _agree_gate(letter: str, what: str, compared: ScoreComparison, limits: Limits) -> Gate:
    """The share of images with the recorded top-1 class; ties count as equal."""
    changed = int(compared.changed.sum()) - int(compared.ties.sum())
    return Gate(
        letter, f"{what}, top-1 equal", 1 - changed / len(compared.scores), limits.agree, "share", at_least=True
    )


def _changed_gate(letter: str, what: str, compared: ScoreComparison) -> Gate:
    """All changed top-1 classes; as many as are ties are allowed."""
    ties = int(compared.ties.sum())
    unit = f"of {len(compared.scores)} images" + (f" ({ties} {'tie' if ties == 1 else 'ties'})" if ties else "")
    return Gate(letter, f"{what}, changed top-1", int(compared.changed.sum()), ties, unit)


def top_classes(scores: np.ndarray, count: int = 3) -> tuple[tuple[int, float], ...]:
    """The classes with the highest scores of one image, highest first; equal scores in class order."""
    order = np.argsort(-scores, kind="stable")[:count]
    return tuple((int(index), float(scores[index])) for index in order)
