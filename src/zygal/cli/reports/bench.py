"""The report of zygal bench: the table of settings, and sentences that a person can act on."""

from __future__ import annotations

import math

from zygal.cli.reports.bench_cluster import show_cluster
from zygal.cli.reports.bench_more import show_comparison, show_layers, show_pipeline, show_regression, show_serving
from zygal.cli.reports.verdict import show_gates, show_verdict
from zygal.cli.tables import show_facts, show_sentence, show_table
from zygal.commands.bench.cluster import ClusterOutcome
from zygal.commands.bench.endpoint import EndpointOutcome
from zygal.commands.bench.execute import BenchOutcome
from zygal.wording import counted, duration, file_size, milliseconds, rate, rough_percent


def show(out, outcome: BenchOutcome) -> None:
    """Machine, table, conclusions, then each further measurement."""
    if isinstance(outcome, EndpointOutcome):
        show_offered(out, outcome)
        return
    if isinstance(outcome, ClusterOutcome):
        show_cluster(out, outcome)
        return
    bench, request = outcome.bench, outcome.request
    _show_machine(out, bench)
    if bench.cells:
        _show_cells(out, bench)
        show_facts(out, "Conclusions", _conclusions(bench, request.deadline))
        out.print()
    show_comparison(out, bench)
    if outcome.pipeline:
        show_pipeline(out, outcome.pipeline)
    if outcome.serving:
        show_serving(out, outcome.serving)
    if outcome.layers:
        show_layers(out, outcome.layers)
    if outcome.regression:
        show_regression(out, outcome.regression, outcome.earlier, request.max_slowdown)
    if outcome.written:
        show_sentence(out, f"Written: {', '.join(outcome.written)}.")
    show_verdict(out, outcome)


def show_offered(out, outcome: EndpointOutcome) -> None:
    """A service under offered load."""
    show_sentence(out, f"{outcome.service}, fed {outcome.inputs_from}")
    out.print()
    rows = [
        [
            f"{run.rate:g}",
            str(run.batch),
            rate(run.images_per_second),
            *(milliseconds(run.quantile(part)) for part in (0.5, 0.9, 0.99)),
            str(run.requests),
            str(sum(run.failures.values())),
            "yes" if run.falling_behind else "no",
        ]
        for run in outcome.runs
    ]
    show_table(
        out,
        [
            "offered images/s",
            "batch",
            "answered images/s",
            "p50 ms",
            "p90 ms",
            "p99 ms",
            "requests",
            "failed",
            "falling behind",
        ],
        rows,
        left=0,
    )
    show_sentence(
        out,
        "ms: from the moment a request was due to its answer. falling behind: answers took longer and longer, "
        "so the service does not sustain this rate.",
    )
    for run in outcome.runs:
        for reason, count in run.failures.items():
            show_sentence(out, f"{counted(count, 'request')} at {run.rate:g} images/s: {reason}.", "yellow")
    out.print()
    show_gates(out, outcome.gates)
    show_verdict(out, outcome)


def _show_cells(out, bench) -> None:
    several = len({(cell.setting.level, cell.setting.execution) for cell in bench.cells}) > 1
    columns = [
        "threads",
        *(["level", "execution"] if several else []),
        "batch",
        "ms/batch",
        "95 % CI",
        "p90",
        "p99",
        "images/s",
        "CPU ms",
        "of peak",
        "MB",
        "runs",
        "noise",
    ]
    rows = []
    for cell in bench.cells:
        setting, latency = cell.setting, cell.latency
        rows.append(
            [
                str(setting.threads),
                *([setting.level, setting.execution] if several else []),
                str(setting.batch),
                milliseconds(latency.value),
                f"{milliseconds(latency.low)} - {milliseconds(latency.high)}",
                milliseconds(cell.quantile(0.9)),
                milliseconds(cell.quantile(0.99)),
                rate(cell.images_per_second),
                milliseconds(cell.cpu_seconds_per_image),
                "-" if cell.limit_share is None else f"{100 * cell.limit_share:.0f} %",
                "-" if cell.own is None else f"{cell.own.peak_bytes / 1e6:.0f}",
                str(latency.count),
                "-" if math.isinf(cell.noise) else rough_percent(math.expm1(cell.noise)),
            ]
        )
    show_table(out, columns, rows, left=0, optional=("of peak", "p90", "CPU ms", "MB", "noise"))
    show_sentence(
        out,
        "ms/batch: median. CPU ms: processor time per image, all threads. of peak: multiply-adds per second, as a "
        "share of what matrix products reach on this machine. MB: peak memory of a separate process. noise: difference "
        "of two copies of the artifact in this run.",
    )
    out.print()


