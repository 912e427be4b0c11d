"""What zygal bench reports beyond the grid: comparisons, image files, random arrivals, layers, an earlier run."""

from __future__ import annotations

import math
import os

from zygal.cli.reports.verdict import result_of_gate
from zygal.cli.tables import show_sentence, show_table
from zygal.outcome import Verdict
from zygal.wording import counted, duration, milliseconds, rate, rough_percent

BEST_LAYERS = 12


def show_comparison(out, bench) -> None:
    """Every other model's time as a multiple of the artifact's."""
    for other in bench.compared:
        if not other.ratios:
            continue
        show_sentence(out, f"Compared with {other.name} on {other.engine}, same tensors, same run")
        rows = []
        for cell in bench.cells:
            ratio = other.ratios.get(cell.setting)
            if ratio is None:
                continue
            significant = other.told_apart(cell)
            verdict = ("slower" if ratio.value > 1 else "faster") if significant else "no significant difference"
            rows.append(
                [
                    cell.setting.description,
                    f"{ratio.value:.3f}x",
                    f"{ratio.low:.3f} - {ratio.high:.3f}",
                    rough_percent(math.expm1(cell.noise)),
                    verdict,
                    str(ratio.count),
                ]
            )
        show_table(out, ["", "its time", "95 % CI", "noise", "it is", "blocks"], rows, optional=("noise", "blocks"))
        if other.overall is not None and len(rows) > 1:
            ratio = other.overall
            show_sentence(
                out,
                f"Geometric mean over all settings: {other.name} takes {ratio.value:.3f} times as long (95 % CI "
                f"{ratio.low:.3f} to {ratio.high:.3f}).",
            )
            out.print()


def show_pipeline(out, pipeline) -> None:
    """The stages from image files to scores, one after another and overlapped."""
    show_sentence(
        out,
        f"From image files to scores: {counted(pipeline.images, 'file')} per pass, batch {pipeline.batch}; stages one "
        f"after another, inference on {counted(pipeline.threads, 'thread')}",
    )
    rows = [
        [stage, milliseconds(seconds), rough_percent(pipeline.share(stage))]
        for stage, seconds in pipeline.stages.items()
    ]
    show_table(out, ["stage", "ms/image", "share"], rows)
    listed = ", ".join(
        f"{rate(each)} images/s with inference on {counted(count, 'thread')}"
        for count, each in pipeline.overlapped.items()
    )
    show_sentence(
        out,
        f"Sequential: {rate(pipeline.sequential)} images/s. Overlapped: {listed}. Inference alone: "
        f"{rate(1 / pipeline.stages['inference'])} images/s.",
    )
    if pipeline.gain is not None:
        gain = pipeline.gain
        show_sentence(
            out,
            f"Overlapping gives {gain.value:.2f} times the throughput (95 % CI {gain.low:.2f} to {gain.high:.2f}), "
            f"best with inference on {counted(pipeline.best, 'thread')}.",
        )
    out.print()


def show_serving(out, serving) -> None:
    """Latencies at each arrival rate."""
    batching = serving.batching
    show_sentence(
        out,
        f"Random arrivals on {counted(serving.setting.threads, 'thread')}, batches of up to {batching.max_batch}, "
        f"waiting at most {duration(batching.max_wait_seconds)}",
    )
    listed = serving.sustained and all(each is not serving.sustained for each in serving.runs)
    rows = [
        [
            f"{run.rate:.4g}",
            *(milliseconds(run.quantile(part)) for part in (0.5, 0.9, 0.99)),
            milliseconds(float(run.latencies.max())),
            f"{run.mean_batch:.2f}",
            rough_percent(run.busy),
            str(len(run.latencies)),
            "no, the queue grows" if run.falling_behind else "yes",
        ]
        for run in [*serving.runs, *([serving.sustained] if listed else [])]
    ]
    columns = ["arrivals/s", "p50 ms", "p90 ms", "p99 ms", "max ms", "mean batch", "busy", "requests", "keeps up"]
    show_table(out, columns, rows, left=0, optional=("busy", "p90 ms", "max ms"))
    if serving.deadline_seconds is not None:
        show_sentence(out, _highest_rate(serving))
        out.print()


