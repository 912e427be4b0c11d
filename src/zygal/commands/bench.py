"""zygal bench: batch inference on this machine's CPU."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.errors import BenchError
from zygal.listener import SILENT, Listener
from zygal.outcome import Gate, Outcome
from zygal.outputs import PICTURE, TABLE, Output, check_outputs

if TYPE_CHECKING:
    from zygal.bench.baseline import Baseline
    from zygal.bench.layers import LayerTimes
    from zygal.bench.pipeline import Pipeline
    from zygal.bench.regression import Regression
    from zygal.bench.result import Bench
    from zygal.bench.serving import Serving
    from zygal.bench.subjects import ArtifactSubject

DEFAULT_SECONDS, MOST_SECONDS_UNTIL = 30.0, 300.0
FIGURES = ("throughput.png", "latencies.png", "stages.png", "layers.png")


@dataclass(frozen=True, kw_only=True)
class BenchRequest:
    """What is measured: batches, threads (1 and all cores unless given), levels and execution modes of the runtime; for
    `seconds`, or until all medians are known within `until_within`.

    What goes in: tensors of a witness, else random numbers; image_size (height, width) and input_shape (name, sizes) where
    the artifact leaves sizes open. compare: other artifacts or trained models, with weights for FILE.py:FUNCTION. images:
    also measure the pipeline from these files, with `inlet`. deadline: seconds. arrival_rate: images/s of random arrivals;
    max_batch (the largest of batches unless given) and max_wait (seconds) say how they are batched. layers: time by layer.
    baseline: JSON of an earlier run; max_slowdown: how much slower is allowed, as a share; force: compare although machine or
    settings differ."""

    artifact: str
    batches: tuple[int, ...] = (1, 2, 4, 8)
    threads: tuple[int, ...] | None = None
    levels: tuple[str, ...] = ("all",)
    execution: tuple[str, ...] = ("sequential",)
    seconds: float | None = None
    until_within: float | None = None
    witness: str | None = None
    image_size: tuple[int, ...] | None = None
    input_shape: tuple[tuple[str, tuple[int, ...]], ...] = ()
    compare: tuple[str, ...] = ()
    weights: str | None = None
    images: str | None = None
    inlet: str | None = None
    deadline: float | None = None
    arrival_rate: tuple[float, ...] | None = None
    max_batch: int | None = None
    max_wait: float | None = None
    layers: bool = False
    csv: str | None = None
    draw: str | None = None
    baseline: str | None = None
    max_slowdown: float = 0.05
    force: bool = False
    overwrite: bool = False

    def outputs(self) -> list[Output]:
        outputs = [Output(self.csv, TABLE)] if self.csv else []
        return outputs + [Output(str(Path(self.draw) / name), PICTURE, True) for name in FIGURES] if self.draw else outputs


@dataclass
class Measured:
    """Everything that one run measured, filled in one part after the other."""

    bench: Bench
    pipeline: Pipeline | None = None
    serving: Serving | None = None
    layers: LayerTimes | None = None
    interrupted: bool = False


@dataclass(frozen=True, kw_only=True)
class BenchOutcome(Outcome):
    kind: ClassVar[str] = "zygal.bench"
    version: ClassVar[int] = 2

    request: BenchRequest
    bench: Bench
    pipeline: Pipeline | None = None
    serving: Serving | None = None
    layers: LayerTimes | None = None
    regression: Regression | None = None
    earlier: Baseline | None = None

    def result(self) -> dict[str, Any]:
        from zygal.bench import documents

        whole = documents.document(self.bench) | documents.more(self.pipeline, self.serving, self.layers)
        whole["baseline"] = documents.judgement(self.regression, self.request.max_slowdown) if self.regression else None
        return whole


def execute(request: BenchRequest, listener: Listener = SILENT) -> BenchOutcome:
    """Measures, writes the table and draws the figures. Raises ZygalError.

    After an interrupt the outcome covers what was measured until then. A baseline that cannot be compared with is not raised
    but returned as `refusal`, so that the figures are not lost.
    """
    from zygal.bench.baseline import read_baseline
    from zygal.bench.regression import judge
    from zygal.kinds import ARTIFACT, require_kind

    _check(request)
    require_kind(request.artifact, ARTIFACT)
    earlier = read_baseline(request.baseline) if request.baseline else None
    check_outputs(request.outputs(), request.overwrite)
    measured = _measure(request, listener)
    regression = refusal = None
    if earlier and measured.bench.cells:
        try:
            regression = judge(measured.bench, earlier, request.force or measured.interrupted)
        except BenchError as error:
            refusal = error
    notes = list(measured.bench.notes)
    if measured.interrupted:
        notes.append("interrupted: the figures are those of what was measured until then")
    return BenchOutcome(
        request=request,
        bench=measured.bench,
        pipeline=measured.pipeline,
        serving=measured.serving,
        layers=measured.layers,
        regression=regression,
        earlier=earlier,
        refusal=refusal,
        gates=_gates(regression, request.max_slowdown),
        notes=tuple(notes),
        unreadable=measured.pipeline.unreadable if measured.pipeline else (),
        written=tuple(_write(request, measured)),
        interrupted=measured.interrupted,
    )


def _check(request: BenchRequest) -> None:
    """Raises BenchError for an option that needs another one, or has no meaning."""
    from zygal.sources.pytorch.live import is_live

    for name, needed in (("max_batch", "arrival_rate"), ("max_wait", "arrival_rate"), ("inlet", "images"), ("force", "baseline")):
        if getattr(request, name) not in (None, False) and not getattr(request, needed):
            options = (f"--{each.replace('_', '-')}" for each in (name, needed))
            raise BenchError("{} needs {}, which is not given.".format(*options))
    if request.weights and not any(map(is_live, request.compare)):
        raise BenchError("--weights needs --compare FILE.py:FUNCTION, which is not given.")
    size = request.image_size
    if size and (len(size) != 2 or min(size) < 1):
        raise BenchError(f"--image-size must be HEIGHT,WIDTH (got {','.join(map(str, size))}).")
    smallest = min(request.batches, default=1)
    if request.max_batch is not None and request.max_batch < smallest:
        raise BenchError(
            f"--max-batch {request.max_batch} is below the smallest measured batch, {smallest}; add {request.max_batch} to --batches."
        )


def _gates(regression: Regression | None, max_slowdown: float) -> tuple[Gate, ...]:
    if regression is None:
        return ()
    slower = [change.ratio - 1 for change in regression.all_changes if change.fails(max_slowdown)]
    return (Gate("baseline", "significant slowdown", max(slower, default=0.0), max_slowdown, "share"),)


def _measure(request: BenchRequest, listener: Listener) -> Measured:
    from zygal.bench.feeds import Given
    from zygal.bench.grid import bench_grid
    from zygal.bench.settings import Grid
    from zygal.bench.subjects import ArtifactSubject
    from zygal.processor import allowed_cores

    threads = request.threads or sorted({1, allowed_cores()})
    grid = Grid(request.batches, tuple(threads), request.levels, request.execution)
    tensors, origin = _tensors(request)
    given = Given(tensors, origin, request.image_size, dict(request.input_shape))
    subject = ArtifactSubject(request.artifact, given)
    seconds = request.seconds
    if seconds is None:
        seconds = MOST_SECONDS_UNTIL if request.until_within else DEFAULT_SECONDS
    files = _image_files(request, subject)
    with ExitStack() as opened:
        others, notes = _others(request, subject, opened)
        bench = bench_grid(subject, grid, seconds, request.until_within, others, listener.step)
    measured = Measured(replace(bench, notes=(*bench.notes, *notes)), interrupted=bench.interrupted)
    if not measured.interrupted:
        try:
            _measure_more(request, measured, subject, files, seconds / 3, listener)
        except KeyboardInterrupt:
            measured.interrupted = True
    return measured


def _measure_more(request: BenchRequest, measured: Measured, subject, files, seconds: float, listener: Listener) -> None:
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


def _measure_arrivals(request: BenchRequest, bench: Bench, subject, best, seconds: float, listener: Listener) -> Serving:
    from zygal.bench.serving import Batching, serve_rates

    max_batch = request.max_batch or max(cell.setting.batch for cell in bench.cells)
    readings = {cell.setting.batch: cell.seconds for cell in bench.cells if cell.setting.session == best.session}
    return serve_rates(
        subject, best, request.arrival_rate, Batching(max_batch, request.max_wait or 0.0), seconds, request.deadline,
        readings, partial(listener.step, "random arrivals"),
    )  # fmt: skip


def _tensors(request: BenchRequest):
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
    from zygal.artifact import read_artifact
    from zygal.evidence.images import list_images
    from zygal.inlet import read_inlet

    metadata = read_artifact(request.artifact).metadata
    inlet = read_inlet(request.inlet) if request.inlet else metadata.inlet
    if inlet is None:
        raise BenchError(f"{request.artifact} holds no inlet, so image files cannot be preprocessed; give --inlet FILE.")
    if len(subject.feeds.inputs) > 1:
        raise BenchError(f"{request.artifact} has several inputs, so it cannot be run on image files.")
    raw = metadata.tensor is not None
    shape = inlet.tensor_shape()
    (wanted,) = subject.feeds.shapes.values()
    if not raw and shape is not None and tuple(shape) != tuple(wanted):
        raise BenchError(f"the inlet gives tensors {list(shape)}, but {request.artifact} takes {list(wanted)}.")
    return [Path(request.images) / name for name in list_images(request.images)], inlet, raw


def _others(request: BenchRequest, subject: ArtifactSubject, opened: ExitStack):
    """What the artifact is compared with, and notes."""
    from zygal import kinds
    from zygal.bench.subjects import ArtifactSubject, LiveSubject
    from zygal.sources.opened import source_file
    from zygal.sources.pytorch.live import is_live

    others, notes = [], []
    for other in request.compare:
        live = is_live(other)
        if not live and kinds.kind_of(other) == kinds.ARTIFACT:
            others.append(ArtifactSubject(other, subject.feeds.for_another(request.image_size)))
            continue
        if len(subject.feeds.shapes) > 1:
            raise BenchError(f"{request.artifact} has several inputs, so {other} cannot be compared with it.")
        (shape,) = subject.feeds.shapes.values()
        source = opened.enter_context(source_file(other, request.weights if live else None, tuple(shape), "--compare"))
        compared = LiveSubject(source.path, other, subject.feeds)
        if not compared.keeps_threads:
            notes.append(f"{compared.engine} chooses its own number of threads, whatever a row says")
        others.append(compared)
    return others, notes


def _write(request: BenchRequest, measured: Measured) -> list[str]:
    """Writes the table and the figures that were asked for; their paths."""
    from zygal.bench import documents
    from zygal.files import write_text

    written = []
    if request.csv:
        write_text(request.csv, documents.table(measured.bench))
        written.append(request.csv)
    return written + _draw(Path(request.draw), measured) if request.draw else written


def _draw(folder: Path, measured: Measured) -> list[str]:
    from zygal.figures.bench import draw_grid, draw_latencies, draw_layers, draw_stages

    throughput, latencies, stages, layers = (folder / name for name in FIGURES)
    drawn = []
    if measured.bench.cells:
        drawn += [draw_grid(measured.bench, throughput), draw_latencies(measured.bench, latencies)]
    if measured.pipeline:
        drawn.append(draw_stages(measured.pipeline, stages))
    if measured.layers:
        drawn.append(draw_layers(measured.layers, measured.bench, layers))
    return [str(path) for path in drawn]