def _show_machine(out, bench) -> None:
    machine, load = bench.machine, bench.load
    quota = "no quota" if machine.core_quota is None else f"quota of {machine.core_quota:g} cores"
    memory = "memory not known" if machine.memory_bytes is None else file_size(machine.memory_bytes)
    sets = " ".join(machine.instruction_sets) or "instruction sets not known"
    others = []
    if load.stolen is not None:
        others.append(f"other virtual machines took {rough_percent(load.stolen)} of the cores' time")
    if load.throttled:
        others.append(f"the quota stopped this process for {rough_percent(load.throttled)} of the time")
    if load.other_cores is not None:
        others.append(f"other programs used {load.other_cores:.2f} cores")
    kinds = {(cell.setting.level, cell.setting.execution) for cell in bench.cells}
    settings = ", ".join(f"optimisation {level}, execution {execution}" for level, execution in kinds)
    facts = [
        ("runtime", f"{bench.runtime}; {settings}" if len(kinds) == 1 else bench.runtime),
        ("input tensors", bench.inputs_from),
        ("machine", f"{machine.processor}, {machine.cores_by_affinity} cores available, {quota}, {memory}\n{sets}"),
        ("frequency policy", machine.frequency_policy or "not known"),
        ("other load", "; ".join(others) or "not known"),
        ("measured", f"{counted(bench.rounds, 'round')} in {duration(bench.seconds)}"),
    ]
    show_facts(out, bench.artifact, facts)
    out.print()


def _conclusions(bench, deadline: float | None) -> list[tuple[str, str]]:
    from zygal.bench.advice import best_throughput, conclusive, for_deadline, lowest_latency

    cells = bench.cells
    best, quickest = best_throughput(cells), lowest_latency(cells)
    rows = (
        []
        if conclusive(cells)
        else [("none", "every setting is too imprecise; give more --seconds, or measure on a quiet machine")]
    )
    rows += (
        []
        if rows
        else [
            (
                "highest throughput",
                f"{best.setting.description}: {rate(best.images_per_second)} images/s, "
                f"{duration(best.latency.value)} per batch",
            ),
            ("lowest latency", f"{quickest.setting.description}: {duration(quickest.latency.value)}"),
        ]
    )
    if deadline is not None:
        rows.append((f"deadline {duration(deadline)}", _on_deadline(for_deadline(cells, deadline))))
    rows += _on_batches_and_threads(cells)
    if bench.arithmetic.total:
        rows.append(("arithmetic", _on_arithmetic(bench)))
    return [*rows, *_on_memory_and_start(cells), *_on_precision(bench)]


