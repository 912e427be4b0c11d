"""zygal tally: metrics of an artifact on labelled images."""

from __future__ import annotations

from typing import TYPE_CHECKING

from zygal.cluster.opened import check_request, open_classifiers, open_pool
from zygal.commands.tally.outcome import TallyOutcome, _Progress
from zygal.commands.tally.request import TallyRequest
from zygal.errors import LabelsError, OutputError, some_of
from zygal.files.outputs import check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line
from zygal.outcome import Gate
from zygal.request import paths_read, refuse_unused, refuse_without

if TYPE_CHECKING:
    from zygal.prediction.classifier import Classifier
    from zygal.prediction.labelled import Joined, LabelledImage
    from zygal.tally.tally import Tally


FEW_CLASSES = 20


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
