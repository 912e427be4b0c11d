"""Results as JSON data with units in the keys, and as rows of a CSV table."""

from __future__ import annotations

import csv
import io
import math
from dataclasses import asdict
from typing import Any

from zygal.bench.arrivals import Served
from zygal.bench.baseline import KIND, VERSION
from zygal.bench.layers import LayerTimes
from zygal.bench.pipeline import Pipeline
from zygal.bench.regression import Regression
from zygal.bench.result import Bench, Cell, Comparison
from zygal.bench.serving import Serving
from zygal.bench.settings import Setting
from zygal.outcome import verdict_of
from zygal.statistics.quantiles import Ratio


def document(bench: Bench) -> dict[str, Any]:
    """The grid of a bench as JSON data."""
    return {
        "kind": KIND,
        "version": VERSION,
        "artifact": bench.artifact,
        "artifact_sha256": bench.sha256,
        "runtime": bench.runtime,
        "inputs_from": bench.inputs_from,
        "image_shapes": bench.image_shapes,
        "machine": asdict(bench.machine),
        "load": {
            "stolen_share": bench.load.stolen,
            "other_programs_cores": bench.load.other_cores,
            "throttled_share": bench.load.throttled,
        },
        "measured_seconds": bench.seconds,
        "rounds": bench.rounds,
        "multiply_adds_per_image": bench.arithmetic.total,
        "reference_workload_seconds_by_threads": bench.reference_seconds,
        "matrix_product_multiply_adds_per_second_by_threads": bench.product_rates,
        "cells": [_cell(cell) for cell in bench.cells],
        "compared": [_compared(other, bench) for other in bench.compared],
    }


def _cell(cell: Cell) -> dict[str, Any]:
    latency = cell.latency
    return {
        **_setting(cell.setting),
        "latency_median_seconds": latency.value,
        "latency_ci95_seconds": [latency.low, latency.high],
        "latency_quartiles_seconds": [latency.quarter, latency.three_quarters],
        "latency_p90_seconds": cell.quantile(0.9),
        "latency_p99_seconds": cell.quantile(0.99),
        "latency_p99_ci95_seconds": (interval := cell.interval_of_quantile(0.99)) and list(interval),
        "latency_max_seconds": float(cell.seconds.max()),
        "runs": latency.count,
        "images_per_second": cell.images_per_second,
        "cpu_seconds_per_image": cell.cpu_seconds_per_image,
        "share_of_arithmetic_peak": cell.limit_share,
        "self_ratio": _ratio(cell.self_ratio),
        "reference_workload_ratio": _ratio(cell.reference_ratio),
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
    return ratio and {"value": ratio.value, "ci95": [ratio.low, ratio.high], "blocks": ratio.count}


def _compared(other: Comparison, bench: Bench) -> dict[str, Any]:
    return {
        "name": other.name,
        "engine": other.engine,
        "time_ratio": _ratio(other.overall),
        "cells": [
            {
                **_setting(cell.setting),
                "time_ratio": _ratio(other.ratios[cell.setting]),
                "larger_than_noise": other.told_apart(cell),
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
            flat[f"{name}_low"], flat[f"{name}_high"] = value["ci95"] if value else (None, None)
        elif isinstance(value, list):
            flat |= {f"{name}_{end}": each for end, each in zip(("low", "high"), value)}
        else:
            flat[name] = value
    return flat


def more(pipeline: Pipeline | None, serving: Serving | None, times: LayerTimes | None) -> dict[str, Any]:
    """What was measured beyond the grid."""
    parts: dict[str, Any] = {}
    if pipeline:
        parts["image_pipeline"] = _pipeline_document(pipeline)
    if serving:
        parts["arrivals"] = _serving_document(serving)
    if times:
        parts["layers"] = _layers(times)
    return parts


def _pipeline_document(pipeline: Pipeline) -> dict[str, Any]:
    return {
        "batch_images": pipeline.batch,
        "threads": pipeline.threads,
        "inlet_threads": pipeline.inlet_threads,
        "files": pipeline.images,
        "stage_seconds_per_image": pipeline.stages,
        "sequential_images_per_second": pipeline.sequential,
        "overlapped_images_per_second_by_threads": pipeline.overlapped,
        "overlapped_gain_ratio": _ratio(pipeline.gain),
    }


def _serving_document(serving: Serving) -> dict[str, Any]:
    return {
        "threads": serving.setting.threads,
        "max_batch_images": serving.batching.max_batch,
        "max_wait_seconds": serving.batching.max_wait_seconds,
        "runs": [_served(run) for run in serving.runs],
        "deadline_seconds": serving.deadline_seconds,
        "highest_rate_simulated_images_per_second": serving.simulated_rate,
        "highest_rate_measured": serving.sustained and _served(serving.sustained),
    }


def _served(run: Served) -> dict[str, Any]:
    return {
        "arrival_rate_images_per_second": run.rate,
        "images": len(run.latencies),
        "mean_batch_images": run.mean_batch,
        "busy_share": run.busy,
        "latency_p50_seconds": run.quantile(0.5),
        "latency_p90_seconds": run.quantile(0.9),
        "latency_p99_seconds": run.quantile(0.99),
        "latency_max_seconds": float(run.latencies.max()),
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
    """The comparison with an earlier run."""
    return {
        "max_slowdown_share": allowed,
        "verdict": verdict_of(regression.gates(allowed)).value,
        "differences": regression.differences_found,
        "machine_time_ratio_by_threads": regression.machine_ratio,
        "changes": [
            {
                **({"all_settings": True} if each is regression.overall else _setting(each.setting)),
                "time_ratio": each.ratio,
                "time_ratio_uncorrected": each.raw_ratio,
                "noise_share": math.expm1(each.reach),
                "verdict": each.verdict,
            }
            for each in regression.all_changes
        ],
    }
