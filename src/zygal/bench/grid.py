"""Batches times threads: an artifact measured over a grid of settings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from zygal.bench.machine import Machine, describe_machine
from zygal.bench.measure import Readings, measure
from zygal.bench.memory import peak_memory_bytes
from zygal.bench.statistics import Median, median_of
from zygal.engines.runtime import RuntimeEngine
from zygal.errors import BenchError
from zygal.processor import allowed_cores

LARGEST_BATCH, MOST_THREADS = 4096, 1024
Progress = Callable[[str, float], None]


@dataclass(frozen=True)
class Cell:
    """One setting's result. latency: seconds a batch. cpu_seconds_an_image: of the whole process, all threads."""

    batch: int
    threads: int
    latency: Median
    images_per_second: float
    cpu_seconds_an_image: float
    peak_memory_bytes: int


@dataclass(frozen=True)
class Bench:
    """All cells, fastest order of the grid kept; `notes` are sentences that a person should read."""

    artifact: Path
    runtime: str
    machine: Machine
    cells: tuple[Cell, ...]
    notes: tuple[str, ...]

    def best_throughput(self) -> Cell:
        return max(self.cells, key=lambda cell: cell.images_per_second)

    def lowest_latency(self) -> Cell:
        return min(self.cells, key=lambda cell: cell.latency.value)


def bench_grid(
    artifact: str | Path,
    batches: list[int],
    threads: list[int],
    seconds: float,
    progress: Progress = lambda what, part: None,
    image_size: tuple[int, int] | None = None,
) -> Bench:
    """Measures every batch size with every number of threads, interleaved, for about `seconds` in all.

    image_size: (height, width) of the images for an artifact that takes any.
    Raises ArtifactError or BenchError.
    """
    _check_numbers(batches, "batch", LARGEST_BATCH)
    _check_numbers(threads, "thread count", MOST_THREADS)
    if not 0 < seconds <= 86400:
        raise BenchError(f"{seconds:g} seconds make no sense as a time to measure; give more than 0 and at most a day.")
    engines = {count: RuntimeEngine(artifact, count) for count in threads}
    for engine in engines.values():
        engine.open_sizes = image_size
    batches, notes = _fit_batches(engines[threads[0]], batches, artifact)
    if max(threads) > allowed_cores():
        notes.append(f"{max(threads)} threads share {allowed_cores()} cores here, so those rows show no scaling")
    grid = [(batch, count) for count in threads for batch in batches]
    tensors = {batch: _random_tensor(engines[threads[0]], batch) for batch in batches}
    runs = {(batch, count): partial(engines[count].run, tensors[batch]) for batch, count in grid}
    readings = measure(runs, seconds, partial(progress, "measuring"))
    cells = []
    for place, (batch, count) in enumerate(grid):
        progress("peak memory", place / len(grid))
        cells.append(_cell(batch, count, readings[batch, count], peak_memory_bytes(artifact, batch, count, image_size)))
    progress("peak memory", 1.0)
    return Bench(Path(artifact), engines[threads[0]].name, describe_machine(), tuple(cells), tuple(notes))


def _cell(batch: int, threads: int, readings: Readings, peak: int) -> Cell:
    groups, start = [], 0
    for runs, _, _ in readings.visits:
        groups.append(readings.wall_seconds[start : start + runs])
        start += runs
    latency = median_of(groups)
    return Cell(batch, threads, latency, batch / latency.value, readings.cpu_seconds_a_run() / batch, peak)


def _check_numbers(numbers: list[int], what: str, most: int) -> None:
    for number in numbers:
        if not 1 <= number <= most:
            raise BenchError(f"a {what} of {number} makes no sense; give numbers from 1 to {most}.")
    if len(set(numbers)) != len(numbers):
        raise BenchError(f"a {what} is listed twice; list each one once.")


def _fit_batches(engine: RuntimeEngine, batches: list[int], artifact: str | Path) -> tuple[list[int], list[str]]:
    unknown = [size for size in engine.image_shape if not isinstance(size, int) or size < 1]
    if unknown:
        raise BenchError(
            f"{artifact} takes tensors {list(engine.input_shape)} with open sizes other than the batch, "
            "so it is not known what to feed; give the size of its images by --image-size HEIGHT,WIDTH."
        )
    if engine.batch_size is None or batches == [engine.batch_size]:
        return batches, []
    return [engine.batch_size], [f"the artifact has a fixed batch of {engine.batch_size}, so only that was measured"]


def _random_tensor(engine: RuntimeEngine, batch: int) -> np.ndarray:
    """Normal numbers, as after the usual values stage; all 8-bit values where the artifact takes those."""
    chance, shape = np.random.default_rng(0), (batch, *engine.image_shape)
    if engine.input_dtype == "uint8":
        return chance.integers(0, 256, shape, np.uint8)
    return chance.standard_normal(shape, np.float32).astype(engine.input_dtype)
