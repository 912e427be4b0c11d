"""A whole classifier: the engine, the inlet that makes its tensors, and the names of its classes."""

from __future__ import annotations

import threading
from collections.abc import Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from zygal.artifact.formats import read_artifact
from zygal.classifier.labels import Labels, check_label_count
from zygal.classifier.layout import FROM_OTHER, image_layout
from zygal.classifier.scores import (
    INDEPENDENT,
    INDEPENDENT_LOGITS,
    LOG_PROBABILITIES,
    LOGITS,
    NOT_KNOWN,
    PROBABILITIES,
    as_two_classes,
    recorded_scores_kind,
    to_probabilities,
)
from zygal.engines.artifact import open_engine
from zygal.engines.engine import Engine, run_in_batches
from zygal.engines.live import open_live_engine
from zygal.errors import ArtifactError, EndpointError, EngineError, InletError, LabelsError, some_of
from zygal.files import kinds
from zygal.files.recognition import kind_of
from zygal.inlet import Inlet
from zygal.inlet.apply import ApplyInlet, InletTensor
from zygal.inlet.sizes import fixed_size
from zygal.inlet.values import to_tensor
from zygal.sources.opened import SourceFile

BATCH = 8
"""Images per inference. Larger batches are not faster on one core and take memory in every worker."""
_PROBES = 4


