"""Results as documents: JSON with units in the names, and rows for a table."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import asdict
from typing import Any

from zygal.bench.arrivals import Served
from zygal.bench.baseline import KIND, VERSION
from zygal.bench.layers import LayerTimes
from zygal.bench.serving import Serving
from zygal.bench.regression import Regression
from zygal.bench.result import Bench, Comparison, Cell, told_apart
from zygal.bench.settings import Setting
from zygal.bench.statistics import Ratio
from zygal.bench.pipeline import Pipeline


def document(bench: Bench) -> dict[str, Any]:
    return {
        "kind": KIND,
        "version": VERSION,
        "artifact": bench.artifact,
        "artifact_sha256": bench.sha256,
        "runtime": bench.runtime,
        "fed_with": bench.fed_with,
        "image_shapes": bench.image_shapes,
        "machine": asdict(bench.machine),
        "load": {
            "stolen_part": bench.load.stolen,
            "other_programs_cores": bench.load.other_cores,
            "throttled_part": bench.load.throttled,
        },
        "measured_seconds": bench.seconds,
        "rounds": bench.rounds,
        "interrupted": bench.interrupted,
        "multiply_adds_an_image": bench.arithmetic.total,
        "yardstick_seconds_by_threads": bench.yardstick_seconds,
        "matrix_product_multiply_adds_per_second_by_threads": bench.product_rates,
        "notes": bench.notes,
        "cells": [_cell(cell) for cell in bench.cells],
        "beside": [_beside(other, bench) for other in bench.beside],
    }


def _cell(cell: Cell) -> dict[str, Any]:
    latency = cell.latency
    return {
        **_setting(cell.setting),
        "latency_median_seconds": latency.value,
        "latency_interval_95_seconds": [latency.low, latency.high],
        "latency_quartiles_seconds": [latency.quarter, latency.three_quarters],
        "latency_p90_seconds": cell.quantile(0.9),
        "latency_p99_seconds": cell.quantile(0.99),
        "latency_longest_seconds": float(cell.seconds.max()),
        "runs": latency.count,
        "images_per_second": cell.images_per_second,
        "cpu_seconds_an_image": cell.cpu_seconds_an_image,
        "part_of_the_arithmetic_limit": cell.limit_share,
        "beside_itself_ratio": _ratio(cell.twin),
        "in_yardsticks_ratio": _ratio(cell.in_yardsticks),
        "steady_before": cell.steady,
        "peak_memory_bytes": cell.own and cell.own.peak_bytes,
        "base_memory_bytes": cell.own and cell.own.base_bytes,
        "session_seconds": cell.own and cell.own.session_seconds,
        "first_run_seconds": cell.own and cell.own.first_run_seconds,
    }


def _setting(setting: Setting) -> dict[str, Any]:
    return {
        "batch_images": setting.batch,
        "threads": setting.threads,
        "optimisation_level": setting.level,
        "execution": setting.execution,
    }


def _ratio(ratio: Ratio | None) -> dict[str, Any] | None:
    return ratio and {"value": ratio.value, "interval_95": [ratio.low, ratio.high], "blocks": ratio.count}


def _beside(other: Comparison, bench: Bench) -> dict[str, Any]:
    return {
        "name": other.name,
        "engine": other.engine,
        "time_ratio": _ratio(other.together),
        "cells": [
            {
                **_setting(cell.setting),
                "time_ratio": _ratio(other.ratios[cell.setting]),
                "larger_than_noise": told_apart(other.ratios[cell.setting], cell.noise),
            }
            for cell in bench.cells
            if cell.setting in other.ratios
        ],
    }


def table(bench: Bench) -> str:
    """The cells as CSV, one a row, with units in the header."""
    rows = [_flat(_cell(cell)) for cell in bench.cells]
    text = io.StringIO()
    if rows:
        writer = csv.DictWriter(text, rows[0].keys(), lineterminator="\n")
        writer.writeheader()
        writer.writerows(rows)
    return text.getvalue()


def _flat(row: dict[str, Any]) -> dict[str, Any]:
    """Lists and ratios as columns of their own."""
    flat: dict[str, Any] = {}
    for name, value in row.items():
        if name.endswith("_ratio"):
            flat[name] = value and value["value"]
            flat[f"{name}_low"], flat[f"{name}_high"] = value["interval_95"] if value else (None, None)
        elif isinstance(value, list):
            flat |= {f"{name}_{end}": each for end, each in zip(("low", "high"), value)}
        else:
            flat[name] = value
    return flat


def more(measure_pipeline: Pipeline | None, offered: Serving | None, times: LayerTimes | None) -> dict[str, Any]:
    """What was measured beyond the grid."""
    parts: dict[str, Any] = {}
    if measure_pipeline:
        parts["from_image_files"] = _whole_way(measure_pipeline)
    if offered:
        parts["offered"] = _offered(offered)
    if times:
        parts["layers"] = _layers(times)
    return parts


def _whole_way(way: Pipeline) -> dict[str, Any]:
    return {
        "batch_images": way.batch,
        "threads": way.threads,
        "inlet_threads": way.inlet_threads,
        "files": way.images,
        "stage_seconds_an_image": way.stages,
        "one_after_another_images_per_second": way.one_by_one,
        "overlapped_images_per_second_by_threads": way.overlapped,
        "overlapped_gain_ratio": _ratio(way.gain),
        "unread": [{"file": name, "reason": reason} for name, reason in way.unreadable],
    }


def _offered(offered: Serving) -> dict[str, Any]:
    return {
        "threads": offered.setting.threads,
        "batch_most_images": offered.gathering.most,
        "batch_wait_seconds": offered.gathering.patience_seconds,
        "runs": [_served(run) for run in offered.runs],
        "deadline_seconds": offered.deadline_seconds,
        "highest_rate_simulated_images_per_second": offered.simulated_rate,
        "highest_rate_kept": offered.kept and _served(offered.kept),
    }


def _served(run: Served) -> dict[str, Any]:
    return {
        "offered_images_per_second": run.rate,
        "images": len(run.latencies),
        "mean_batch_images": run.mean_batch,
        "busy_part": run.busy,
        "latency_p50_seconds": run.quantile(0.5),
        "latency_p90_seconds": run.quantile(0.9),
        "latency_p99_seconds": run.quantile(0.99),
        "latency_longest_seconds": float(run.latencies.max()),
        "falling_behind": run.falling_behind,
    }


def _layers(times: LayerTimes) -> dict[str, Any]:
    return {
        "batch_images": times.setting.batch,
        "threads": times.setting.threads,
        "run_seconds": times.run_seconds,
        "outside_layers_seconds": times.outside_seconds,
        "runs": times.runs,
        "layers": [asdict(layer) for layer in times.layers],
    }


def judgement(regression: Regression, allowed: float) -> dict[str, Any]:
    """How a run was judged by an earlier one."""
    return {
        "allowed_part": allowed,
        "breaks": regression.fails(allowed),
        "not_alike": regression.differing,
        "machine_time_ratio_by_threads": regression.machine_ratio,
        "changes": [
            {
                **({"all_settings": True} if each is regression.together else _setting(each.setting)),
                "time_ratio": each.ratio,
                "time_ratio_without_yardstick": each.raw_ratio,
                "noise_of_both_part": math.expm1(each.reach),
                "verdict": each.verdict,
            }
            for each in regression.everything
        ],
    }
