"""zygal bench: batch inference on this machine's CPU."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.bench.request import CLUSTER_ONLY, FIGURES, BenchRequest, check_rates
from zygal.errors import BenchError
from zygal.files.outputs import check_outputs
from zygal.listener import SILENT, Listener
from zygal.outcome import Outcome
from zygal.request import paths_read, refuse_without

if TYPE_CHECKING:
    from zygal.bench.baseline import Baseline
    from zygal.bench.layers import LayerTimes
    from zygal.bench.pipeline import Pipeline
    from zygal.bench.regression import Regression
    from zygal.bench.result import Bench
    from zygal.bench.serving import Serving
    from zygal.commands.bench.here import Measured


@dataclass(frozen=True, kw_only=True)
class BenchOutcome(Outcome):
    """What was measured here."""

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
        """See `Outcome.result`."""
        from zygal.bench import documents

        whole = documents.document(self.bench) | documents.more(self.pipeline, self.serving, self.layers)
        whole["baseline"] = documents.judgement(self.regression, self.request.max_slowdown) if self.regression else None
        return whole


def execute(request: BenchRequest, listener: Listener = SILENT) -> Outcome:
    """Measures, writes the table and draws the figures. Raises ZygalError.

    After an interrupt the outcome covers what was measured until then. A baseline that cannot be compared with is not
    raised but returned as `refusal`, so that the figures are not lost.
    """
    from zygal.bench.baseline import read_baseline
    from zygal.bench.regression import judge
    from zygal.commands.bench.here import measure
    from zygal.files.recognition import require_artifact

    refuse_without(request, BenchError, CLUSTER_ONLY)
    if request.endpoint:
        from zygal.commands.bench.endpoint import execute as offer

        return offer(request, listener)
    if request.cluster:
        from zygal.commands.bench.cluster import execute as measure_cluster

        return measure_cluster(request, listener)
    _check(request)
    require_artifact(request.artifact)
    earlier = read_baseline(request.baseline) if request.baseline else None
    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    measured = measure(request, listener, earlier)
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
        gates=regression.gates(request.max_slowdown) if regression else (),
        notes=tuple(notes),
        unreadable=measured.pipeline.unreadable if measured.pipeline else (),
        written=tuple(_write(request, measured)),
        interrupted=measured.interrupted,
    )


def _check(request: BenchRequest) -> None:
    """Raises BenchError for an option that needs another one, or has no meaning."""
    from zygal.sources.live import is_live

    refuse_without(request, BenchError)
    check_rates(request)
    if request.weights and not any(map(is_live, request.compare)):
        raise BenchError("--weights needs --compare FILE.py:FUNCTION, which is not given.")
    size = request.image_size
    if size and (len(size) != 2 or min(size) < 1):
        raise BenchError(f"--image-size must be HEIGHT,WIDTH (got {','.join(map(str, size))}).")
    smallest = min(request.batches, default=1)
    if request.max_batch is not None and request.max_batch < smallest:
        raise BenchError(
            f"--max-batch {request.max_batch} is below the smallest measured batch, {smallest}; add "
            f"{request.max_batch} to --batches."
        )


def _write(request: BenchRequest, measured: Measured) -> list[str]:
    """Writes the table and the figures that were asked for; their paths."""
    from zygal.bench import documents
    from zygal.files.writing import write_text

    written = []
    if request.csv:
        write_text(request.csv, documents.table(measured.bench))
        written.append(request.csv)
    return written + _draw(Path(request.draw), measured) if request.draw else written


def _draw(folder: Path, measured: Measured) -> list[str]:
    from zygal.bench.figure import draw_grid, draw_latencies, draw_layers, draw_stages

    throughput, latencies, stages, layers = (folder / name for name in FIGURES)
    drawn = []
    if measured.bench.cells:
        drawn += [draw_grid(measured.bench, throughput), draw_latencies(measured.bench, latencies)]
    if measured.pipeline:
        drawn.append(draw_stages(measured.pipeline, stages))
    if measured.layers:
        drawn.append(draw_layers(measured.layers, measured.bench, layers))
    return [str(path) for path in drawn]
