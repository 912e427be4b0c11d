"""zygal tally: metrics of an artifact on labelled images."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.cluster.opened import ClassifierRequest, ClusterUsed, check_request, open_classifiers, open_pool
from zygal.errors import LabelsError, OutputError, some_of
from zygal.files.outputs import PICTURE, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line
from zygal.outcome import Gate, Outcome
from zygal.request import option, paths_read, refuse_unused, refuse_without

if TYPE_CHECKING:
    from zygal.prediction.classifier import Classifier
    from zygal.prediction.labelled import Joined, LabelledImage
    from zygal.statistics.intervals import Estimate
    from zygal.tally.tally import Tally

FIGURES = ("confusion.png", "reliability.png", "wrong.png")
FEW_CLASSES = 20


@dataclass(frozen=True, kw_only=True)
class TallyRequest(ClassifierRequest):
    """What zygal tally is asked for."""

    images: str = option(
        "a folder with one sub-folder per class, or a CSV or Parquet table: path (relative to the table), label, "
        "perhaps group; all may be URLs",
        metavar="DIR|CSV",
        reads=True,
    )
    numbers: str | None = option(
        "what numeric labels mean: a labels file, or the training folder", None, metavar="FILE", reads=True
    )
    top: tuple[int, ...] | None = option(
        "the k of the top-k accuracies (default: 1,3 or 1,5)", None, metavar="K,K", kind="numbers"
    )
    threshold: float = option(
        "multi-label: the probability from which a label is assigned (default: {default})",
        0.5,
        metavar="SHARE",
        kind="share of one",
    )
    min_accuracy: float | None = option("gate: fail below this accuracy", None, metavar="SHARE", kind="share of one")
    margin: float = option(
        "with --compare: the loss of accuracy that still counts as not worse (default: {default})",
        0.01,
        metavar="SHARE",
        kind="share of one",
        needs="compare",
    )
    trained_on: tuple[str, ...] = option(
        "folder of training images: labelled images that are also there are listed", (), metavar="DIR", reads=True
    )
    worst: int = option(
        "how many of the worst classes, pairs and images to list (default: {default})", 12, metavar="N", kind="int"
    )
    draw: str | None = option(
        "draw the confusion matrix, the calibration and the wrong predictions there", None, metavar="DIR", writes=True
    )
    pair: str | None = option(
        "with --draw: only the wrong predictions of this pair of classes", None, metavar="TRUE,PREDICTED"
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(str(Path(self.draw) / name), PICTURE, True) for name in FIGURES] if self.draw else []


@dataclass(frozen=True, kw_only=True)
class TallyOutcome(Outcome):
    """artifact, compared: what the user called them. engine: what ran the artifact. labels: class names in order.
    worst: how many of the worst classes, pairs and images a report lists. left_out: images whose labels are no
    classes."""

    kind: ClassVar[str] = "zygal.tally"

    artifact: str
    engine: str
    images: str
    scores: str
    labels: tuple[str, ...]
    labels_order: str | None
    found: Tally
    compared: str | None = None
    worst: int = 12
    cluster: ClusterUsed | None = None
    left_out: int = 0

    @property
    def conclusions(self) -> tuple[str, ...]:
        """See `Outcome.conclusions`."""
        from zygal.tally.conclusions import calibration_sentence, paired_sentences, warnings

        found = self.found
        paired = paired_sentences(found.paired, self.artifact, self.compared) if found.paired else []
        what = "predictions" if found.exclusive else "labels"
        return (calibration_sentence(found.calibration, what), *warnings(found, self.worst), *paired)

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found = self.found
        return {
            "artifact": self.artifact,
            "engine": self.engine,
            "compared": self.compared,
            "cluster": self.cluster and asdict(self.cluster),
            "images_from": self.images,
            "images": found.images,
            "labels": list(self.labels),
            "labels_order": self.labels_order,
            "scores": self.scores,
            "accuracy": _estimate(found.accuracy),
            "exclusive": _exclusive(found.exclusive) if found.exclusive else None,
            "multi_label": _multi_label(found.multi_label) if found.multi_label else None,
            "compared_exclusive": _exclusive(found.other) if found.other and found.exclusive else None,
            "compared_multi_label": _multi_label(found.other) if found.other and found.multi_label else None,
            "paired": _paired(found.paired) if found.paired else None,
            "calibration": _calibration(found.calibration),
            "groups": {
                name: {"images": found.group_images[name], "accuracy": _estimate(share)}
                for name, share in found.groups.items()
            },
            "misclassified": [asdict(each) for each in found.misclassified],
            "exchanged_labels": found.exchange and asdict(found.exchange),
            "duplicates": asdict(found.duplicates),
            "images_left_out": self.left_out,
            "labels_left_out": dict(found.joined.unknown),
            "labels_spelt_differently": dict(found.joined.respelt),
            "classes_without_images": list(found.without_images),
        }


def execute(request: TallyRequest, listener: Listener = SILENT) -> TallyOutcome:
    """Computes all metrics and draws the figures that are asked for. Raises ZygalError."""
    from zygal.prediction.labelled import join
    from zygal.tally.tally import tally

    _check(request)
    prepared = []

    def prepare(first: Classifier) -> None:
        if not first.named:
            raise LabelsError(
                f"{request.artifact} holds no class names to join the labels to; give --labels FILE (or the "
                f"training folder)."
            )
        _refuse_idle(request, first)
        images = _labelled(request, first.multi_label)
        pair = _pair(request.pair, first.labels) if request.pair else None
        prepared.extend((images, pair, join(images, first.labels, request.images)))

    with open_classifiers(request, prepare) as (first, other):
        images, pair, joined = prepared
        advance = _Progress(listener, len(joined.images))
        with open_pool(request, (first, other), (image.path for image in joined.images)) as (pool, cluster):
            found = tally(first, joined, _choices(request, len(first.labels)), other, pool, advance)
        notes = [
            *_class_notes(found),
            *pool.notes,
            *first.notes,
            *first.traffic_notes(),
            *(other.notes if other else ()),
            *_join_notes(joined, len(images)),
        ]
        written, more = _draw(found, first, request, pair) if request.draw else ([], [])
        return TallyOutcome(
            artifact=first.name,
            compared=other and other.name,
            worst=request.worst,
            cluster=cluster,
            engine=first.engine_name,
            images=request.images,
            scores=first.kind,
            labels=first.labels,
            labels_order=first.labels_order,
            found=found,
            left_out=len(images) - len(joined.images),
            gates=_gates(found, request, other),
            notes=(*notes, *more),
            unreadable=found.unreadable,
            written=tuple(written),
            next_step=_next_step(request, found),
        )


class _Progress:
    """Tells the listener how many images are done."""

    def __init__(self, listener: Listener, total: int):
        self.listener, self.done, self.total = listener, 0, total
        self(0)

    def __call__(self, more: int) -> None:
        self.done += more
        self.listener.count("images", self.done, self.total)


def _choices(request: TallyRequest, classes: int):
    from zygal.tally.tally import Choices

    top = request.top or ((1, 3) if classes <= FEW_CLASSES else (1, 5))
    return Choices(tuple(k for k in top if k <= classes), request.threshold, request.margin, request.trained_on)


def _check(request: TallyRequest) -> None:
    check_request(request)
    refuse_without(request, OutputError, ("margin",))
    if request.top and min(request.top) < 1:
        raise OutputError(f"--top needs numbers of at least 1, like 1,5 (got {','.join(map(str, request.top))}).")
    if request.worst < 0:
        raise OutputError(f"--worst must be at least 0 (got {request.worst}).")
    if request.pair and not request.draw:
        raise OutputError("--pair chooses which wrong predictions are drawn, so it needs --draw DIR.")
    check_outputs(request.outputs(), request.overwrite, paths_read(request))


def _refuse_idle(request: TallyRequest, first: Classifier) -> None:
    """Raises OutputError for what has no effect on this model."""
    if not first.multi_label:
        refuse_unused(
            request,
            "threshold",
            f"the classes of {request.artifact} exclude each other; --multi-label says that they do not",
            OutputError,
        )
    elif request.top:
        refuse_unused(request, "top", "an image can have several labels", OutputError)
    if request.given("top") and max(request.top) > len(first.labels):
        raise OutputError(
            f"--top {max(request.top)} is more than the {len(first.labels)} classes of {request.artifact}; give "
            f"at most {len(first.labels)}."
        )


def _labelled(request: TallyRequest, multi_label: bool) -> list[LabelledImage]:
    from zygal.classifier.labels import read_labels
    from zygal.prediction.labelled import numbers_named, read_labelled

    images = read_labelled(request.images, multi_label)
    if request.numbers:
        images = numbers_named(images, read_labels(request.numbers), request.images)
    return images


def _gates(found: Tally, request: TallyRequest, other: Classifier | None) -> tuple[Gate, ...]:
    from zygal.tally.gates import lost_gate, share_gate

    gates = []
    if request.min_accuracy is not None:
        gates.append(
            share_gate(
                "accuracy", f"accuracy on {found.images} images", found.accuracy, request.min_accuracy, found.images
            )
        )
    if found.paired:
        gates.append(
            lost_gate(
                "comparison",
                f"accuracy lost to {other.name}",
                found.paired.lost,
                found.paired.margin,
                found.paired.images,
            )
        )
    return tuple(gates)


def _join_notes(joined: Joined, total: int) -> list[str]:
    """What the reader must know about labels that do not meet the classes."""
    notes = []
    if joined.unknown:
        hints = [
            f"{name} (did you mean {joined.advice[name]}?)" if name in joined.advice else name
            for name in joined.unknown
        ]
        left_out = total - len(joined.images)
        notes.append(
            f"{left_out} images are left out because their labels are not classes of the artifact: {some_of(hints, 6)}"
        )
    if joined.respelt:
        pairs = [f"{name} = {own}" for name, own in joined.respelt.items()]
        notes.append(f"these labels were joined although they are spelt differently: {some_of(pairs, 6)}")
    return notes


def _class_notes(found: Tally) -> list[str]:
    """Classes of which nothing is known."""
    lost = [name for name in found.without_images if name not in found.joined.missing]
    never = [name for name in found.without_images if name in found.joined.missing]
    notes = (
        [f"there are no images of these classes, so nothing is known about them: {some_of(never, 6)}"] if never else []
    )
    return notes + (
        [f"no image of these classes could be read, so nothing is known about them: {some_of(lost, 6)}"] if lost else []
    )


def _pair(text: str, classes) -> tuple[str, str]:
    true, _, predicted = (part.strip() for part in text.partition(","))
    for name in (true, predicted):
        if name not in classes:
            raise LabelsError(
                f"--pair {text}: {name!r} is not a class; give TRUE,PREDICTED, two of {some_of(list(classes), 6)}."
            )
    return true, predicted


def _draw(found: Tally, first: Classifier, request: TallyRequest, pair) -> tuple[list[str], list[str]]:
    """The figures' paths, and notes."""
    from zygal.tally.figure_confusion import draw_confusion
    from zygal.tally.figure_reliability import draw_reliability
    from zygal.tally.figure_wrong import draw_wrong

    confusion, reliability, wrong_path = (output.path for output in request.outputs())
    written, notes = [], []
    if found.exclusive:
        draw_confusion(found.exclusive, f"{first.name}: confusion matrix, {found.images} images", confusion)
        written.append(confusion)
    draw_reliability(found.calibration, f"{first.name}: confidence and accuracy, {found.images} images", reliability)
    written.append(reliability)
    wrong = [
        each for each in found.misclassified if pair is None or (each.true, each.predicted) == ((pair[0],), (pair[1],))
    ]
    if wrong:
        what = f"{pair[0]} predicted as {pair[1]}" if pair else "wrong predictions"
        draw_wrong(
            wrong[: max(request.worst, 1)], len(wrong), f"{first.name}: {what}, most confident first", wrong_path
        )
        written.append(wrong_path)
    elif pair:
        notes.append(f"no image of {pair[0]} is predicted as {pair[1]}, so wrong.png is not drawn")
    return written, notes


