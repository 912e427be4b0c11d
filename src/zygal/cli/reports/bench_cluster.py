"""The report of zygal bench --cluster: what was measured, how many workers pay, and simulated runs."""

from __future__ import annotations

from zygal.cli.reports.verdict import show_verdict
from zygal.cli.tables import show_facts, show_sentence, show_table
from zygal.commands.bench.cluster import ClusterOutcome
from zygal.wording import counted, duration, grouped, percent, rate


def show_cluster(out, outcome: ClusterOutcome) -> None:
    """Shows what was measured on a cluster, and the simulated runs."""
    found, request = outcome.found, outcome.request
    show_sentence(
        out,
        f"{request.artifact} on {outcome.engine}, cluster {request.cluster}: {counted(found.all.workers, 'worker')} "
        f"with {counted(found.all.slots, 'thread')}; {counted(outcome.measured_images, 'image')} of {request.images}, "
        "used repeatedly",
    )
    out.print()
    rows = []
    for name, one, every in (
        ("classify", found.one, found.all),
        ("read the files only", found.reading_one, found.reading_all),
    ):
        for what, speed in ((f"{name}, one thread", one), (f"{name}, all {every.slots} threads", every)):
            rows.append(
                [
                    what,
                    rate(speed.images_per_second),
                    rate(speed.of_each),
                    "-" if speed.bytes_per_second is None else f"{speed.bytes_per_second / 1e6:.1f}",
                ]
            )
    rows.append(["coordinator alone: order and write rows", rate(found.coordinator.rows_per_second), "-", "-"])
    show_table(out, ["measured", "images/s", "per thread", "MB/s"], rows)
    show_facts(out, "Conclusions", _conclusions(outcome))
    out.print()
    show_sentence(
        out,
        f"Simulated with these times: {grouped(request.plan_images)} images, {request.failures_per_hour:g} failures of "
        f"a worker in an hour, {percent(request.late_share)} of the groups late",
    )
    show_table(
        out,
        ["workers", "time", "images/s", "busy", "coordinator", "groups", "run again", "copies"],
        [
            [
                grouped(each.workers),
                duration(each.simulated.seconds),
                rate(each.simulated.images_per_second),
                percent(each.simulated.workers_busy),
                percent(each.simulated.coordinator_busy),
                grouped(each.simulated.groups),
                grouped(each.simulated.again),
                grouped(each.simulated.copies),
            ]
            for each in outcome.planned
        ],
        optional=("groups",),
    )
    show_sentence(
        out,
        "workers: of one thread each, on machines as full as the measured ones. busy, coordinator: shares of the time "
        "at work; when the coordinator is near 100 %, more workers bring nothing. run again: groups of images whose "
        "worker was lost. copies: of groups that were late.",
    )
    show_verdict(out, outcome)


def _conclusions(outcome: ClusterOutcome) -> list[tuple[str, str]]:
    found = outcome.found
    state, bound = ("near its limit", "") if outcome.storage_seen else ("not at its limit", "at least ")
    threads = max(1, int(found.reading_all.images_per_second / found.all.of_each))
    facts = [("workers that pay", f"up to {counted(outcome.pay, 'thread')}, then the {outcome.limit} is the limit")]
    facts.append(
        (
            "storage",
            f"{state}: reading alone gives {rate(found.reading_all.images_per_second)} images/s, enough for "
            f"{bound}{counted(threads, 'thread')}",
        )
    )
    facts.append(
        (
            "coordinator",
            f"{grouped(round(found.coordinator.rows_per_second))} rows/s in groups of "
            f"{grouped(found.coordinator.group_rows)} rows",
        )
    )
    facts.append(("start of a worker", f"{duration(found.start_seconds)} until it runs its first images"))
    return facts
