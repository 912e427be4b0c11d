"""The result of an earlier run, read back from its document."""

from __future__ import annotations

import json
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

from zygal.bench.machine import Machine
from zygal.bench.result import noise_of
from zygal.bench.settings import Setting
from zygal.errors import BenchError
from zygal.files.opening import read_text
from zygal.statistics.quantiles import Ratio

KIND, VERSION = "zygal.bench", 2


@dataclass(frozen=True)
class BaselineCell:
    """noise: see `result.Cell`."""

    latency_seconds: float
    reference_ratio: Ratio
    noise: float


@dataclass(frozen=True)
class Baseline:
    """What is needed of an earlier run to be compared with."""

    artifact: str
    runtime: str
    inputs_from: str
    image_shapes: list[list[int]]
    machine: Machine
    reference_seconds: dict[int, float]
    cells: dict[Setting, BaselineCell]


def read_baseline(path: str | Path) -> Baseline:
    """The result of an earlier run, as `document` makes it. Raises FileError or BenchError."""
    text = read_text(path, "a result of zygal bench", 64_000_000)
    try:
        content = json.loads(text)
        if content["kind"] != KIND:
            raise KeyError("kind")
    except (ValueError, TypeError, KeyError, RecursionError):
        raise BenchError(f"{path} is not a result of zygal bench; give a file that zygal bench --json wrote.") from None
    if content.get("version") != VERSION:
        raise BenchError(
            f"{path} is a result of version {content.get('version')}, but this release reads version {VERSION}; "
            f"measure the baseline again."
        )
    try:
        return _baseline(content)
    except (KeyError, TypeError, ValueError, AttributeError, ArithmeticError) as fault:
        raise BenchError(f"{path} is damaged or was edited ({type(fault).__name__}: {fault}); measure again.") from None


def _baseline(content: dict[str, Any]) -> Baseline:
    cells = {}
    for row in content["cells"]:
        setting = Setting(int(row["batch_images"]), int(row["threads"]), row["optimisation_level"], row["execution"])
        if row["reference_workload_ratio"] is None or row["self_ratio"] is None:
            continue
        self_ratio = _ratio_of(row["self_ratio"])
        noise = noise_of(self_ratio)
        cells[setting] = BaselineCell(
            _positive(row["latency_median_seconds"]), _ratio_of(row["reference_workload_ratio"]), noise
        )
    return Baseline(
        artifact=str(content["artifact"]),
        runtime=str(content["runtime"]),
        inputs_from=str(content["inputs_from"]),
        image_shapes=[[int(size) for size in shape] for shape in content["image_shapes"].values()],
        machine=_machine(content["machine"]),
        reference_seconds={int(k): _positive(v) for k, v in content["reference_workload_seconds_by_threads"].items()},
        cells=cells,
    )


def _machine(row: dict[str, Any]) -> Machine:
    found = {each.name: row[each.name] for each in fields(Machine)}
    found["instruction_sets"] = tuple(str(name) for name in found["instruction_sets"])
    for name in ("core_quota", "memory_bytes"):
        if found[name] is not None:
            _positive(found[name])
    return Machine(**found)


def _ratio_of(row: dict[str, Any]) -> Ratio:
    low, high = map(_positive, row["ci95"])
    return Ratio(_positive(row["value"]), low, high, int(row["blocks"]))


def _positive(value: Any) -> float:
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not 0 < value < 1e300:
        raise ValueError("not a positive number")
    return float(value)
