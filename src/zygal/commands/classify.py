"""zygal classify: predictions of an artifact for images, a few in memory or very many into a file."""

from __future__ import annotations

import time
from dataclasses import asdict, dataclass, field, replace
from itertools import islice
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.cluster.opened import ClassifierRequest, ClusterUsed, check_request, open_classifiers, open_pool
from zygal.errors import OutputError, some_of
from zygal.files import kinds
from zygal.files.outputs import PICTURE, VECTOR_FILE, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import refuse_given
from zygal.outcome import Outcome
from zygal.request import refuse_unused

if TYPE_CHECKING:
    from zygal.prediction.classification import Classification
    from zygal.prediction.classifier import Classifier
    from zygal.prediction.figure import MappedPicture
    from zygal.prediction.listing import Listing
    from zygal.prediction.prediction import Prediction

FEW = 100
"""More images than these are not shown on a terminal."""
PREDICTIONS, VECTORS = "predictions", "vectors"
COUNTS = ("read", "unreadable", "uncertain", "disagreements")


@dataclass(frozen=True, kw_only=True)
class ClassifyRequest(ClassifierRequest):
    """paths: images and folders, here or at URLs. lists: text files with one path per line, "-" for standard input, or
    tables with a column of paths; column: its name. skip: patterns of names to leave out in folders. output: the file
    of rows. overwrite: start the output again instead of resuming it. write_as: "predictions", or "vectors", the
    model's output as it is. hash_images: notice replaced images by the hashes of their bytes, not by size and time.
    top: how many classes to give. min_probability, min_margin: below these a prediction is uncertain. threshold: the
    probability from which a multi-label model assigns a label. regions: a picture of what supports the prediction for
    one image. exclude: files in the folders that are not images, such as a document that a user interface will write
    there."""

    paths: tuple[str, ...] = ()
    lists: tuple[str, ...] = ()
    column: str | None = None
    skip: tuple[str, ...] = ()
    output: str | None = None
    overwrite: bool = False
    hash_images: bool = False
    write_as: str = PREDICTIONS
    top: int = 3
    min_probability: float = 0.5
    min_margin: float = 0.1
    threshold: float = 0.5
    regions: str | None = None
    exclude: tuple[str, ...] = ()

    def outputs(self) -> list[Output]:
        if self.write_as == VECTORS and self.output:
            from zygal.prediction.vectors import names_file

            names = [Output(names_file(self.output), kinds.LABELS)] if self.output.lower().endswith(".npy") else []
            return [Output(self.output, VECTOR_FILE), *names]
        # The file of rows has its own check: it is resumed, not replaced.
        return [Output(self.regions, PICTURE)] if self.regions else []


@dataclass(frozen=True, kw_only=True)
class ClassifyOutcome(Outcome):
    """predictions: of a few images. rows: how many rows the output has, `resumed` of them from an earlier run; None
    without an output. replaced: images that are others than in the earlier run. numbers: of each vector, with --as
    vectors. disagreements: the most confident ones. maps: what supports the prediction, with --regions."""

    kind: ClassVar[str] = "zygal.classify"

    artifact: str
    engine: str
    scores: str
    labels: tuple[str, ...]
    labels_order: str | None
    multi_label: bool
    thresholds: dict[str, float]
    compared: str | None = None
    compared_engine: str | None = None
    counts: dict[str, int] = field(default_factory=dict)
    predictions: tuple[Prediction, ...] = ()
    output: str | None = None
    rows: int | None = None
    resumed: int = 0
    replaced: int = 0
    numbers: int | None = None
    disagreements: tuple[Prediction, ...] = ()
    seconds: float = 0.0
    cluster: ClusterUsed | None = None
    maps: tuple[MappedPicture, ...] = ()
    maps_differ_log_odds: float | None = None

    @property
    def images(self) -> int:
        return self.counts.get("read", 0) + self.counts.get("unreadable", 0)

    @property
    def images_per_second(self) -> float | None:
        """None if too few images were classified to say."""
        done = self.images - self.resumed
        return done / self.seconds if done >= 20 and self.seconds else None

    def result(self) -> dict[str, Any]:
        return {
            "artifact": self.artifact,
            "engine": self.engine,
            "scores": self.scores,
            "labels": list(self.labels),
            "labels_order": self.labels_order,
            "compared": self.compared,
            "thresholds": dict(self.thresholds),
            "counts": dict(self.counts),
            "images_per_second": self.images_per_second,
            "cluster": self.cluster and asdict(self.cluster),
            "predictions": [asdict(each) | {"disagree": each.disagree} for each in self.predictions],
            "output": self.output,
            "rows": self.rows,
            "rows_resumed": self.resumed,
            "images_replaced": self.replaced,
            "vector_numbers": self.numbers,
            "disagreements": [asdict(each) for each in self.disagreements],
            "regions": [_map(each) for each in self.maps],
            "regions_differ_log_odds": self.maps_differ_log_odds,
        }


