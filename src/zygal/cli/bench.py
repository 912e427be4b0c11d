"""zygal bench: batch inference on this machine's CPU."""

from __future__ import annotations

from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

from zygal.cli.bench_options import DEFAULT_SECONDS, MOST_SECONDS_UNTIL, add_options, check_options
from zygal.cli.options import new_command
from zygal.cli.output import check_json, console, progress_bar, warn, write_json


def register(commands) -> None:
    command = new_command(
        commands,
        "bench",
        "Measures batch inference on the CPU: throughput, latency, scaling, and how far to trust the figures.",
        "zygal bench channel_marks.onnx --batches 1,8 --threads 1,2 --deadline 5ms",
    )
    command.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    add_options(command)
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal.bench.baseline import read_baseline
    from zygal.bench.regression import judge
    from zygal.errors import BenchError
    from zygal.files import check_writable
    from zygal.kinds import ARTIFACT, require_kind

    check_options(options)
    check_json(options.json)
    if options.csv:
        check_writable(options.csv)
    require_kind(options.artifact, ARTIFACT)
    earlier = read_baseline(options.against) if options.against else None
    if options.draw:
        _make_folder(options.draw)
    with progress_bar("opening") as progress:
        found = _measure(options, progress)
    refusal = None
    if earlier and found.bench.cells:
        try:
            found.regression = judge(found.bench, earlier, options.anyway or found.interrupted)
        except BenchError as fault:
            # What was measured is shown and written all the same.
            refusal = fault
    _show(options, found, earlier)
    _write(options, found)
    if refusal is not None:
        raise refusal
    if found.interrupted:
        warn("interrupted; the figures are those of what was measured so far")
        return 130
    return 1 if found.regression and found.regression.fails(options.allow) else 0


def _show(options, found: Found, earlier) -> None:
    from zygal.cli import bench_more_report as more
    from zygal.cli.bench_report import show_bench

    out = console()
    for note in found.bench.notes:
        warn(note)
    show_bench(out, found.bench, options.deadline)
    more.show_beside(out, found.bench)
    if found.measure_pipeline:
        more.show_whole_way(out, found.measure_pipeline)
    if found.offered:
        more.show_offered(out, found.offered)
    if found.layers:
        more.show_layers(out, found.layers)
    if found.regression:
        more.show_regression(out, found.regression, earlier, options.allow)


def _write(options, found: Found) -> None:
    from zygal.bench import documents
    from zygal.files import write_text

    whole = documents.document(found.bench) | documents.more(found.measure_pipeline, found.offered, found.layers)
    if found.regression:
        whole["against"] = documents.judgement(found.regression, options.allow)
    write_json(options.json, whole)
    if options.csv:
        write_text(options.csv, documents.table(found.bench))
    if options.draw:
        _draw(console(), found, Path(options.draw))


@dataclass
class Found:
    """Everything that one call measured."""

    bench: object = None
    measure_pipeline: object = None
    offered: object = None
    layers: object = None
    regression: object = None
    interrupted: bool = False


def _measure(options, progress) -> Found:
    from zygal.bench.feeds import Given
    from zygal.bench.grid import bench_grid
    from zygal.bench.settings import Grid
    from zygal.bench.subjects import ArtifactSubject
    from zygal.processor import allowed_cores

    threads = options.threads or sorted({1, allowed_cores()})
    grid = Grid(tuple(options.batches), tuple(threads), tuple(options.levels), tuple(options.execution))
    tensors, whence = _tensors(options)
    size = options.image_size and tuple(options.image_size)
    subject = ArtifactSubject(options.artifact, Given(tensors, whence, size, dict(options.fill)))
    seconds = options.seconds
    if seconds is None:
        seconds = MOST_SECONDS_UNTIL if options.until_within else DEFAULT_SECONDS
    way = _prepare_whole_way(options, subject)
    found = Found()
    with ExitStack() as opened:
        others, notes = _others(options, subject, opened)
        found.bench = bench_grid(subject, grid, seconds, options.until_within, others, progress)
        found.bench = _with_notes(found.bench, notes)
    found.interrupted = found.bench.interrupted
    if found.interrupted:
        return found
    try:
        _measure_more(options, found, subject, way, seconds / 3, progress)
    except KeyboardInterrupt:
        found.interrupted = True
    return found


