"""Results as documents: JSON with units in the names, rows for a table, and a document of an earlier run read back."""

from __future__ import annotations

import csv
import io
import json
import math
from dataclasses import asdict, dataclass, fields
from pathlib import Path
from typing import Any

from zygal.bench.machine import Machine
from zygal.bench.result import Bench, Beside, Cell, noise_of, told_apart
from zygal.bench.settings import Setting
from zygal.bench.statistics import Ratio
from zygal.errors import BenchError
from zygal.files import read_text

KIND, VERSION = "zygal bench", 1


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


def _beside(other: Beside, bench: Bench) -> dict[str, Any]:
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


@dataclass(frozen=True)
class EarlierCell:
    """noise: see `result.Cell`."""

    latency_seconds: float
    in_yardsticks: Ratio
    noise: float


@dataclass(frozen=True)
class Earlier:
    """What is needed of an earlier run to be compared with."""

    artifact: str
    runtime: str
    fed_with: str
    image_shapes: list[list[int]]
    machine: Machine
    yardstick_seconds: dict[int, float]
    cells: dict[Setting, EarlierCell]


def read_earlier(path: str | Path) -> Earlier:
    """The result of an earlier run, as `document` makes it. Raises FileError or BenchError."""
    text = read_text(path, "a result of zygal bench", 64_000_000)
    try:
        content = json.loads(text)
        if content["kind"] != KIND:
            raise KeyError("kind")
    except (ValueError, TypeError, KeyError, RecursionError):
        raise BenchError(f"{path} is no result of zygal bench; give a file that was written by its --json.") from None
    if content.get("version") != VERSION:
        raise BenchError(f"{path} is a result of version {content.get('version')}, and {VERSION} is known here.")
    try:
        return _earlier(content)
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as fault:
        raise BenchError(f"{path} is damaged or was edited ({type(fault).__name__}: {fault}); measure again.") from None


def _earlier(content: dict[str, Any]) -> Earlier:
    machine = {each.name: content["machine"][each.name] for each in fields(Machine)}
    machine["instruction_sets"] = tuple(machine["instruction_sets"])
    cells = {}
    for row in content["cells"]:
        setting = Setting(int(row["batch_images"]), int(row["threads"]), row["optimisation_level"], row["execution"])
        if row["in_yardsticks_ratio"] is None or row["beside_itself_ratio"] is None:
            continue
        twin = _ratio_of(row["beside_itself_ratio"])
        noise = noise_of(twin)
        cells[setting] = EarlierCell(
            _positive(row["latency_median_seconds"]), _ratio_of(row["in_yardsticks_ratio"]), noise
        )
    return Earlier(
        artifact=str(content["artifact"]),
        runtime=str(content["runtime"]),
        fed_with=str(content["fed_with"]),
        image_shapes=[[int(size) for size in shape] for shape in content["image_shapes"].values()],
        machine=Machine(**machine),
        yardstick_seconds={int(k): _positive(v) for k, v in content["yardstick_seconds_by_threads"].items()},
        cells=cells,
    )


def _ratio_of(row: dict[str, Any]) -> Ratio:
    low, high = map(_positive, row["interval_95"])
    return Ratio(_positive(row["value"]), low, high, int(row["blocks"]))


def _positive(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 < value < math.inf:
        raise ValueError(f"{value!r} is no time")
    return float(value)