def execute(request: ClassifyRequest, listener: Listener = SILENT) -> ClassifyOutcome:
    """Classifies the images. Raises ZygalError; after an interrupt the rows that are written can be resumed."""
    from zygal.prediction.classification import Classification
    from zygal.prediction.listing import Listing
    from zygal.prediction.prediction import Thresholds
    from zygal.prediction.run_record import files_of

    _check(request)
    own = [*files_of(request.output), *filter(None, (request.output, request.regions)), *request.exclude]
    listing = Listing(request.paths, request.lists, request.skip, own, request.column)
    listing.check()
    if request.write_as == VECTORS:
        return _as_vectors(request, listing, listener)
    with open_classifiers(request) as (first, other):
        _refuse_idle(request, first)
        notes = (*first.notes, *(other.notes if other else ()), *_skipped(listing))
        if request.regions:
            from zygal.commands.classify_regions import map_regions

            return map_regions(request, listing, first, other, notes)
        thresholds = Thresholds(request.min_probability, request.min_margin, request.threshold)
        with open_pool(request, (first, other), listing.peeked()) as (pool, cluster):
            run = Classification(first, other, thresholds, min(request.top, len(first.labels)), pool)
            outcome = (_into_file if request.output else _in_memory)(request, listing, run, notes, listener)
            return replace(outcome, notes=(*outcome.notes, *first.traffic_notes(), *pool.notes), cluster=cluster)


def _check(request: ClassifyRequest) -> None:
    from zygal.files.writing import check_writable
    from zygal.prediction.rows import row_format

    check_request(request)
    if request.top < 1:
        raise OutputError(f"--top must be at least 1 (got {request.top}).")
    if request.write_as == VECTORS:
        from zygal.prediction.vectors import vector_format

        if not request.output:
            raise OutputError("--as vectors writes a file; give its name with -o FILE.parquet or -o FILE.npy.")
        vector_format(request.output)
        refuse_given(
            request,
            ("compare", "labels", "multi_label", "regions", "hash_images", "endpoint"),
            "--as vectors",
            OutputError,
        )
        for name in ("top", "min_probability", "min_margin", "threshold"):
            refuse_unused(request, name, "--as vectors writes no predictions", OutputError)
    elif request.output:
        row_format(request.output)
        check_writable(request.output)
    if request.regions:
        refuse_given(request, ("cluster",), "--regions", OutputError)
    if request.hash_images and not request.output:
        raise OutputError("--hash-images compares with an earlier run, so it needs -o FILE.")
    if request.regions and request.output:
        raise OutputError("--regions draws one image and writes no rows; leave out -o.")
    check_outputs(request.outputs(), request.overwrite, request)


def _refuse_idle(request: ClassifyRequest, first: Classifier) -> None:
    """Raises OutputError for what has no effect on this model, or on what is asked for."""
    if request.given("top") and request.top > len(first.labels):
        raise OutputError(
            f"--top {request.top} is more than the {len(first.labels)} classes of {request.artifact}; give at "
            f"most {len(first.labels)}."
        )
    idle = ("min_probability", "min_margin") if first.multi_label else ("threshold",)
    for name in idle:
        several = (
            "an image can have several labels"
            if first.multi_label
            else f"the classes of {request.artifact} exclude each other; --multi-label says that they do not"
        )
        refuse_unused(request, name, several, OutputError)
    for name in ("top", "min_probability", "min_margin", "threshold", "skip", "column") if request.regions else ():
        refuse_unused(request, name, "--regions draws one image", OutputError)


def _skipped(listing: Listing) -> list[str]:
    """A note on files in the folders that are no images."""
    files = listing.passed_over()
    if not files:
        return []
    return [f"files in the folders that are not images by content, skipped: {len(files)} ({some_of(files)})"]


