"""What zygal bench says beyond the grid: what was beside it, the whole way, offered rates, layers, an earlier run."""

from __future__ import annotations

import math
import os

from zygal.cli.bench_report import milliseconds, percent, place, threads
from zygal.cli.output import show_table

BEST_LAYERS = 12


def show_beside(out, bench) -> None:
    for other in bench.beside:
        if not other.ratios:
            continue
        out.print(f"Beside it: {other.name} on {other.engine}, on the same inputs in the same run")
        rows = []
        for cell in bench.cells:
            ratio = other.ratios.get(cell.setting)
            if ratio is None:
                continue
            told = other.told_apart(cell)
            verdict = ("slower" if ratio.value > 1 else "faster") if told else "no difference beyond the noise"
            rows.append([place(cell.setting), f"{ratio.value:.3f}x", f"{ratio.low:.3f} - {ratio.high:.3f}",
                         percent(math.expm1(cell.noise)), verdict, str(ratio.count)])  # fmt: skip
        show_table(out, ["", "its time", "95 % interval", "noise", "it is", "blocks"], rows)
        if other.together is not None and len(rows) > 1:
            ratio = other.together
            out.print(
                f"Over all settings it takes {ratio.value:.3f} times as long ({ratio.low:.3f} - {ratio.high:.3f}), the "
                "geometric mean."
            )
            out.print()


def show_whole_way(out, way) -> None:
    out.print(
        f"From image files: {way.images} files a pass, batch {way.batch}; stages one after another, inference on "
        f"{threads(way.threads)}"
    )
    rows = [[stage, milliseconds(seconds), percent(way.share(stage))] for stage, seconds in way.stages.items()]
    show_table(out, ["stage", "ms/image", "share"], rows)
    listed = ", ".join(f"{rate:.0f} with inference on {threads(count)}" for count, rate in way.overlapped.items())
    out.print(f"One after another {way.one_by_one:.0f} images/s. Overlapped {listed}.")
    words = f"Inference alone would allow {1 / way.stages['inference']:.0f} images/s."
    if way.gain is not None:
        gain = f"{way.gain.value:.2f} times as many images ({way.gain.low:.2f} - {way.gain.high:.2f})"
        words = f"Overlapping brings {gain}, best with inference on {threads(way.best)}. " + words
    out.print(words)
    for name, reason in way.unreadable[:3]:
        out.print(f"Not read: {name} ({reason})")
    if len(way.unreadable) > 3:
        out.print(f"Not read: {len(way.unreadable) - 3} more files.")
    out.print()


def show_offered(out, offered) -> None:
    gathering = offered.gathering
    out.print(
        f"Random arrivals, served on {threads(offered.setting.threads)} in batches of up to {gathering.most}, the first of them "
        f"waiting {milliseconds(gathering.patience_seconds)} ms at most"
    )
    tried = [offered.kept] if offered.kept and all(each is not offered.kept for each in offered.runs) else []
    runs = [*offered.runs, *tried]
    rows = [
        [
            f"{run.rate:.0f}",
            *(milliseconds(run.quantile(part)) for part in (0.5, 0.9, 0.99)),
            milliseconds(float(run.latencies.max())),
            f"{run.mean_batch:.2f}",
            percent(run.busy),
            str(len(run.latencies)),
            "no: the queue grows" if run.falling_behind else "yes",
        ]
        for run in runs
    ]
    columns = [
        "images/s offered",
        "p50 ms",
        "p90 ms",
        "p99 ms",
        "longest ms",
        "mean batch",
        "busy",
        "images",
        "keeps up",
    ]
    show_table(out, columns, rows, left=0)
    if offered.deadline_seconds is not None:
        out.print(_on_highest_rate(offered))
        out.print()


def _on_highest_rate(offered) -> str:
    deadline = milliseconds(offered.deadline_seconds)
    if offered.kept is None and offered.simulated_rate is None:
        return f"No rate is low enough to keep {deadline} ms in 99 of 100 cases."
    if offered.simulated_rate is None:
        return (
            f"A deadline of {deadline} ms is kept in 99 of 100 cases at {offered.kept.rate:.0f} images/s on the real clock (in the "
            "table); in simulation with the measured times no rate keeps it."
        )
    simulated = f"{offered.simulated_rate:.0f} images/s in simulation with the measured times"
    if offered.kept is None:
        return (
            f"A deadline of {deadline} ms would be kept up to {simulated}; on the real clock no rate near it kept it."
        )
    return (
        f"A deadline of {deadline} ms is kept in 99 of 100 cases up to {offered.kept.rate:.0f} images/s as tried on the real "
        f"clock (in the table); {simulated}."
    )


def show_layers(out, times) -> None:
    from zygal.bench.yardstick import MULTIPLY_ADDS

    out.print(f"Where the time goes: {place(times.setting)}, {times.runs} runs under the runtime's profiler")
    peak = MULTIPLY_ADDS / times.product_seconds
    rows = []
    for layer in times.layers[:BEST_LAYERS]:
        million, share = "-", "-"
        if layer.multiply_adds:
            million = f"{layer.multiply_adds / times.setting.batch / 1e6:.3g}"
            share = f"{100 * layer.multiply_adds / layer.seconds / peak:.0f} %"
        kinds = list(dict.fromkeys(layer.operators))
        operators = " ".join(kinds[:3]) + (f" and {len(kinds) - 3} more" if len(kinds) > 3 else "")
        rows.append([layer.layer, operators, milliseconds(layer.seconds), percent(layer.share),
                     million, share])  # fmt: skip
    rest = times.layers[BEST_LAYERS:]
    if rest:
        rows.append([f"({len(rest)} more)", "", milliseconds(sum(layer.seconds for layer in rest)),
                     percent(sum(layer.share for layer in rest)), "", ""])  # fmt: skip
    columns = ["layer", "operators", "ms", "share", "M multiply-adds/image", "of limit"]
    show_table(out, columns, rows, left=2)
    out.print(
        f"A run takes {milliseconds(times.run_seconds)} ms, {milliseconds(times.outside_seconds)} ms of it outside layers."
    )
    out.print()


def show_regression(out, regression, earlier, allowed: float) -> None:
    from zygal.bench.regression import SAME

    out.print(f"Against the earlier run of {earlier.artifact}")
    for difference in regression.differing:
        out.print(f"  not alike: {difference}")
    rows = []
    for change in regression.changes:
        rows.append([place(change.setting), *_change_columns(change, allowed)])
    if regression.together:
        rows.append(["all settings", *_change_columns(regression.together, allowed)])
    show_table(out, ["", "as it was", "by yardstick", "noise of both", "it is", "verdict"], rows)
    for count, ratio in sorted(regression.machine_ratio.items()):
        if abs(math.log(ratio)) > 0.03:
            out.print(f"The machine itself took {ratio:.2f} times as long on {threads(count)}; that is taken out.")
    if regression.fails(allowed):
        out.print(f"BREAKS: slower than the {percent(allowed)} that are allowed.")
    else:
        out.print(f"HOLDS: nothing is slower by more than {percent(allowed)} beyond the noise.")
        if os.path.isfile(earlier.artifact) and any(change.verdict == SAME for change in regression.changes):
            out.print(f"Smaller differences show in one run: zygal bench ARTIFACT --beside {earlier.artifact}")


def _change_columns(change, allowed: float) -> list[str]:
    return [f"{change.raw_ratio:.3f}x", f"{change.ratio:.3f}x", percent(math.expm1(change.reach)), change.verdict,
            "breaks" if change.fails(allowed) else "holds"]  # fmt: skip
