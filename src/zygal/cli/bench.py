"""zygal bench: batch inference on this machine's CPU."""

from __future__ import annotations

from dataclasses import asdict

from zygal.cli.options import new_command, number_list
from zygal.cli.output import check_json, console, progress_bar, show_table, warn, write_json


def register(commands) -> None:
    command = new_command(
        commands,
        "bench",
        "Measures batch inference on the CPU: latency, throughput, CPU time and memory over batch sizes and threads.",
        "zygal bench channel_marks.onnx --batches 1,8 --threads 1,2",
    )
    command.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    command.add_argument(
        "--batches", type=number_list, default=[1, 2, 4, 8], metavar="N,N,...", help="batch sizes (1,2,4,8)"
    )
    command.add_argument("--threads", type=number_list, default=None, metavar="N,N,...",
                         help="numbers of threads (1, and as many as there are cores)")  # fmt: skip
    command.add_argument("--seconds", type=float, default=12.0, help="time to measure for, in all (12)")
    command.add_argument(
        "--image-size", type=number_list, metavar="H,W", help="size of the images for an artifact that takes raw pixels"
    )
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal.bench.grid import bench_grid
    from zygal.kinds import ARTIFACT, require_kind
    from zygal.processor import allowed_cores

    check_json(options.json)
    require_kind(options.artifact, ARTIFACT)
    threads = options.threads or sorted({1, allowed_cores()})
    with progress_bar("warming up") as progress:
        result = bench_grid(
            options.artifact,
            options.batches,
            threads,
            options.seconds,
            progress,
            options.image_size and tuple(options.image_size),
        )
    for note in result.notes:
        warn(note)
    _show(result)
    write_json(options.json, _document(result))
    return 0


def _show(result) -> None:
    out = console()
    machine = result.machine
    out.print(f"{result.artifact} on {result.runtime}; {machine.processor}, {machine.cores_allowed} cores allowed")
    out.print()
    best, quickest = result.best_throughput(), result.lowest_latency()
    rows = []
    for cell in result.cells:
        rows.append([
            str(cell.threads),
            str(cell.batch),
            _milliseconds(cell.latency.value),
            f"{_milliseconds(cell.latency.low)} - {_milliseconds(cell.latency.high)}",
            f"{_milliseconds(cell.latency.quarter)} - {_milliseconds(cell.latency.three_quarters)}",
            f"{cell.images_per_second:.0f}",
            _milliseconds(cell.cpu_seconds_an_image),
            f"{cell.peak_memory_bytes / 1e6:.0f}",
            str(cell.latency.count),
        ])  # fmt: skip
    columns = [
        "threads",
        "batch",
        "ms a batch",
        "95 % interval",
        "middle half",
        "images/s",
        "CPU ms/image",
        "peak MB",
        "runs",
    ]
    show_table(out, columns, rows, left=0)
    out.print(
        "ms a batch: median of the runs, its interval by block bootstrap. CPU ms/image: all threads of the process.\n"
        "Peak MB: of a process of its own, Python and the runtime included."
    )
    out.print(
        f"Most images: batch {best.batch} on {_threads(best)}, {best.images_per_second:.0f} images/s. "
        f"Lowest latency: batch {quickest.batch} on {_threads(quickest)}, {_milliseconds(quickest.latency.value)} ms."
    )
    vaguest = max(result.cells, key=_vagueness)
    out.print(
        f"Trust: the medians are known within {_vagueness(vaguest) * 100:.0f} % or better "
        f"(widest: batch {vaguest.batch} on {_threads(vaguest)}); smaller differences mean nothing."
    )


def _vagueness(cell) -> float:
    """The larger side of a median's interval, as a part of the median."""
    return max(cell.latency.high - cell.latency.value, cell.latency.value - cell.latency.low) / cell.latency.value


def _milliseconds(seconds: float) -> str:
    value = seconds * 1e3
    return f"{value:.3f}" if value < 10 else f"{value:.1f}"


def _threads(cell) -> str:
    return f"{cell.threads} thread{'s' * (cell.threads != 1)}"


def _document(result) -> dict:
    return {
        "artifact": result.artifact,
        "runtime": result.runtime,
        "machine": asdict(result.machine),
        "notes": result.notes,
        "cells": [
            {
                "batch_images": cell.batch,
                "threads": cell.threads,
                "latency_median_seconds": cell.latency.value,
                "latency_interval_95_seconds": [cell.latency.low, cell.latency.high],
                "latency_quartiles_seconds": [cell.latency.quarter, cell.latency.three_quarters],
                "runs": cell.latency.count,
                "images_per_second": cell.images_per_second,
                "cpu_seconds_an_image": cell.cpu_seconds_an_image,
                "peak_memory_bytes": cell.peak_memory_bytes,
            }
            for cell in result.cells
        ],
    }
