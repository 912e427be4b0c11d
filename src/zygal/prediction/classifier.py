"""A classifier as a whole: an engine with the inlet that feeds it and the names of what it answers."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from zygal import kinds
from zygal.artifact import read_artifact
from zygal.engines.engine import Engine, run_in_batches
from zygal.engines.live import open_live_engine
from zygal.engines.runtime import RuntimeEngine
from zygal.errors import ArtifactError, EngineError, InletError, LabelsError
from zygal.files import sha256_of
from zygal.inlet import Inlet, apply_inlet
from zygal.inlet.apply import InletTensor, raw_pixels
from zygal.inlet.values import to_tensor
from zygal.labels import Labels, check_label_count
from zygal.layout import FROM_OTHER, image_layout
from zygal.scores import (
    INDEPENDENT,
    INDEPENDENT_LOGITS,
    LOG_PROBABILITIES,
    LOGITS,
    PROBABILITIES,
    as_two_classes,
    recorded_scores_kind,
    to_probabilities,
)

BATCH = 8
"""Enough for the weights to be read once for several images; more brings no speed and takes memory in every thread."""
_PROBES = 4


@dataclass
class Classifier:
    """May be used from several threads at once.

    kind: what the scores are (of `zygal.scores.KINDS`), those of a yes-or-no model spread over two classes. own_kind: what
    the model itself gives. raw: it is fed 8-bit pixels and holds the inlet itself. turned: the axes of its input lie in the
    other order than the inlet's tensor. named: whether anybody named the classes. lock: held while it runs, if it can serve
    one thread at a time only.
    """

    path: Path
    sha256: str
    engine: Engine
    engine_name: str
    inlet: Inlet
    labels: tuple[str, ...] = ()
    labels_order: str | None = None
    kind: str = LOGITS
    own_kind: str = LOGITS
    raw: bool = False
    turned: bool = False
    one_output: bool = False
    named: bool = True
    notes: list[str] = field(default_factory=list)
    lock: threading.Lock | None = None

    @property
    def multi_label(self) -> bool:
        return self.kind in (INDEPENDENT, INDEPENDENT_LOGITS)

    def reads_like(self, other: Classifier) -> bool:
        """Whether both are fed the same numbers."""
        return (self.inlet, self.raw) == (other.inlet, other.raw)

    def read(self, path: str | Path) -> InletTensor:
        """One image file as it is fed. Raises ImageError."""
        if not self.raw:
            return apply_inlet(path, self.inlet)
        pixels = raw_pixels(path, self.inlet.decode)
        return InletTensor(pixels, pixels, np.ones(3))

    def tensor(self, pixels: np.ndarray) -> np.ndarray:
        """What is fed of pixels [H, W, C] that the frame stage left, or of raw ones."""
        return pixels if self.raw else to_tensor(pixels, self.inlet.values, self.inlet.tensor)[0]

    def scores(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        """Scores [N, classes], of two classes if it has one output. Raises EngineError."""
        scores = self._run(tensors)
        return as_two_classes(scores, self.own_kind)[0] if self.one_output else scores

    def probabilities(self, scores: np.ndarray) -> np.ndarray:
        """Probabilities [N, classes] in float64 of what `scores` gave."""
        return to_probabilities(scores, self.kind)

    def answer(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        """Probabilities [N, classes] of tensors. Raises EngineError."""
        return self.probabilities(self.scores(tensors))

    def in_colour(self, pixels: np.ndarray) -> np.ndarray:
        """Pixels [H, W, C] that it is fed as [H, W, 3] in the order RGB, for the eye."""
        if pixels.shape[2] == 1:
            return pixels.repeat(3, axis=2)
        return pixels[:, :, ::-1] if self.inlet.decode.colour == "bgr" and not self.raw else pixels

    def settle(self, declared: str, multi_label: bool, labels: Labels | None) -> None:
        """Runs probes, finds out what the scores are, and names them. declared: what they are by the model's last operator.

        Raises InletError, ArtifactError or LabelsError where model, inlet and labels do not fit.
        """
        if not self.raw and self.inlet.fixed_size() is None:
            raise InletError(
                f"the inlet of {self.path} leaves tensors as large as each image; batches need one size, so end its frame with one."
            )
        try:
            scores = self._run(self._probes())
        except EngineError as fault:
            raise InletError(f"{self.path} does not take what the inlet makes: {fault}") from fault
        if scores.ndim != 2:
            raise ArtifactError(f"{self.path} gives {list(scores.shape)}; scores must be [batch, classes].")
        self.one_output = scores.shape[1] == 1
        self.own_kind = self.kind = self._kind_of(scores, declared, multi_label)
        if self.one_output:
            self.kind = as_two_classes(scores, self.own_kind)[1]
        self._name(scores.shape[1], labels)

    def _kind_of(self, scores: np.ndarray, declared: str, multi_label: bool) -> str:
        """What the scores of probes are, by the model's last operator, else by their values. Raises ArtifactError."""
        seen = recorded_scores_kind(scores)
        kind = seen if declared == LOGITS and seen in (PROBABILITIES, LOG_PROBABILITIES) else declared
        if multi_label and kind in (PROBABILITIES, LOG_PROBABILITIES) and not self.one_output:
            raise ArtifactError(
                f"{self.path} ends in a softmax: its classes exclude each other, so it is not multi-label."
            )
        if declared == LOGITS and seen == INDEPENDENT and not multi_label:
            self.notes.append(
                f"the scores of {self.path} lie between 0 and 1 though no sigmoid makes them; they are taken as logits, "
                "unless --multi-label says that they are probabilities"
            )
        if multi_label and kind == LOGITS:
            return INDEPENDENT if seen == INDEPENDENT else INDEPENDENT_LOGITS
        return kind

    def _name(self, outputs: int, labels: Labels | None) -> None:
        """Gives the classes their names, or numbers where nobody did. Raises LabelsError."""
        if labels is not None:
            check_label_count(labels.names, outputs, labels.order)
            self.labels, self.labels_order = tuple(labels.names), labels.order
        elif self.labels:
            check_label_count(self.labels, outputs, f"the metadata of {self.path}")
        if self.one_output and len(self.labels) == 1:
            self.labels = (f"not {self.labels[0]}", *self.labels)
        if not self.labels:
            self.named = False
            self.labels = ("no", "yes") if self.one_output else tuple(f"class {index}" for index in range(outputs))

    def _run(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        if self.raw and len({each.shape for each in tensors}) > 1:
            return np.concatenate([self._run([each]) for each in tensors])
        batch = np.stack(tensors)
        if self.turned:
            batch = np.ascontiguousarray(batch.transpose(FROM_OTHER[_OTHER[self.inlet.tensor.layout]]))
        with self.lock or nullcontext():
            return np.concatenate(list(run_in_batches(self.engine, batch, BATCH)))

    def _probes(self) -> list[np.ndarray]:
        """Noise, from smooth to rough, as it is fed."""
        chance = np.random.default_rng(0)
        height, width = self.inlet.fixed_size() or (64, 64)
        channels = 3 if self.raw else self.inlet.channels
        made = []
        for spread in np.linspace(8, 90, _PROBES):
            noise = chance.normal(128, spread, (height, width, channels)) + chance.normal(0, spread, channels)
            made.append(self.tensor(np.clip(noise, 0, 255).astype(np.uint8)))
        return made


_OTHER = {"NCHW": "NHWC", "NHWC": "NCHW"}


def open_artifact(
    path: str | Path,
    inlet: Inlet | None = None,
    labels: Labels | None = None,
    multi_label: bool = False,
) -> Classifier:
    """An artifact, each run on one core; inlet and labels are the artifact's own unless they are given. Raises ZygalError."""
    facts = read_artifact(path)
    inside = facts.metadata
    raw = inside.tensor is not None
    if raw and inlet is not None:
        raise InletError(f"{path} takes raw pixels and holds its inlet; another one cannot be put before it.")
    inlet = inlet or inside.inlet
    if inlet is None:
        raise InletError(f"{path} carries no inlet, so it is not known how an image is fed to it; give --inlet FILE.")
    engine = RuntimeEngine(path, 1)
    made = Classifier(
        Path(path), facts.sha256, engine, engine.name, inlet, inside.labels or (), inside.labels_order, raw=raw
    )
    made.settle(facts.scores, multi_label, labels)
    return made


def open_beside(
    path: str | Path,
    first: Classifier,
    inlet: Inlet | None = None,
    multi_label: bool = False,
    output: str | None = None,
) -> Classifier:
    """Another classifier to be put beside the first: an artifact, or a source in its live framework with the first's labels.

    A source is fed by the first's inlet unless another is given; output names one of its several outputs. Raises ZygalError; LabelsError if they name different
    things.
    """
    if kinds.kind_of(path) == kinds.ARTIFACT:
        if output is not None:
            raise EngineError(f"{path} is an artifact, which has one output; --beside-scores chooses among those of a source.")
        other = open_artifact(path, inlet, multi_label=multi_label)
        if not other.named and len(other.labels) == len(first.labels):
            other.labels, other.labels_order = first.labels, first.labels_order
    else:
        kinds.trained_kind(path)
        engine = open_live_engine(path, output)
        inlet = inlet or first.inlet
        layout = image_layout(tuple(engine.input_type.shape))
        # A framework has threads of its own; it is asked by one of ours at a time.
        other = Classifier(Path(path), sha256_of(path), engine, f"{engine.name} {engine.version}", inlet, first.labels,
                           first.labels_order, turned=layout is not None and layout != inlet.tensor.layout,
                           lock=threading.Lock())  # fmt: skip
        declared = first.own_kind if first.own_kind in (INDEPENDENT, INDEPENDENT_LOGITS) else LOGITS
        other.settle(declared, multi_label, None)
    if other.multi_label != first.multi_label:
        raise LabelsError(
            f"one of {first.path} and {path} gives an image several labels and the other one; they cannot be compared."
        )
    if set(other.labels) != set(first.labels):
        missing = sorted(set(first.labels) ^ set(other.labels))
        raise LabelsError(
            f"{path} and {first.path} do not name the same classes ({', '.join(missing[:3])} only in one of them); "
            "give both the same labels."
        )
    return other
