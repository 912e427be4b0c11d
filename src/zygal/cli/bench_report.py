"""What zygal bench says: tables, and sentences that a person can act on."""

from __future__ import annotations

import math

from zygal.cli.output import show_facts, show_table


def milliseconds(seconds: float | None) -> str:
    if seconds is None:
        return "-"
    value = seconds * 1e3
    if value == 0:
        return "0"
    return f"{value:.3f}" if value < 10 else f"{value:.1f}" if value < 1000 else f"{value:.0f}"


def percent(part: float) -> str:
    value = 100 * part
    return f"{value:.1f} %" if abs(value) < 9.95 else f"{value:.0f} %"


def place(setting) -> str:
    return setting.description


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
        "95 % interval: of the median, from the medians of the epochs. CPU ms: processor time an image, all threads. Of limit:\n"
        "multiply-adds done, as a part of what matrices reach here. Peak MB: in a process of its own. Noise: beside itself."
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