def _on_memory_and_start(cells) -> list[tuple[str, str]]:
    from zygal.bench.advice import memory_per_image

    rows = []
    memory = memory_per_image(cells)
    if memory is not None:
        start, slope = memory
        each = (
            f"{slope / 1e6:.2f} MB more per image of the batch"
            if slope > 1e4
            else "less than 0.01 MB more per image of the batch"
        )
        rows.append(("memory", f"{start / 1e6:.0f} MB with Python and the runtime, and {each}"))
    own = [cell.own for cell in cells if cell.own is not None]
    if own:
        middle = sorted(each.session_seconds for each in own)[len(own) // 2]
        ratio, cell = sorted(
            ((c.own.first_run_seconds / c.latency.value, c) for c in cells if c.own), key=lambda each: each[0]
        )[-1]
        rows.append(
            (
                "start-up",
                f"{duration(middle)} to load the artifact. The first run takes up to {ratio:.1f} times the median "
                f"({cell.setting.description}). Neither is in the figures above.",
            )
        )
    return rows


def _on_deadline(deadline) -> str:
    if deadline.best is None and not deadline.undecided:
        return "no setting has a p99 below it"
    text = []
    if deadline.best is not None:
        best = deadline.best
        text.append(
            f"{best.setting.description}: p99 {duration(best.quantile(0.99))}, {rate(best.images_per_second)} images/s"
        )
    if deadline.undecided:
        names = "; ".join(cell.setting.description for cell in deadline.undecided[:3])
        more = f" and {len(deadline.undecided) - 3} more" if len(deadline.undecided) > 3 else ""
        text.append(f"Not known because of too few runs: {names}{more}; give more --seconds")
    return ". ".join(text)


def _on_batches_and_threads(cells) -> list[tuple[str, str]]:
    from zygal.bench.advice import WORTHWHILE_GAIN, batch_limits, scaling

    rows = []
    for found in batch_limits(cells):
        kind = counted(found.threads, "thread") + ("" if found.level == "all" else f", level {found.level}")
        kind += ", parallel" if found.execution == "parallel" else ""
        if found.gain is None:
            text = f"{kind}: throughput grows up to batch {found.batch}, the largest measured"
        else:
            text = f"{kind}: no batch above {found.batch} adds {rough_percent(WORTHWHILE_GAIN)} throughput "
            text += f"(batch {found.next_batch}: {100 * found.gain:+.0f} %)"
        rows.append(("larger batches" if not rows else "", text))
    found = scaling(cells)
    if found:
        widest = [each for each in found if each.threads == max(other.threads for other in found)]
        speedups = ", ".join(f"{each.speedup:.2f}x at batch {each.batch}" for each in widest)
        efficiency = [each.efficiency for each in widest]
        rows.append(
            (
                "more threads",
                f"{counted(widest[0].threads, 'thread')} instead of {found[0].fewest}: {speedups} (efficiency "
                f"{rough_percent(min(efficiency))} to {rough_percent(max(efficiency))})",
            )
        )
    if any(cell.imprecise for cell in cells):
        names = [cell.setting.description for cell in cells if cell.imprecise]
        rows.append(
            ("not used", f"too imprecise for conclusions: {'; '.join(names[:4])}{' and more' * (len(names) > 4)}")
        )
    return rows


def _on_arithmetic(bench) -> str:
    rates = ", ".join(
        f"{rate_ / 1e9:.0f} G/s on {counted(count, 'thread')}" for count, rate_ in sorted(bench.product_rates.items())
    )
    text = "at least " if bench.arithmetic.unknown else ""
    text += f"{bench.arithmetic.total / 1e6:.4g} million multiply-adds per image. Matrix products reach {rates} here"
    known = [cell for cell in bench.cells if cell.limit_share is not None]
    if known:
        best = max(known, key=lambda cell: cell.limit_share)
        text += f"; the artifact reaches at most {rough_percent(best.limit_share)} of that ({best.setting.description})"
    return text


def _on_precision(bench) -> list[tuple[str, str]]:
    widest = max(bench.cells, key=lambda cell: cell.latency.relative_error)
    text = (
        f"medians are known within {rough_percent(widest.latency.relative_error)} or better (widest: "
        f"{widest.setting.description})"
    )
    measured = [cell for cell in bench.cells if not math.isinf(cell.noise)]
    if measured:
        noisiest = max(measured, key=lambda cell: cell.noise)
        text += (
            f"; two copies of the artifact differ by up to {rough_percent(math.expm1(noisiest.noise))} "
            f"({noisiest.setting.description})"
        )
    longest = max(bench.cells, key=lambda cell: cell.seconds.max() / cell.latency.value)
    ratio = longest.seconds.max() / longest.latency.value
    rows = [
        ("precision", f"{text}. Smaller differences are not significant"),
        (
            "longest run",
            f"{duration(longest.seconds.max())}, {ratio:.1f} times the median ({longest.setting.description}); "
            f"no run is left out",
        ),
    ]
    if not bench.load.quiet:
        rows.append(("", "other load disturbed the measurement (see above): measure again on a quiet machine"))
    unsteady = [cell.setting.description for cell in bench.cells if not cell.steady]
    if unsteady:
        rows.append(("", f"run times were still changing after the warm-up: {'; '.join(unsteady[:3])}"))
    if any(cell.quantile(0.99) is None for cell in bench.cells):
        from zygal.bench.result import READINGS_FOR_P99

        rows.append(("", f"- in p99: it needs at least {READINGS_FOR_P99} runs; give more --seconds"))
    return rows
