"""zygal classify: predictions of an artifact for images, a few in memory or very many into a file."""

from __future__ import annotations

import time
from dataclasses import replace
from itertools import islice
from typing import TYPE_CHECKING

from zygal.cluster.opened import check_request, open_classifiers, open_pool
from zygal.commands.classify.outcome import COUNTS, ClassifyOutcome, about
from zygal.commands.classify.request import VECTORS, ClassifyRequest
from zygal.errors import OutputError, some_of
from zygal.files.outputs import check_outputs
from zygal.listener import SILENT, Listener
from zygal.request import paths_read, refuse_given, refuse_unused

if TYPE_CHECKING:
    from zygal.prediction.classification import Classification
    from zygal.prediction.classifier import Classifier
    from zygal.prediction.listing import Listing


FEW = 100
"""More images than these are not shown on a terminal."""


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
            from zygal.commands.classify.regions import map_regions

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
        idle = ("top", "min_probability", "min_margin", "threshold")
        refuse_unused(request, idle, "--as vectors writes no predictions", OutputError)
    elif request.output:
        row_format(request.output)
        check_writable(request.output)
    if request.regions:
        refuse_given(request, ("cluster",), "--regions", OutputError)
    if request.hash_images and not request.output:
        raise OutputError("--hash-images compares with an earlier run, so it needs -o FILE.")
    if request.regions and request.output:
        raise OutputError("--regions draws one image and writes no rows; leave out -o.")
    check_outputs(request.outputs(), request.overwrite, paths_read(request))


def _refuse_idle(request: ClassifyRequest, first: Classifier) -> None:
    """Raises OutputError for what has no effect on this model, or on what is asked for."""
    if request.given("top") and request.top > len(first.labels):
        raise OutputError(
            f"--top {request.top} is more than the {len(first.labels)} classes of {request.artifact}; give at "
            f"most {len(first.labels)}."
        )
    if first.multi_label:
        refuse_unused(request, ("min_probability", "min_margin"), "an image can have several labels", OutputError)
    else:
        exclusive = f"the classes of {request.artifact} exclude each other; --multi-label says that they do not"
        refuse_unused(request, "threshold", exclusive, OutputError)
    if request.regions:
        idle = ("top", "min_probability", "min_margin", "threshold", "skip", "column")
        refuse_unused(request, idle, "--regions draws one image", OutputError)


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
