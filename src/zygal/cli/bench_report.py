"""What zygal bench says: tables, and sentences that a person can act on."""

from __future__ import annotations

import math
from typing import Any

from zygal.cli.output import show_facts, show_table

BEST_LAYERS = 12


def milliseconds(seconds: float | None) -> str:
    if seconds is None:
        return "-"
    value = seconds * 1e3
    return f"{value:.3f}" if value < 10 else f"{value:.1f}" if value < 1000 else f"{value:.0f}"


def percent(part: float) -> str:
    value = 100 * part
    return f"{value:.1f} %" if abs(value) < 10 else f"{value:.0f} %"


def place(setting) -> str:
    """A setting in words; level and execution only where they are not what is usual."""
    words = f"batch {setting.batch} on {threads(setting.threads)}"
    if setting.level != "all":
        words += f", level {setting.level}"
    return words + (", parallel" if setting.execution == "parallel" else "")


def threads(count: int) -> str:
    return f"{count} thread{'s' * (count != 1)}"


def show_bench(out, bench, deadline: float | None) -> None:
    _show_surroundings(out, bench)
    if not bench.cells:
        return
    several = len({(cell.setting.level, cell.setting.execution) for cell in bench.cells}) > 1
    columns = [
        "threads", *(["level", "execution"] if several else []), "batch", "ms a batch", "95 % interval", "p90", "p99",
        "images/s", "CPU ms", "of limit", "peak MB", "runs", "noise",
    ]  # fmt: skip
    rows = []
    for cell in bench.cells:
        setting, latency = cell.setting, cell.latency
        rows.append([
            str(setting.threads),
            *([setting.level, setting.execution] if several else []),
            str(setting.batch),
            milliseconds(latency.value),
            f"{milliseconds(latency.low)} - {milliseconds(latency.high)}",
            milliseconds(cell.quantile(0.9)),
            milliseconds(cell.quantile(0.99)),
            f"{cell.images_per_second:.0f}" if cell.images_per_second >= 100 else f"{cell.images_per_second:.1f}",
            milliseconds(cell.cpu_seconds_an_image),
            "-" if cell.limit_share is None else f"{100 * cell.limit_share:.0f} %",
            "-" if cell.own is None else f"{cell.own.peak_bytes / 1e6:.0f}",
            str(latency.count),
            "-" if math.isinf(cell.noise) else percent(math.expm1(cell.noise)),
        ])  # fmt: skip
    show_table(out, columns, rows, left=0)
    out.print(
        "95 % interval: of the median, by block bootstrap. CPU ms: processor time an image, all threads. Of limit: multiply-\n"
        "adds done, as a part of what matrices reach here. Peak MB: of a process of its own. Noise: the artifact beside itself."
    )
    out.print()
    show_facts(out, "What it says", _sentences(bench, deadline))
    out.print()


def _show_surroundings(out, bench) -> None:
    machine, load = bench.machine, bench.load
    quota = "no quota" if machine.core_quota is None else f"a quota of {machine.core_quota:g} cores"
    memory = "memory unknown" if machine.memory_bytes is None else f"{machine.memory_bytes / 1e9:.1f} GB"
    sets = " ".join(machine.instruction_sets) or "instruction sets not readable"
    policy = machine.frequency_policy or "not readable here"
    meanwhile = []
    if load.stolen is not None:
        meanwhile.append(f"the host took {percent(load.stolen)} of the cores' time for others")
    if load.throttled:
        meanwhile.append(f"the control group held this process back {percent(load.throttled)} of the time")
    if load.other_cores is not None:
        meanwhile.append(f"other programs took {load.other_cores:.2f} cores")
    kinds = {(cell.setting.level, cell.setting.execution) for cell in bench.cells}
    settings = ", ".join(f"optimisation {level}, execution {execution}" for level, execution in kinds)
    facts = [
        ("runtime", f"{bench.runtime}; {settings}" if len(kinds) == 1 else bench.runtime),
        ("fed with", bench.fed_with),
        ("machine", f"{machine.processor}, {machine.cores_by_affinity} cores by affinity, {quota}, {memory}\n{sets}"),
        ("frequency policy", policy),
        ("meanwhile", "; ".join(meanwhile) or "the system does not say what else it did"),
        ("measured", f"{bench.rounds} rounds in {bench.seconds:.0f} s"),
    ]
    show_facts(out, bench.artifact, facts)
    out.print()