def _as_vectors(request: ClassifyRequest, listing: Listing, listener: Listener) -> ClassifyOutcome:
    """The model's output for each image, into a file."""
    from zygal.artifact.inlets import inlet_at
    from zygal.prediction.classifier import open_artifact
    from zygal.prediction.vectors import write_vectors

    started, done, total = time.perf_counter(), 0, listing.count()

    def advance(more: int) -> None:
        nonlocal done
        done += more
        listener.count("images", done, total)

    inlet = inlet_at(request.inlet) if request.inlet else None
    first = open_artifact(request.artifact, inlet, classes=False, scores=request.scores)
    with open_pool(request, (first,), listing.peeked()) as (pool, cluster):
        rows, numbers, unreadable = write_vectors(request.output, first, listing, pool, advance)
    return ClassifyOutcome(
        **about(first, None, request) | {"scores": VECTORS},
        counts={"read": rows, "unreadable": len(unreadable), "uncertain": 0, "disagreements": 0},
        output=request.output,
        rows=rows + len(unreadable) if request.output.lower().endswith(".parquet") else rows,
        numbers=numbers,
        seconds=time.perf_counter() - started,
        unreadable=tuple(unreadable[:FEW]),
        unreadable_count=len(unreadable),
        written=tuple(output.path for output in request.outputs()),
        notes=(*_skipped(listing), *pool.notes),
        cluster=cluster,
    )


def about(first: Classifier, other: Classifier | None, request: ClassifyRequest) -> dict[str, Any]:
    return {
        "artifact": first.name,
        "engine": first.engine_name,
        "scores": first.kind,
        "labels": first.labels,
        "labels_order": first.labels_order,
        "multi_label": first.multi_label,
        "thresholds": {
            "min_probability": request.min_probability,
            "min_margin": request.min_margin,
            "label": request.threshold,
        },
        "compared": other and other.name,
        "compared_engine": other and other.engine_name,
    }


def _in_memory(
    request: ClassifyRequest, listing: Listing, run: Classification, notes, listener: Listener
) -> ClassifyOutcome:
    from zygal.prediction.classification import counts_of, nothing_read

    paths = list(islice(listing, FEW + 1))
    if len(paths) > FEW:
        raise OutputError(f"there are more than {FEW} images; write them to a file with -o predictions.csv.")
    started, predictions = time.perf_counter(), []
    for block in run.predictions(paths):
        predictions += block
        listener.count("images", len(predictions), len(paths))
    counts = counts_of(predictions)
    if not counts["read"]:
        raise nothing_read(counts, next(iter(predictions), None))
    return ClassifyOutcome(
        **about(run.classifier, run.other, request),
        counts=dict(counts),
        predictions=tuple(predictions),
        seconds=time.perf_counter() - started,
        unreadable=tuple((each.path, each.error) for each in predictions if each.error is not None),
        notes=notes,
    )


def _into_file(
    request: ClassifyRequest, listing: Listing, run: Classification, notes, listener: Listener
) -> ClassifyOutcome:
    from zygal.prediction.classification import open_predictions

    started, notes = time.perf_counter(), list(notes)
    with open_predictions(request.output, run, listing, request.overwrite, request.hash_images) as file:
        if file.changed:
            unknown = ", or have no hash in its record" if request.hash_images else ""
            notes.append(
                f"images replaced since the last run of {request.output}{unknown}: {file.changed}; their rows "
                f"were made again"
            )
        if file.finished:
            notes.append(f"{request.output} is complete already; nothing was done. Add --overwrite to classify again")
        else:
            if file.resumed and not file.changed:
                listener.note(f"{request.output} is resumed after row {file.resumed}")
            total, done = listing.count(), file.resumed
            try:
                listener.count("images", done, total)
                for more in file.write_rest():
                    done += more
                    listener.count("images", done, total)
            except KeyboardInterrupt:
                listener.note(f"{file.rows} rows are saved; run the same command again to continue")
                raise
    return ClassifyOutcome(
        **about(run.classifier, run.other, request),
        counts={name: file.counts[name] for name in COUNTS},
        output=request.output,
        rows=file.rows,
        resumed=file.resumed,
        replaced=file.changed,
        disagreements=tuple(file.disagreements),
        seconds=time.perf_counter() - started,
        unreadable_count=file.counts["unreadable"],
        written=(request.output,),
        notes=tuple(notes),
    )


def _map(mapped: MappedPicture) -> dict[str, Any]:
    found = mapped.found
    return {
        "model": mapped.name,
        "predicted": found.predicted,
        "probability": found.probability,
        "lowest_probability": found.lowest,
        "patch_pixels": list(found.patch),
        "log_odds_lost": found.weight.tolist(),
    }
