"""The measuring core on runs of known cost, and the grid on the demo's artifact."""

import numpy as np
import pytest

from zygal.bench import measure as core
from zygal.bench.grid import bench_grid
from zygal.bench.measure import measure, warm_up
from zygal.bench.memory import peak_memory_bytes
from zygal.bench.statistics import median_of
from zygal.errors import BenchError


class Clock:
    """A clock that only moves when a run says how long it took."""

    def __init__(self, monkeypatch):
        self.now, self.cpu, self.order = 0.0, 0.0, []
        monkeypatch.setattr(core.time, "perf_counter", lambda: self.now)
        monkeypatch.setattr(core.time, "process_time", lambda: self.cpu)

    def run(self, name, seconds, cpu_share=1.0):
        def once():
            took = seconds() if callable(seconds) else seconds
            self.now += took
            self.cpu += took * cpu_share
            self.order.append(name)

        return once


def test_readings_are_the_runs_and_the_order_turns_round(monkeypatch):
    clock = Clock(monkeypatch)
    readings = measure({"a": clock.run("a", 0.01), "b": clock.run("b", 0.02, cpu_share=2.0)}, seconds=2.0)
    assert np.allclose(readings["a"].wall_seconds, 0.01) and np.allclose(readings["b"].wall_seconds, 0.02)
    assert readings["a"].cpu_seconds_a_run() == pytest.approx(0.01)
    assert readings["b"].cpu_seconds_a_run() == pytest.approx(0.04)
    blocks = [clock.order[0]] + [b for a, b in zip(clock.order, clock.order[1:], strict=False) if a != b]
    # Warm-up of both, then a b | b a | a b ...: neighbours are the same setting.
    assert blocks[:4] == ["a", "b", "a", "b"] and set(zip(blocks[4::2], blocks[5::2], strict=False)) == {("a", "b")}
    visits = len(readings["a"].visits)
    assert visits == len(readings["b"].visits) >= core.FEWEST_VISITS
    assert sum(runs for runs, _, _ in readings["a"].visits) == len(readings["a"].wall_seconds)
    assert 1.5 < clock.now < 3.0


def test_few_slow_runs_are_still_visited_often_enough(monkeypatch):
    clock = Clock(monkeypatch)
    readings = measure({"slow": clock.run("slow", 5.0)}, seconds=1.0)
    assert len(readings["slow"].visits) == core.FEWEST_VISITS


def test_warm_up_goes_on_until_readings_are_steady(monkeypatch):
    clock = Clock(monkeypatch)
    falling = iter([*np.geomspace(0.1, 0.001, 12), *[0.001] * 99])
    runs = warm_up(clock.run("cooling", lambda: next(falling)), most_seconds=60)
    assert 15 <= runs <= 21


def test_the_interval_of_a_median_covers_the_truth():
    chance, covered = np.random.default_rng(0), 0
    for _ in range(200):
        # Groups share a mood of the machine, as visits do.
        groups = [list(chance.normal(10 + chance.normal(0, 1), 0.3, 20)) for _ in range(25)]
        found = median_of(groups)
        covered += found.low <= 10 <= found.high
        assert found.low <= found.value <= found.high and found.quarter <= found.value <= found.three_quarters
    assert 180 <= covered <= 200


def test_the_grid_measures_every_setting(shipped):
    result = bench_grid(shipped / "channel_marks.onnx", [1, 3], [1, 2], seconds=0.3)
    assert [(cell.threads, cell.batch) for cell in result.cells] == [(1, 1), (1, 3), (2, 1), (2, 3)]
    for cell in result.cells:
        assert cell.images_per_second == pytest.approx(cell.batch / cell.latency.value)
        assert cell.cpu_seconds_an_image > 0 and 30e6 < cell.peak_memory_bytes < 1e9
    best = result.best_throughput()
    assert all(best.images_per_second >= cell.images_per_second for cell in result.cells)


def test_peak_memory_grows_with_the_batch(shipped):
    small, large = (peak_memory_bytes(shipped / "channel_marks.onnx", batch, 1) for batch in (1, 512))
    # The first activation alone is 16 x 32 x 32 float32 an image.
    assert large - small > 511 * 16 * 32 * 32 * 4


@pytest.mark.parametrize(
    "batches, threads, seconds, words",
    [([0], [1], 1, "batch of 0"), ([1], [0], 1, "thread count of 0"), ([1, 1], [1], 1, "twice"), ([1], [1], -1, "-1 sec"),
     ([5000], [1], 1, "1 to 4096")],
)  # fmt: skip
def test_settings_without_sense_are_refused(batches, threads, seconds, words, shipped):
    with pytest.raises(BenchError, match=words):
        bench_grid(shipped / "channel_marks.onnx", batches, threads, seconds)