def _highest_rate(serving) -> str:
    deadline = duration(serving.deadline_seconds)
    measured, simulated = serving.sustained, serving.simulated_rate
    if measured is None and simulated is None:
        return f"Deadline {deadline} at p99: no arrival rate meets it."
    found = (
        "none near the simulated rate met it" if measured is None else f"{measured.rate:.4g} images/s (in the table)"
    )
    expected = "none" if simulated is None else f"{simulated:.4g} images/s"
    return (
        f"Deadline {deadline} at p99, highest arrival rate: measured {found}; simulated with the measured times "
        f"{expected}."
    )


def show_layers(out, times) -> None:
    """The layers that take the most time."""
    from zygal.bench.reference_workload import MULTIPLY_ADDS

    show_sentence(
        out, f"Time by layer: {times.setting.description}, {counted(times.runs, 'run')} with the runtime's profiler"
    )
    peak = MULTIPLY_ADDS / times.product_seconds
    rows = []
    for layer in times.layers[:BEST_LAYERS]:
        million, share = "-", "-"
        if layer.multiply_adds:
            million = f"{layer.multiply_adds / times.setting.batch / 1e6:.3g}"
            part = layer.multiply_adds / layer.seconds / peak
            # More than all says that the machine was faster in these moments: then the share is not known.
            share = f"{100 * part:.0f} %" if part <= 1 else "-"
        kinds = list(dict.fromkeys(layer.operators))
        operators = " ".join(kinds[:3]) + (f" and {len(kinds) - 3} more" if len(kinds) > 3 else "")
        rows.append([layer.layer, operators, milliseconds(layer.seconds), rough_percent(layer.share), million, share])
    rest = times.layers[BEST_LAYERS:]
    if rest:
        rows.append(
            [
                f"({len(rest)} more)",
                "",
                milliseconds(sum(layer.seconds for layer in rest)),
                rough_percent(sum(layer.share for layer in rest)),
                "",
                "",
            ]
        )
    show_table(
        out,
        ["layer", "operators", "ms", "share", "M multiply-adds/image", "of peak"],
        rows,
        left=2,
        optional=("of peak", "M multiply-adds/image"),
    )
    show_sentence(
        out, f"One run takes {duration(times.run_seconds)}; {duration(times.outside_seconds)} of it is outside layers."
    )
    out.print()


def show_regression(out, regression, earlier, max_slowdown: float) -> None:
    """Every setting's time as a multiple of the baseline's."""
    from zygal.bench.regression import SAME

    show_sentence(out, f"Compared with the baseline, an earlier run of {earlier.artifact}")
    for difference in regression.differences_found:
        show_sentence(out, f"  different: {difference}", "yellow")
    gates = regression.gates(max_slowdown)
    rows = [
        [gate.condition.removeprefix("slowdown, "), *_change(change, gate)]
        for change, gate in zip(regression.all_changes, gates)
    ]
    show_table(out, ["", "time ratio", "corrected", "noise", "it is", "result"], rows, optional=("noise",))
    show_sentence(
        out, "corrected: for the speed of the machine, by a reference workload that was measured in both runs."
    )
    for count, ratio in sorted(regression.machine_ratio.items()):
        if abs(math.log(ratio)) > 0.03:
            show_sentence(out, f"The machine itself took {ratio:.2f} times as long on {counted(count, 'thread')}.")
    compared_again = any(change.verdict == SAME for change in regression.changes) and os.path.isfile(earlier.artifact)
    if compared_again and all(gate.verdict is not Verdict.FAILED for gate in gates):
        show_sentence(out, f"Smaller differences show in one run: zygal bench ARTIFACT --compare {earlier.artifact}")


def _change(change, gate) -> list:
    return [
        f"{change.raw_ratio:.3f}x",
        f"{change.ratio:.3f}x",
        rough_percent(math.expm1(change.reach)),
        change.verdict,
        result_of_gate(gate),
    ]
