"""The measurements that a request of zygal bench asks for, one after the other."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.commands.bench.request import DEFAULT_SECONDS, MOST_SECONDS_UNTIL, BenchRequest
from zygal.errors import BenchError
from zygal.inlet.sizes import tensor_shape
from zygal.listener import Listener

if TYPE_CHECKING:
    from zygal.bench.baseline import Baseline
    from zygal.bench.layers import LayerTimes
    from zygal.bench.pipeline import Pipeline
    from zygal.bench.result import Bench
    from zygal.bench.serving import Serving
    from zygal.bench.subjects import ArtifactSubject


@dataclass
class Measured:
    """Everything that one run measured, filled in one part after the other."""

    bench: Bench
    pipeline: Pipeline | None = None
    serving: Serving | None = None
    layers: LayerTimes | None = None
    interrupted: bool = False


def measure(request: BenchRequest, listener: Listener, earlier: Baseline | None = None) -> Measured:
    """The grid, then what else the request asks for. Raises ZygalError; an interrupt ends it with what was measured.

    earlier: a run to be compared with; one that was made in another way is refused before anything is measured.
    """
    from zygal.bench.feeds import Given
    from zygal.bench.grid import bench_grid, conditions_of
    from zygal.bench.layers import refuse_without_layers
    from zygal.bench.regression import refuse_other_conditions
    from zygal.bench.settings import Grid
    from zygal.bench.subjects import ArtifactSubject
    from zygal.machine.processor import allowed_cores

    threads = request.threads or sorted({1, allowed_cores()})
    grid = Grid(request.batches, tuple(threads), request.levels, request.execution)
    tensors, origin = recorded_tensors(request)
    given = Given(tensors, origin, request.image_size, dict(request.input_shape))
    subject = ArtifactSubject(request.artifact, given)
    if earlier is not None and not request.force:
        refuse_other_conditions(conditions_of(subject, grid), earlier)
    if request.layers:
        refuse_without_layers(request.artifact)
    seconds = request.seconds
    if seconds is None:
        seconds = MOST_SECONDS_UNTIL if request.until_within else DEFAULT_SECONDS
    files = _image_files(request, subject)
    with ExitStack() as opened:
        others, notes = _others(request, subject, opened)
        bench = bench_grid(subject, grid, seconds, request.until_within, others, listener.step)
    notes += _on_precision(request.artifact, bench)
    measured = Measured(replace(bench, notes=(*bench.notes, *notes)), interrupted=bench.interrupted)
    if not measured.interrupted:
        try:
            _measure_more(request, measured, subject, files, seconds / 3, listener)
        except KeyboardInterrupt:
            measured.interrupted = True
    return measured


def _on_precision(artifact: str, bench: Bench) -> list[str]:
    """Whether 8 bits pay, of an artifact that was shrunk to them."""
    from zygal.artifact.formats import read_artifact
    from zygal.bench.advice import on_eight_bits
    from zygal.errors import ZygalError

    try:
        metadata = read_artifact(artifact).metadata
    except ZygalError:
        # Metadata that cannot be read do not concern how fast an artifact is.
        return []
    if not metadata.in_8_bits or not bench.cells:
        return []
    return [on_eight_bits(artifact, metadata.shrunk.artifact, bench.cells, bench.compared)]


def _measure_more(
    request: BenchRequest, measured: Measured, subject, files, seconds: float, listener: Listener
) -> None:
    """What is measured at the best setting, one part after the other."""
    from zygal.bench.advice import best_throughput
    from zygal.bench.layers import layer_times

    best = best_throughput(measured.bench.cells).setting
    if files:
        measured.pipeline = _measure_files(measured.bench, subject, files, best, seconds, listener)
        measured.interrupted = measured.pipeline.interrupted
    if request.arrival_rate is not None and not measured.interrupted:
        measured.serving = _measure_arrivals(request, measured.bench, subject, best, seconds, listener)
    if request.layers and not measured.interrupted:
        listener.step("layers", 0.0)
        measured.layers = layer_times(subject.feeds, best, min(seconds, 4.0))


def _measure_files(bench: Bench, subject: ArtifactSubject, files, best, seconds: float, listener: Listener) -> Pipeline:
    from zygal.bench.pipeline import measure_pipeline

    paths, inlet, raw = files
    (name,) = subject.feeds.inputs
    infer = {}
    for threads in dict.fromkeys(cell.setting.threads for cell in bench.cells):
        session = subject.session(threads, best.level, best.execution)
        infer[threads] = lambda tensors, session=session: session.run(None, {name: tensors})
    return measure_pipeline(
        paths, inlet, infer, best.batch, best.threads, seconds, raw, partial(listener.step, "image files to scores")
    )


def _measure_arrivals(
    request: BenchRequest, bench: Bench, subject, best, seconds: float, listener: Listener
) -> Serving:
    from zygal.bench.serving import Batching, serve_rates

    max_batch = request.max_batch or max(cell.setting.batch for cell in bench.cells)
    readings = {cell.setting.batch: cell.seconds for cell in bench.cells if cell.setting.session == best.session}
    return serve_rates(
        subject,
        best,
        request.arrival_rate,
        Batching(max_batch, request.max_wait or 0.0),
        seconds,
        request.deadline,
        readings,
        partial(listener.step, "random arrivals"),
    )


def recorded_tensors(request: BenchRequest):
    """The input tensors and where they are from."""
    if not request.witness:
        return None, "random numbers"
    from zygal.evidence.witness import read_witness

    tensors = read_witness(request.witness).tensors
    if tensors is None:
        raise BenchError(f"{request.witness} holds scores but no tensors; leave out --witness.")
    return tensors, Path(request.witness).name


def _image_files(request: BenchRequest, subject: ArtifactSubject):
    """(paths, inlet, whether the artifact holds the rest of the inlet) for --images, or None."""
    if not request.images:
        return None
    from zygal.artifact.formats import read_artifact
    from zygal.artifact.inlets import inlet_at
    from zygal.inlet.images import list_images

    metadata = read_artifact(request.artifact).metadata
    inlet = inlet_at(request.inlet) if request.inlet else metadata.inlet
    if inlet is None:
        raise BenchError(
            f"{request.artifact} holds no inlet, so image files cannot be preprocessed; give --inlet FILE."
        )
    if len(subject.feeds.inputs) > 1:
        raise BenchError(f"{request.artifact} has several inputs, so it cannot be run on image files.")
    raw = metadata.tensor is not None
    shape = tensor_shape(inlet)
    (wanted,) = subject.feeds.shapes.values()
    if not raw and shape is not None and tuple(shape) != tuple(wanted):
        raise BenchError(f"the inlet gives tensors {list(shape)}, but {request.artifact} takes {list(wanted)}.")
    return [Path(request.images) / name for name in list_images(request.images)], inlet, raw


def _others(request: BenchRequest, subject: ArtifactSubject, opened: ExitStack):
    """What the artifact is compared with, and notes."""
    from zygal.bench.live_process import live_process
    from zygal.bench.subjects import ArtifactSubject, LiveSubject
    from zygal.files import kinds
    from zygal.files.recognition import kind_of
    from zygal.sources.live import is_live

    others, notes = [], []
    for other in request.compare:
        live = is_live(other)
        if not live and kind_of(other) in kinds.ARTIFACTS:
            others.append(ArtifactSubject(other, subject.feeds.for_another(request.image_size)))
            continue
        if len(subject.feeds.shapes) > 1:
            raise BenchError(f"{request.artifact} has several inputs, so {other} cannot be compared with it.")
        (shape,) = subject.feeds.shapes.values()
        weights = request.weights if live else None
        compared = LiveSubject(
            opened.enter_context(live_process(other, weights, tuple(shape), request.compare_as)), subject.feeds
        )
        notes += compared.notes
        if not compared.keeps_threads:
            notes.append(f"{compared.framework} chooses its own number of threads, whatever a row says")
        others.append(compared)
    return others, notes