@dataclass
class Classifier:
    """May be used from several threads at once. Can be pickled: the copy opens its engine again from `path`.

    name: what the user called it. kind: what the scores are (of `zygal.classifier.scores.KINDS`), those of a yes-or-no
    model spread over two classes. own_kind: what the model itself gives. served: URL and timeout of the service that
    runs it instead of a runtime here. raw: it takes 8-bit pixels and holds the inlet itself. transposed: the axes of
    its input are in the other order than the inlet's tensor. named: whether the class names are known. output: the
    output that is used. lock: held while it runs, if it can serve one thread at a time only.
    """

    path: Path
    name: str
    sha256: str
    engine: Engine
    engine_name: str
    inlet: Inlet
    labels: tuple[str, ...] = ()
    labels_order: str | None = None
    kind: str = LOGITS
    own_kind: str = LOGITS
    raw: bool = False
    transposed: bool = False
    one_output: bool = False
    named: bool = True
    notes: list[str] = field(default_factory=list)
    live: bool = False
    output: str | None = None
    lock: threading.Lock | None = None
    served: tuple[str, float] | None = None

    @property
    def multi_label(self) -> bool:
        """Whether an image can have several labels."""
        return self.kind in (INDEPENDENT, INDEPENDENT_LOGITS)

    def reads_like(self, other: Classifier) -> bool:
        """Whether both are fed the same numbers."""
        return (self.inlet, self.raw) == (other.inlet, other.raw)

    def read(self, path: str | Path, data: bytes | None = None) -> InletTensor:
        """The tensor of one image. data: the file's bytes, if they were read already. Raises ImageError."""
        return ApplyInlet(self.inlet, self.raw).read(path, data)

    def __getstate__(self) -> dict:
        return {key: value for key, value in self.__dict__.items() if key not in ("engine", "lock")}

    def __setstate__(self, state: dict) -> None:
        self.__dict__.update(state)
        self.engine = self._opened()
        self.lock = threading.Lock() if self.live else None

    def _opened(self) -> Engine:
        if self.served:
            from zygal.endpoint.engine import EndpointEngine

            return EndpointEngine(*self.served, self.output)
        if self.live:
            return open_live_engine(self.path, self.output, image_shape=_channels_first(self.inlet))
        return open_engine(self.path, 1, self.output)

    def serve_at(self, url: str, timeout: float) -> None:
        """From now on a service runs the model; inlet, labels and what the scores are stay the artifact's. Raises
        EndpointError where the service is not ready, or its model has other inputs or another number of classes."""
        wanted = self._run(self._probes()).shape
        self.served = url, timeout
        self.engine = self._opened()
        self.engine_name = self.engine.name
        found = self._run(self._probes()).shape
        if found != wanted:
            raise EndpointError(
                f"{url} gives scores {list(found)} where {self.path} gives {list(wanted)}; another model is "
                f"served there."
            )

    def traffic_notes(self) -> list[str]:
        """Of one that is served, what a user should know of the traffic until now."""
        return self.engine.service.notes() if self.served else []

    def tensor(self, pixels: np.ndarray) -> np.ndarray:
        """The tensor of pixels [H, W, C] after the frame stage, or raw pixels unchanged."""
        return pixels if self.raw else to_tensor(pixels, self.inlet.values, self.inlet.tensor)[0]

    def scores(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        """Scores [N, classes], of two classes if it has one output. Raises EngineError."""
        scores = self._run(tensors)
        return as_two_classes(scores, self.own_kind)[0] if self.one_output else scores

    def raw_output(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        """What the model returns for tensors, [N, ...], as it is. Raises EngineError."""
        return self._run(tensors)

    def probabilities(self, scores: np.ndarray) -> np.ndarray:
        """Probabilities [N, classes] in float64 of what `scores` gave."""
        return to_probabilities(scores, self.kind)

    def predict(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        """Probabilities [N, classes] of tensors. Raises EngineError."""
        return self.probabilities(self.scores(tensors))

    def test_scores(self) -> np.ndarray:
        """What the model returns for test tensors, the same for every caller; [N, ...]. Raises EngineError."""
        return self._run(self._probes())

    def in_colour(self, pixels: np.ndarray) -> np.ndarray:
        """Pixels [H, W, C] that the model takes as [H, W, 3] in RGB order, for display."""
        if pixels.shape[2] == 1:
            return pixels.repeat(3, axis=2)
        return pixels[:, :, ::-1] if self.inlet.decode.colour == "bgr" and not self.raw else pixels

    def settle(self, declared: str, multi_label: bool, labels: Labels | None) -> None:
        """Runs test images, finds out what the scores are, and names the classes. declared: the kind by the last
        operator.

        Raises InletError, ArtifactError or LabelsError where model, inlet and labels do not fit.
        """
        if not self.raw and fixed_size(self.inlet) is None:
            raise InletError(
                f"the inlet of {self.name} gives tensors as large as each image, but a batch needs one size; "
                f"end its frame with a fixed size."
            )
        try:
            scores = self._run(self._probes())
        except EngineError as fault:
            raise InletError(f"{self.name} does not take the tensors of the inlet: {fault}") from fault
        if scores.ndim != 2:
            raise ArtifactError(f"{self.name} returns {list(scores.shape)}; scores must be [batch, classes].")
        self.one_output = scores.shape[1] == 1
        self.own_kind = self.kind = self._kind_of(scores, declared, multi_label)
        if self.one_output:
            self.kind = as_two_classes(scores, self.own_kind)[1]
        self._name(scores.shape[1], labels)

    def _kind_of(self, scores: np.ndarray, declared: str, multi_label: bool) -> str:
        """What the scores are, by the model's last operator, else by their values on the test images. Raises
        ArtifactError."""
        seen = recorded_scores_kind(scores)
        if declared == NOT_KNOWN:
            self.notes.append(
                f"what the scores of {self.name} are does not follow from its last operators; by their values on test "
                f"images they are treated as {seen if seen != INDEPENDENT else LOGITS}"
            )
            declared = LOGITS
        kind = seen if declared == LOGITS and seen in (PROBABILITIES, LOG_PROBABILITIES) else declared
        if multi_label and kind in (PROBABILITIES, LOG_PROBABILITIES) and not self.one_output:
            raise ArtifactError(
                f"{self.name} ends in a softmax, so its classes exclude each other; leave out --multi-label."
            )
        if declared == LOGITS and seen == INDEPENDENT and not multi_label:
            self.notes.append(
                f"the scores of {self.name} lie between 0 and 1 but no sigmoid makes them; they are treated as logits. "
                "Add --multi-label if they are probabilities of independent labels"
            )
        if multi_label and kind == LOGITS:
            return INDEPENDENT if seen == INDEPENDENT else INDEPENDENT_LOGITS
        return kind

    def _name(self, outputs: int, labels: Labels | None) -> None:
        """Sets the class names, or numbers where no names are known. Raises LabelsError."""
        if labels is not None:
            check_label_count(labels.names, outputs, labels.order)
            self.labels, self.labels_order = tuple(labels.names), labels.order
        elif self.labels:
            check_label_count(self.labels, outputs, f"the metadata of {self.name}")
        if self.one_output and len(self.labels) == 1:
            self.labels = (f"not {self.labels[0]}", *self.labels)
        if not self.labels:
            self.named = False
            self.labels = ("no", "yes") if self.one_output else tuple(f"class {index}" for index in range(outputs))

    def _run(self, tensors: Sequence[np.ndarray]) -> np.ndarray:
        if self.raw and len({each.shape for each in tensors}) > 1:
            return np.concatenate([self._run([each]) for each in tensors])
        batch = np.stack(tensors)
        if self.transposed:
            batch = np.ascontiguousarray(batch.transpose(FROM_OTHER[_OTHER[self.inlet.tensor.layout]]))
        with self.lock or nullcontext():
            return np.concatenate(list(run_in_batches(self.engine, batch, BATCH)))

    def _probes(self) -> list[np.ndarray]:
        """Tensors of noise, from smooth to rough."""
        rng = np.random.default_rng(0)
        height, width = fixed_size(self.inlet) or (64, 64)
        channels = 3 if self.raw else self.inlet.channels
        made = []
        for spread in np.linspace(8, 90, _PROBES):
            noise = rng.normal(128, spread, (height, width, channels)) + rng.normal(0, spread, channels)
            made.append(self.tensor(np.clip(noise, 0, 255).astype(np.uint8)))
        return made


_OTHER = {"NCHW": "NHWC", "NHWC": "NCHW"}


def open_artifact(
    path: str | Path,
    inlet: Inlet | None = None,
    labels: Labels | None = None,
    multi_label: bool = False,
    classes: bool = True,
    scores: str | None = None,
) -> Classifier:
    """An artifact, each call run on one core; inlet and labels are the artifact's own unless given. classes: whether
    its output is scores of classes, which is then looked at. scores: which of its outputs, if it has several. Raises
    ZygalError."""
    facts = read_artifact(path, scores)
    inside = facts.metadata
    raw = inside.tensor is not None
    if raw and inlet is not None:
        raise InletError(f"{path} takes raw pixels and holds its own inlet; leave out --inlet.")
    inlet = inlet or inside.inlet
    if inlet is None:
        raise InletError(f"{path} holds no inlet, so image files cannot be preprocessed; give --inlet FILE.")
    engine = open_engine(path, 1, facts.chosen.name)
    classifier = Classifier(
        Path(path),
        str(path),
        facts.sha256,
        engine,
        engine.name,
        inlet,
        inside.labels or (),
        inside.labels_order,
        raw=raw,
        output=facts.chosen.name,
    )
    if facts.chosen.reason:
        classifier.notes.append(facts.chosen.note(list(facts.outputs)))
    if classes:
        classifier.settle(facts.scores, multi_label, labels)
    return classifier


def open_compared(
    source: SourceFile,
    first: Classifier,
    inlet: Inlet | None = None,
    multi_label: bool = False,
    output: str | None = None,
) -> Classifier:
    """Another classifier to compare the first with: an artifact, or a source in its live framework with the first's
    labels.

    A source uses the first's inlet unless another is given; output names one of its several outputs. Raises ZygalError;
    LabelsError if the two have different classes.
    """
    if kind_of(source.path) in kinds.ARTIFACTS:
        other = open_artifact(source.path, inlet, multi_label=multi_label, scores=output)
        if not other.named and len(other.labels) == len(first.labels):
            other.labels, other.labels_order = first.labels, first.labels_order
    else:
        other = _open_live(source, first, inlet or first.inlet, multi_label, output)
    if other.multi_label != first.multi_label:
        raise LabelsError(
            f"one of {first.name} and {other.name} is multi-label and the other is not; they cannot be compared."
        )
    if set(other.labels) != set(first.labels):
        differing = sorted(set(first.labels) ^ set(other.labels))
        raise LabelsError(
            f"{other.name} and {first.name} have different classes (only in one of them: {some_of(differing)}); "
            "convert both with the same labels."
        )
    return other


def _channels_first(inlet: Inlet) -> tuple[int, ...] | None:
    """The shape [C, H, W] of an image after the inlet, whichever way round its tensor is; None if it depends on the
    image."""
    size = fixed_size(inlet)
    return None if size is None else (inlet.channels, *size)


def _open_live(
    source: SourceFile, first: Classifier, inlet: Inlet, multi_label: bool, output: str | None
) -> Classifier:
    classes = None if first.one_output else len(first.labels)
    engine = open_live_engine(source, output, classes, image_shape=_channels_first(inlet))
    layout = image_layout(tuple(engine.input_type.shape))
    # A framework has threads of its own, so one of our workers calls it at a time.
    other = Classifier(
        source.path,
        source.name,
        source.sha256,
        engine,
        f"{engine.name} {engine.version}",
        inlet,
        first.labels,
        first.labels_order,
        transposed=layout is not None and layout != inlet.tensor.layout,
        live=True,
        output=output,
        lock=threading.Lock(),
    )
    other.settle(first.own_kind if first.own_kind in (INDEPENDENT, INDEPENDENT_LOGITS) else LOGITS, multi_label, None)
    return other