def _sentences(bench, deadline: float | None) -> list[tuple[str, str]]:
    from zygal.bench.advice import best_throughput, for_deadline, lowest_latency, memory_an_image

    cells = bench.cells
    best, quickest = best_throughput(cells), lowest_latency(cells)
    said = [
        ("most images", f"{place(best.setting)}: {best.images_per_second:.0f} images/s, {milliseconds(best.latency.value)} ms a batch"),
        ("lowest latency", f"{place(quickest.setting)}: {milliseconds(quickest.latency.value)} ms"),
    ]  # fmt: skip
    if deadline is not None:
        said.append((f"within {milliseconds(deadline)} ms", _on_deadline(for_deadline(cells, deadline))))
    said += _on_batches_and_threads(cells)
    if bench.arithmetic.total:
        said.append(("arithmetic", _on_arithmetic(bench)))
    memory = memory_an_image(cells)
    if memory is not None:
        start, slope = memory
        each = f"{slope / 1e6:.2f} MB for each image of the batch" if slope > 1e4 else "hardly anything for each image"
        said.append(("memory", f"{start / 1e6:.0f} MB, Python and the runtime included, and {each}"))
    own = [cell.own for cell in cells if cell.own is not None]
    if own:
        middle = sorted(each.session_seconds for each in own)[len(own) // 2]
        first = sorted((cell.own.first_run_seconds / cell.latency.value, cell) for cell in cells if cell.own)[-1]
        said.append((
            "start-up",
            f"{milliseconds(middle)} ms to load; the first run takes up to {first[0]:.1f} times as long as later ones "
            f"({place(first[1].setting)}); neither is in the figures above",
        ))  # fmt: skip
    said += _on_trust(bench)
    return said


def _on_deadline(deadline) -> str:
    words = ""
    if deadline.best is not None:
        words = f"{place(deadline.best.setting)}: p99 {milliseconds(deadline.best.quantile(0.99))} ms, "
        words += f"{deadline.best.images_per_second:.0f} images/s. "
    elif not deadline.undecided:
        return "no setting keeps it in 99 of 100 batches"
    if deadline.undecided:
        names = "; ".join(place(cell.setting) for cell in deadline.undecided[:3])
        more = f" and {len(deadline.undecided) - 3} more" if len(deadline.undecided) > 3 else ""
        words += f"Not known, for too few runs: {names}{more}; give more --seconds"
    return words.removesuffix(". ")


def _on_batches_and_threads(cells) -> list[tuple[str, str]]:
    from zygal.bench.advice import STILL_PAYS, scaling, where_batches_stop_paying

    said = []
    for paying in where_batches_stop_paying(cells):
        kind = threads(paying.threads) + ("" if paying.level == "all" else f", level {paying.level}")
        kind += ", parallel" if paying.execution == "parallel" else ""
        if paying.gain is None:
            words = f"on {kind} they pay up to {paying.batch}, the largest measured"
        else:
            words = (
                f"on {kind} none above {paying.batch} brings {percent(STILL_PAYS)} more (batch {paying.next_batch}: "
            )
            words += f"{100 * paying.gain:+.0f} %)"
        said.append(("larger batches" if not said else "", words))
    found = scaling(cells)
    if found:
        widest = max(each.threads for each in found)
        widest_ones = [each for each in found if each.threads == widest]
        parts = [f"{each.speedup:.2f} times at batch {each.batch}" for each in widest_ones]
        efficiency = [each.efficiency for each in widest_ones]
        said.append((
            "more threads",
            f"{threads(widest)} do {', '.join(parts)} what {threads(found[0].fewest)} does: "
            f"{percent(min(efficiency))} to {percent(max(efficiency))} of what they could",
        ))  # fmt: skip
    if any(cell.vague for cell in cells):
        names = [place(cell.setting) for cell in cells if cell.vague]
        said.append(("too vague", f"nothing is concluded from {'; '.join(names[:4])}{' and more' * (len(names) > 4)}"))
    return said


def _on_arithmetic(bench) -> str:
    rates = ", ".join(
        f"{rate / 1e9:.0f} G/s on {threads(count)}" for count, rate in sorted(bench.product_rates.items())
    )
    words = "at least " if bench.arithmetic.unknown else ""
    words += f"{bench.arithmetic.total / 1e6:.4g} million multiply-adds an image; matrices multiply here at {rates}"
    known = [cell for cell in bench.cells if cell.limit_share is not None]
    if known:
        best = max(known, key=lambda cell: cell.limit_share)
        words += f"; at most {percent(best.limit_share)} of that is reached ({place(best.setting)})"
    return words


def _on_trust(bench) -> list[tuple[str, str]]:
    vaguest = max(bench.cells, key=lambda cell: cell.latency.vagueness)
    words = (
        f"medians are known within {percent(vaguest.latency.vagueness)} or better (widest: {place(vaguest.setting)})"
    )
    noisy = [cell for cell in bench.cells if not math.isinf(cell.noise)]
    if noisy:
        noisiest = max(noisy, key=lambda cell: cell.noise)
        words += f"; beside itself the artifact differs by up to {percent(math.expm1(noisiest.noise))} ({place(noisiest.setting)})"
    longest = max(bench.cells, key=lambda cell: cell.seconds.max() / cell.latency.value)
    ratio = longest.seconds.max() / longest.latency.value
    said = [
        ("trust", f"{words}; smaller differences mean nothing"),
        ("longest run", f"{milliseconds(longest.seconds.max())} ms, {ratio:.1f} times the median ({place(longest.setting)}); "
                        "nothing was left out"),
    ]  # fmt: skip
    if not bench.load.quiet:
        said.append(("", "the machine was not quiet, see above: repeat when it is, or trust the intervals only"))
    unsteady = [place(cell.setting) for cell in bench.cells if not cell.steady]
    if unsteady:
        said.append(("", f"not steady when measuring began: {'; '.join(unsteady[:3])}"))
    if any(cell.quantile(0.99) is None for cell in bench.cells):
        from zygal.bench.result import READINGS_FOR_P99

        said.append(("", f"a p99 needs {READINGS_FOR_P99} runs; where there are fewer, - stands for it"))
    return said


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
    for name, reason in way.unread[:3]:
        out.print(f"Not read: {name} ({reason})")
    if len(way.unread) > 3:
        out.print(f"Not read: {len(way.unread) - 3} more files.")
    out.print()


def show_offered(out, offered) -> None:
    gathering = offered.gathering
    out.print(
        f"Random arrivals, served on {threads(offered.setting.threads)} in batches of up to {gathering.most}, the first of them "
        f"waiting {milliseconds(gathering.patience_seconds)} ms at most"
    )
    runs = [*offered.runs, *([offered.kept] if offered.kept else [])]
    rows = [
        [
            f"{run.rate:.0f}",
            *(milliseconds(run.quantile(part)) for part in (0.5, 0.9, 0.99)),
            milliseconds(float(run.latencies.max())),
            f"{sum(run.batches) / len(run.batches):.2f}",
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
    if offered.simulated_rate is None:
        return f"No rate is low enough to keep {deadline} ms in 99 of 100 cases."
    simulated = f"{offered.simulated_rate:.0f} images/s in simulation with the measured times"
    if offered.kept is None:
        return (
            f"A deadline of {deadline} ms would be kept up to {simulated}; on the real clock no rate near it kept it."
        )
    return (
        f"A deadline of {deadline} ms is kept in 99 of 100 cases up to {offered.kept.rate:.0f} images/s as tried on the real "
        f"clock (the last row); {simulated}."
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
        rows.append([layer.layer, " ".join(dict.fromkeys(layer.operators)), milliseconds(layer.seconds), percent(layer.share),
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
    if regression.breaks(allowed):
        out.print(f"BREAKS: slower than the {percent(allowed)} that are allowed.")
    else:
        out.print(f"HOLDS: nothing is slower by more than {percent(allowed)} beyond the noise.")


def _change_columns(change, allowed: float) -> list[str]:
    return [f"{change.raw_ratio:.3f}x", f"{change.ratio:.3f}x", percent(math.expm1(change.reach)), change.verdict,
            "breaks" if change.breaks(allowed) else "holds"]  # fmt: skip


def documents_of(found, regression, allowed: float) -> dict[str, Any]:
    """The optional parts of the result, with units in the names."""
    parts: dict[str, Any] = {}
    if found.whole_way:
        way = found.whole_way
        parts["from_image_files"] = {
            "batch_images": way.batch, "threads": way.threads, "inlet_threads": way.inlet_threads, "files": way.images,
            "stage_seconds_an_image": way.stages, "one_after_another_images_per_second": way.one_by_one,
            "overlapped_images_per_second_by_threads": way.overlapped, "overlapped_gain": way.gain and way.gain.value,
            "overlapped_gain_interval_95": way.gain and [way.gain.low, way.gain.high],
            "unread": [{"file": name, "reason": reason} for name, reason in way.unread],
        }  # fmt: skip
    if found.offered:
        offered = found.offered
        parts["offered"] = {
            "threads": offered.setting.threads,
            "batch_most_images": offered.gathering.most,
            "batch_wait_seconds": offered.gathering.patience_seconds,
            "runs": [_served(run) for run in offered.runs],
            "deadline_seconds": offered.deadline_seconds,
            "highest_rate_simulated_images_per_second": offered.simulated_rate,
            "highest_rate_kept": offered.kept and _served(offered.kept),
        }
    if found.layers:
        times = found.layers
        parts["layers"] = {
            "batch_images": times.setting.batch, "threads": times.setting.threads, "run_seconds": times.run_seconds,
            "outside_layers_seconds": times.outside_seconds, "runs": times.runs,
            "layers": [
                {"layer": each.layer, "seconds": each.seconds, "share": each.share, "multiply_adds": each.multiply_adds,
                 "operators": each.operators}
                for each in times.layers
            ],
        }  # fmt: skip
    if regression:
        everything = [*regression.changes, *([regression.together] if regression.together else [])]
        parts["against"] = {
            "allowed_part": allowed, "breaks": regression.breaks(allowed), "not_alike": regression.differing,
            "machine_time_ratio_by_threads": regression.machine_ratio,
            "changes": [
                {"setting": "all" if each is regression.together else place(each.setting), "time_ratio": each.ratio,
                 "time_ratio_without_yardstick": each.raw_ratio, "noise_of_both_part": math.expm1(each.reach),
                 "verdict": each.verdict}
                for each in everything
            ],
        }  # fmt: skip
    return parts


def _served(run) -> dict[str, Any]:
    return {
        "offered_images_per_second": run.rate, "images": len(run.latencies), "mean_batch_images": sum(run.batches) / len(run.batches),
        "busy_part": run.busy, "latency_p50_seconds": run.quantile(0.5), "latency_p90_seconds": run.quantile(0.9),
        "latency_p99_seconds": run.quantile(0.99), "latency_longest_seconds": float(run.latencies.max()),
        "falling_behind": run.falling_behind,
    }  # fmt: skip