def _next_step(request: TallyRequest, found: Tally) -> str | None:
    if request.draw or not found.misclassified:
        return None
    repeated = ("scores", "inlet", "labels", "numbers")
    options = [word for name in repeated if getattr(request, name) for word in (f"--{name}", getattr(request, name))]
    options += ["--multi-label"] if request.multi_label else []
    return command_line("zygal", "tally", request.artifact, "--images", request.images, *options, "--draw", "figures")


def _estimate(estimate: Estimate) -> dict[str, float]:
    return {"value": estimate.value, "ci95_low": estimate.low, "ci95_high": estimate.high}


def _exclusive(accuracy) -> dict[str, Any]:
    return {
        "top_k_accuracy": {str(k): _estimate(share) for k, share in accuracy.top.items()},
        "balanced_accuracy": _estimate(accuracy.balanced),
        "cross_entropy_nats": _estimate(accuracy.cross_entropy),
        "macro_precision": accuracy.macro_precision,
        "macro_recall": accuracy.macro_recall,
        "macro_f1": accuracy.macro_f1,
        "classes": [
            asdict(each) | {"recall_interval": each.recall_interval and _estimate(each.recall_interval)}
            for each in accuracy.classes
        ],
        "confusion_counts": accuracy.confusion.tolist(),
        "confused_pairs": [asdict(each) for each in accuracy.pairs],
    }