def _measure_more(options, found: Found, subject, way, seconds: float, progress) -> None:
    """What is measured at the best setting, one after the other."""
    from functools import partial

    from zygal.bench.advice import best_throughput
    from zygal.bench.layers import layer_times
    from zygal.bench.serving import Batching, offer
    from zygal.bench.pipeline import measure_pipeline
    from zygal.errors import BenchError

    best = best_throughput(found.bench.cells).setting
    if way:
        paths, inlet, raw = way
        (name,) = subject.feeds.inputs
        infer = {}
        for threads in dict.fromkeys(cell.setting.threads for cell in found.bench.cells):
            session = subject.session(threads, best.level, best.execution)
            infer[threads] = lambda tensors, session=session: session.run(None, {name: tensors})
        found.measure_pipeline = measure_pipeline(
            paths, inlet, infer, best.batch, best.threads, seconds, raw, partial(progress, "from image files")
        )
        found.interrupted = found.measure_pipeline.interrupted
    if options.offered is not None and not found.interrupted:
        smallest = min(cell.setting.batch for cell in found.bench.cells)
        if options.gather and options.gather[0] < smallest:
            raise BenchError(
                f"--gather {options.gather[0]} is below every batch that was measured (the smallest is {smallest}); add "
                f"{options.gather[0]} to --batches."
            )
        most, patience = options.gather or (max(cell.setting.batch for cell in found.bench.cells), 0.0)
        readings = {c.setting.batch: c.seconds for c in found.bench.cells if c.setting.session == best.session}
        found.offered = offer(
            subject, best, options.offered, Batching(most, patience), seconds, options.deadline, readings,
            partial(progress, "offered rates"),
        )  # fmt: skip
    if options.layers and not found.interrupted:
        progress("layers", 0.0)
        found.layers = layer_times(subject.feeds, best, min(seconds, 4.0))


def _tensors(options):
    """The tensors to feed and where they are from."""
    from zygal.errors import BenchError

    if not options.witness:
        return None, "random numbers"
    from zygal.evidence.witness import read_witness

    tensors = read_witness(options.witness).tensors
    if tensors is None:
        raise BenchError(f"{options.witness} holds only scores, no tensors to feed; bench without it.")
    return tensors, Path(options.witness).name


def _prepare_whole_way(options, subject):
    """(paths, inlet, whether the artifact holds the rest of the inlet) for --images, or None."""
    if not options.images:
        return None
    from zygal.artifact import read_artifact
    from zygal.errors import BenchError
    from zygal.evidence.images import list_images
    from zygal.inlet import read_inlet

    metadata = read_artifact(options.artifact).metadata
    inlet = read_inlet(options.inlet) if options.inlet else metadata.inlet
    if inlet is None:
        raise BenchError(
            f"{options.artifact} carries no inlet, so image files cannot be fed to it; give one by --inlet."
        )
    if len(subject.feeds.inputs) > 1:
        raise BenchError(f"{options.artifact} takes several inputs, so it cannot be run on image files.")
    raw = metadata.tensor is not None
    shape = inlet.tensor_shape()
    (wanted,) = subject.feeds.shapes.values()
    if not raw and shape is not None and tuple(shape) != tuple(wanted):
        raise BenchError(f"the inlet makes tensors {list(shape)}, and {options.artifact} takes {list(wanted)}.")
    return [Path(options.images) / name for name in list_images(options.images)], inlet, raw


def _others(options, subject, opened: ExitStack):
    """What is measured beside the artifact, and what is to be said of it."""
    from zygal import kinds
    from zygal.bench.subjects import ArtifactSubject, LiveSubject
    from zygal.errors import BenchError
    from zygal.sources.pytorch.live import captured, is_live

    others, notes = [], []
    for other in options.beside:
        if not is_live(other) and kinds.kind_of(other) == kinds.ARTIFACT:
            others.append(ArtifactSubject(other, subject.feeds.for_another(options.image_size)))
            continue
        path = other
        if is_live(other):
            if len(subject.feeds.shapes) > 1:
                raise BenchError(f"{options.artifact} takes several inputs, so {other} cannot be run beside it.")
            (shape,) = subject.feeds.shapes.values()
            path = opened.enter_context(captured(other, options.weights, tuple(shape)))
        live = LiveSubject(path, other, subject.feeds)
        if not live.keeps_threads:
            notes.append(f"{live.engine} uses as many threads as it likes, whatever a row says")
        others.append(live)
    return others, notes


def _with_notes(bench, notes):
    from dataclasses import replace

    return replace(bench, notes=(*bench.notes, *notes))


def _draw(out, found: Found, folder: Path) -> None:
    from zygal.figures.bench import draw_grid, draw_latencies, draw_layers, draw_stages

    drawn = []
    if found.bench.cells:
        drawn += [
            draw_grid(found.bench, folder / "throughput.png"),
            draw_latencies(found.bench, folder / "latencies.png"),
        ]
    if found.measure_pipeline:
        drawn.append(draw_stages(found.measure_pipeline, folder / "stages.png"))
    if found.layers:
        drawn.append(draw_layers(found.layers, found.bench, folder / "layers.png"))
    out.print(f"Drawn: {', '.join(str(path) for path in drawn)}.")


def _make_folder(folder: str) -> None:
    from zygal.files import check_writable, make_folder

    make_folder(folder)
    check_writable(Path(folder) / "throughput.png")