def _multi_label(accuracy) -> dict[str, Any]:
    averages = accuracy.averages
    return {
        "threshold": accuracy.threshold,
        "exact_match": _estimate(accuracy.exact_match),
        "hamming_loss": accuracy.hamming_loss,
        "averages": {
            kind: dict(zip(("precision", "recall", "f1"), getattr(averages, kind)))
            for kind in ("micro", "macro", "samples")
        },
        "labels": [asdict(each) for each in accuracy.labels],
        "best_threshold": accuracy.best_threshold,
        "best_f1": accuracy.best_f1,
    }


def _paired(paired) -> dict[str, Any]:
    return asdict(paired) | {"difference": _estimate(paired.difference), "verdict": paired.verdict}


def _calibration(calibration) -> dict[str, Any]:
    return {
        "expected_calibration_error": calibration.expected_error,
        "corrected_calibration_error": calibration.corrected_error,
        "ci95_low": calibration.low,
        "ci95_high": calibration.high,
        "error_by_chance": calibration.by_chance,
        "p_value_of_perfect_calibration": calibration.p_value,
        "predictions": calibration.images,
        "mean_confidence": calibration.confidence,
        "accuracy": _estimate(calibration.accuracy),
        "bins": [asdict(each) | {"accuracy": each.accuracy and _estimate(each.accuracy)} for each in calibration.bins],
    }
