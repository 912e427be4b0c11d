"""The measuring core on runs of known cost, statistics on known distributions, and the grid on the demo's artifact."""

import json
import math
import re
import subprocess
import sys
import time
from dataclasses import replace
from types import SimpleNamespace

import numpy as np
import onnx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from onnx import helper, numpy_helper

from zygal.bench import grid as grid_module
from zygal.bench import load as load_module
from zygal.bench import measure as core
from zygal.bench.advice import batch_limits, best_throughput, for_deadline, scaling
from zygal.bench.arithmetic import multiply_adds
from zygal.bench.arrivals import ServiceTimes, VirtualClock, highest_rate, poisson_arrivals, serve_arrivals, simulate
from zygal.bench.baseline import read_baseline
from zygal.bench.documents import document, table
from zygal.bench.feeds import Feeds, Given
from zygal.bench.grid import bench_grid
from zygal.bench.headroom import foreseen_bytes
from zygal.bench.layers import layer_of_node, layer_times
from zygal.bench.measure import Effort, measure, paired, warm_up
from zygal.bench.own_process import in_own_process
from zygal.bench.regression import SAME, SLOWER, judge
from zygal.bench.result import told_apart
from zygal.bench.settings import Grid, Setting
from zygal.bench.subjects import ArtifactSubject
from zygal.cli.terminal import write_json
from zygal.engines.session import open_session
from zygal.errors import BenchError, ZygalError
from zygal.machine import processor, usage
from zygal.machine.usage import CoreSeconds, core_seconds, memory_free_bytes, memory_granted_bytes, process_seconds
from zygal.outcome import Verdict
from zygal.statistics.quantiles import (
    Ratio,
    for_many,
    interval_of_centre,
    median_of,
    quantile_of,
    ratio_of,
    readings_for,
)


class Clock:
    """A clock that only moves when a run says how long it took, or something sleeps."""

    def __init__(self, monkeypatch):
        self.now, self.cpu, self.order, self.slept = 0.0, 0.0, [], 0.0
        monkeypatch.setattr(core.time, "perf_counter", lambda: self.now)
        monkeypatch.setattr(core.time, "process_time", lambda: self.cpu)
        monkeypatch.setattr(core.time, "sleep", self.sleep)

    def sleep(self, seconds):
        self.now += seconds
        self.slept += seconds

    def run(self, name, seconds, cpu_share=1.0):
        def once():
            took = seconds() if callable(seconds) else seconds
            self.now += took
            self.cpu += took * cpu_share
            self.order.append(name)

        return once


def test_readings_are_the_runs_and_each_block_turns_round(monkeypatch):
    clock = Clock(monkeypatch)
    cells = {
        "x": {"a": clock.run("xa", 0.01), "b": clock.run("xb", 0.03, cpu_share=2.0)},
        "y": {"a": clock.run("ya", 0.01)},
    }
    found = measure(cells, Effort(5.0))
    a, b = found.readings["x", "a"], found.readings["x", "b"]
    assert np.allclose(a.seconds(), 0.01) and np.allclose(b.seconds(), 0.03)
    assert a.cpu_seconds_per_run() == pytest.approx(0.01) and b.cpu_seconds_per_run() == pytest.approx(0.06)
    assert ratio_of(*paired(a, b)).value == pytest.approx(3)
    assert len(a.blocks) == len(b.blocks) == 2 * found.rounds and found.rounds >= core.FEWEST_ROUNDS
    order = clock.order[a.warm_up_runs + b.warm_up_runs + found.readings["y", "a"].warm_up_runs :]
    visits = [order[0]] + [now for before, now in zip(order, order[1:]) if now != before]
    text = "".join(visit[0] if visit[0] == "y" else visit[1] for visit in visits)
    # Within a cell a b a, neighbours being one; cells in either order.
    blocks = re.sub("a(ba)+", "x", text)
    assert set(blocks) == {"x", "y"} and "xy" in blocks and "yx" in blocks
    assert 4.5 < found.seconds < 6.5 and not found.interrupted
    # Only what kept other threads busy is rested from.
    assert 0 < clock.slept < 2.1 * 0.008 * 2 * found.rounds


def test_few_slow_runs_are_still_visited_often_enough(monkeypatch):
    found = measure({0: {0: Clock(monkeypatch).run("slow", 5.0)}}, Effort(1.0))
    assert found.rounds == core.FEWEST_ROUNDS and len(found.readings[0, 0].visits) == 2 * core.FEWEST_ROUNDS


def test_warm_up_goes_on_until_readings_are_steady(monkeypatch):
    clock = Clock(monkeypatch)
    falling = iter([*np.geomspace(0.1, 0.001, 12), *[0.001] * 99])
    runs, steady = warm_up(clock.run("cooling", lambda: next(falling)), most_seconds=60)
    assert 15 <= runs <= 21 and steady
    growing = iter(np.geomspace(0.01, 1e9, 60))
    assert warm_up(clock.run("never", lambda: next(growing)), most_seconds=3)[1] is False


def test_measuring_ends_when_enough_is_known_and_keeps_what_was_measured_when_interrupted(monkeypatch):
    clock = Clock(monkeypatch)
    found = measure({0: {0: clock.run("a", 0.01)}}, Effort(100.0, lambda readings: len(readings[0, 0].visits) >= 20))
    assert 10 <= found.rounds < 20
    calls = iter(range(40))

    def interrupted():
        clock.now += 0.01
        if next(calls, None) is None:
            raise KeyboardInterrupt

    found = measure({0: {0: interrupted}, 1: {0: interrupted}}, Effort(100.0))
    assert found.interrupted and found.readings and all(np.allclose(r.seconds(), 0.01) for r in found.readings.values())
    with pytest.raises(KeyboardInterrupt):
        measure({0: {0: interrupted}}, Effort(1.0))


@pytest.mark.slow
@pytest.mark.parametrize("epochs, skewed", [(16, False), (16, True), (6, False), (9, True), (3, False)])
def test_the_interval_of_a_median_covers_the_truth_where_blocks_share_their_epoch(epochs, skewed):
    chance, covered, tries, blocks = np.random.default_rng(epochs), 0, 1500, 6
    marks = [epoch for epoch in range(epochs) for _ in range(blocks)]
    for _ in range(tries):
        # Where things lie in memory, what the machine does at a moment, and each run's own stalls.
        shared = chance.normal(0, 0.03, epochs)
        moods = np.repeat(shared, blocks) + chance.normal(0, 0.02, epochs * blocks)
        own = chance.normal(0, 0.01, (epochs * blocks, 10))
        stalls = chance.exponential(0.3, own.shape) * (chance.random(own.shape) < 0.05) if skewed else 0
        found = median_of(list(np.exp(moods[:, None] + own + stalls)), marks)
        covered += found.low <= (TRUE_WITH_STALLS if skewed else 1.0) <= found.high
        assert found.low <= found.value <= found.high and found.quarter <= found.value <= found.three_quarters
    assert 0.93 <= covered / tries <= 0.97


def _median_with_stalls():
    chance = np.random.default_rng(99)
    own = chance.normal(0, math.hypot(0.03, 0.02, 0.01), 2_000_000)
    return float(np.median(np.exp(own + chance.exponential(0.3, own.shape) * (chance.random(own.shape) < 0.05))))


TRUE_WITH_STALLS = _median_with_stalls()


@pytest.mark.parametrize("blocks", [2, 3, 4, 5, 6, 9, 20, 60])
def test_the_interval_of_a_ratio_covers_the_truth_whatever_the_machine_does(blocks):
    chance, covered = np.random.default_rng(blocks), 0
    for _ in range(400):
        # Both share a mood that changes twofold, and each has stalls of its own now and then.
        mood = np.exp(chance.uniform(0, 0.7, blocks))
        stalls = 1 + (chance.random((2, blocks)) < 0.1) * chance.exponential(1.0, (2, blocks))
        first, second = np.exp(chance.normal(0, 0.02, (2, blocks))) * stalls * mood
        found = ratio_of(first, 1.05 * second)
        covered += found.low <= 1.05 <= found.high
    assert covered >= 0.925 * 400
    assert ratio_of([1.0], [2.0]) is None


def test_the_interval_of_a_ratio_knows_of_epochs():
    chance, covered, tries, epochs, blocks = np.random.default_rng(5), 0, 800, 7, 5
    marks = [epoch for epoch in range(epochs) for _ in range(blocks)]
    for _ in range(tries):
        sides = [
            np.exp(np.repeat(chance.normal(0, 0.03, epochs), blocks) + chance.normal(0, 0.01, epochs * blocks))
            for _ in range(2)
        ]
        found = ratio_of(*sides, marks)
        covered += found.low <= 1 <= found.high
    assert 0.92 <= covered / tries <= 0.98


def test_an_interval_between_order_statistics_is_what_binomials_say():
    """Of 16 values the 4th and 13th hold the median with 97.9 %, the 5th and 12th with 92.3 %."""
    values = np.arange(1.0, 17.0)
    assert interval_of_centre(values, 0.9786) == pytest.approx((4, 13), abs=0.02)
    assert interval_of_centre(values, 0.9232) == pytest.approx((5, 12), abs=0.02)
    low, high = interval_of_centre(values)
    assert 4 < low < 5 and low + high == pytest.approx(17)
    assert interval_of_centre(np.arange(6.0), 0.99) == (0, 5)
    with pytest.raises(ValueError, match="no interval"):
        interval_of_centre([1.0])


def test_many_settings_are_judged_together():
    assert for_many(1) == pytest.approx(1) and for_many(8) == pytest.approx(2.734 / 1.96, abs=1e-3)
    ratio = Ratio(1.05, 1.01, 1.09, 20)
    assert told_apart(ratio, 0.01) and not told_apart(ratio, 0.01, 1.4) and not told_apart(ratio, 0.06)
    assert told_apart(Ratio(1 / 1.05, 1 / 1.09, 1 / 1.01, 20), 0.01) and not told_apart(
        Ratio(0.98, 0.95, 1.01, 9), 0.001
    )


def test_the_arithmetics_limit_is_never_passed():
    from zygal.bench.grid import _limit_share
    from zygal.bench.reference_workload import MULTIPLY_ADDS

    steady = np.full(50, 1e-3)
    assert _limit_share(0.4 * MULTIPLY_ADDS / 1e-3, steady) == pytest.approx(0.4)
    assert _limit_share(2.2 * MULTIPLY_ADDS / 1e-3, steady) is None
    # Where products are far from their own best, they say nothing of a limit.
    assert _limit_share(0.4 * MULTIPLY_ADDS / 1e-3, np.concatenate([[1e-3], np.full(50, 2e-3)])) is None


@pytest.mark.parametrize("rate, count", [(50, 368), (200, 400), (3, 30)])
def test_what_arrives_is_what_was_asked_for(rate, count):
    for seed in range(20):
        moments = poisson_arrivals(rate, count, seed)
        assert (
            len(moments) == count and (np.diff(moments) >= 0).all() and moments[0] >= 0 and moments[-1] <= count / rate
        )
        assert count / moments[-1] == pytest.approx(rate, rel=0.02 if count > 100 else 0.2)
    gaps = np.diff(poisson_arrivals(100.0, 20_000))
    assert gaps.std() / gaps.mean() == pytest.approx(1, abs=0.03)  # As of independent arrivals.


def test_a_quantile_is_given_only_where_the_readings_carry_it():
    assert (readings_for(0.9), readings_for(0.99)) == (36, 368)
    readings = list(range(368))
    assert quantile_of(readings[:367], 0.99) is None and quantile_of(readings, 0.99) == 364
    assert quantile_of(readings[:35], 0.9) is None and quantile_of(readings[:36], 0.9) == 32


@pytest.mark.parametrize("load", [0.5, 0.8])
def test_open_loop_latencies_are_those_of_queueing_theory(load):
    clock, service = VirtualClock(), 0.01

    def serve(count):
        assert count == 1
        clock.moment += service

    arrivals = poisson_arrivals(load / service, 100_000)
    served = serve_arrivals(arrivals, serve, 1, 0.0, clock)
    # M/D/1: service, and waiting for half of load x service / (1 - load).
    wanted = service * (1 + load / (2 * (1 - load)))
    assert served.latencies.mean() == pytest.approx(wanted, rel=0.1)
    assert served.busy == pytest.approx(load, rel=0.02) and not served.falling_behind
    drowned = serve_arrivals(poisson_arrivals(2 / service, 2000), serve, 1, 0.0, VirtualClock())
    assert drowned.latencies.size == 2000


def test_batches_gather_up_to_a_size_and_a_waiting_time():
    clock, sizes = VirtualClock(), []

    def serve(count):
        sizes.append(count)
        clock.moment += 0.1

    arrivals = np.array([0.0, 0.01, 0.02, 0.03, 0.04, 1.0, 1.2])
    served = serve_arrivals(arrivals, serve, 3, 0.05, clock)
    assert sizes == [3, 2, 1, 1] and served.batches == (3, 2, 1, 1)
    # Three wait at 0.02; the next two since 0.03 and 0.04 for the server; the last ones for company in vain.
    assert served.latencies == pytest.approx([0.12, 0.11, 0.10, 0.19, 0.18, 0.15, 0.15])


@pytest.mark.slow
def test_the_highest_rate_keeps_the_deadline_and_a_higher_one_does_not():
    readings = {1: [0.010] * 50, 8: [0.030] * 50}
    rate = highest_rate(readings, 8, 0.0, 0.08)
    below, above = (simulate(part * rate, ServiceTimes(readings), 8, 0.0) for part in (0.97, 1.05))
    # Beyond it callers wait too long, or the server has no rest left.
    assert below.quantile(0.99) <= 0.08 and (above.quantile(0.99) > 0.08 or above.busy > 0.99) and rate < 8 / 0.03
    assert highest_rate(readings, 8, 0.0, 0.005) is None
    assert ServiceTimes(readings).draw(4) == pytest.approx(0.010 + 0.020 * 3 / 7)


@pytest.fixture(scope="module")
def subject(shipped):
    return ArtifactSubject(shipped / "channel_marks.onnx", Given())


@pytest.fixture(scope="module")
def bench(subject):
    other = ArtifactSubject(subject.name, subject.feeds.for_another())
    return bench_grid(subject, Grid((1, 3), (1, 2)), 0.5, others=[other])


@pytest.mark.slow
def test_the_grid_measures_every_setting_with_a_copy_and_the_reference_workload(bench, subject):
    assert [(cell.setting.threads, cell.setting.batch) for cell in bench.cells] == [(1, 1), (1, 3), (2, 1), (2, 3)]
    for cell in bench.cells:
        assert cell.images_per_second == pytest.approx(cell.setting.batch / cell.latency.value)
        assert cell.cpu_seconds_per_image > 0 and cell.seconds.size == cell.latency.count
        assert cell.own.base_bytes < cell.own.peak_bytes < 1e9 and cell.own.first_run_seconds > 0
        assert cell.self_ratio.low <= cell.self_ratio.value <= cell.self_ratio.high and cell.noise >= 0
    assert bench.compared[0].ratios.keys() == {cell.setting for cell in bench.cells}
    assert set(bench.reference_seconds) == {1, 2} and bench.arithmetic.unknown == 0
    rows = table(bench).splitlines()
    assert len(rows) == 5 and rows[0].startswith("batch_images,threads,") and len({row.count(",") for row in rows}) == 1


@pytest.mark.slow
def test_peak_memory_grows_with_the_batch_and_is_foreseen(subject):
    peaks = {batch: in_own_process(subject.feeds, Setting(batch, 1)).peak_bytes for batch in (64, 256, 512)}
    # The first activation alone is 16 x 32 x 32 float32 an image.
    assert peaks[512] - peaks[64] > 448 * 16 * 32 * 32 * 4
    foreseen = foreseen_bytes({batch: peaks[batch] for batch in (64, 256)}, 512, subject.feeds.image_bytes)
    assert foreseen == pytest.approx(peaks[512], rel=0.15)


def test_a_batch_too_large_for_memory_is_refused_before_it_is_run(subject, monkeypatch):
    ran = []
    monkeypatch.setattr(grid_module, "memory_free_bytes", lambda: 400_000_000)
    real = grid_module.in_own_process
    monkeypatch.setattr(
        grid_module, "in_own_process", lambda feeds, setting: ran.append(setting.batch) or real(feeds, setting)
    )
    with pytest.raises(BenchError, match="batch 4096 would need about .* GB are free"):
        bench_grid(subject, Grid((4096,), (1,)), 0.1)
    assert max(ran) <= 256


def test_multiply_adds_are_those_that_the_framework_counts(shipped, subject):
    import torch
    from torch.utils.flop_counter import FlopCounterMode

    module = torch.export.load(shipped / "channel_marks.pt2").module()
    with FlopCounterMode(display=False) as counter, torch.inference_mode():
        module(torch.zeros(1, 3, 64, 64))
    assert 2 * multiply_adds(subject.name, subject.feeds).total == counter.get_total_flops()


def test_time_is_told_by_layers_of_the_training_code(subject):
    times = layer_times(subject.feeds, Setting(2, 1), 0.2)
    layers = {layer_of_node(node.name) for node in onnx.load(subject.name).graph.node}
    added = {layer.layer for layer in times.layers} - layers
    assert added <= {"(added by the runtime: ReorderInput)", "(added by the runtime: ReorderOutput)"}
    assert sum(layer.share for layer in times.layers) == pytest.approx(1)
    # Every layer that multiplies is found, and all its multiply-adds with it.
    counted = sum(layer.multiply_adds for layer in times.layers)
    assert counted == 2 * multiply_adds(subject.name, subject.feeds).total
    assert times.layers[0].seconds >= times.layers[-1].seconds > 0


def small_model(path, **inputs):
    """An artifact made elsewhere: the mean of each input, added up, times a weight. Inputs: type and shape."""
    values = [helper.make_tensor_value_info(name, *each) for name, each in inputs.items()]
    nodes = [helper.make_node("Cast", [name], [f"{name}_float"], to=1) for name in inputs]
    nodes += [helper.make_node("Flatten", [f"{name}_float"], [f"{name}_flat"]) for name in inputs]
    nodes += [
        helper.make_node("ReduceMean", [f"{name}_flat"], [f"{name}_mean"], axes=[1], keepdims=1) for name in inputs
    ]
    nodes += [helper.make_node("Sum", [f"{name}_mean" for name in inputs], ["sum"])]
    nodes += [helper.make_node("MatMul", ["sum", "weight"], ["scores"])]
    weight = numpy_helper.from_array(np.ones((1, 4), np.float32), "weight")
    out = helper.make_tensor_value_info("scores", 1, [None, 4])
    graph = helper.make_graph(nodes, "made elsewhere", values, [out], [weight])
    onnx.save(helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8), path)
    return path


@pytest.mark.alike
@pytest.mark.parametrize(
    "inputs, given, words",
    [
        ({"image": (1, ["n", 3, "h", "w"])}, Given(), "--image-size"),
        ({"a": (1, ["n", 3, 8, 8]), "b": (7, ["n", "length"])}, Given(), "--input-shape b=SIZE"),
        ({"a": (1, ["n", 3, 8, 8])}, Given(shapes={"c": (3,)}), "no input c"),
        ({"a": (1, ["n", 3, 8, 8])}, Given(shapes={"a": (3, 9, 8)}), "cannot be"),
        ({"a": (1, ["n", 3, 8, 8])}, Given(np.zeros((2, 5, 8, 8), np.float32), "w.witness"), "cannot be used together"),
        ({"a": (1, ["n", 3, 8, 8])}, Given(np.zeros((2, 3, 8, 8), np.uint8), "w.witness"), "cannot be used together"),
    ],
)
def test_what_is_missing_of_an_artifact_made_elsewhere_is_asked_for(inputs, given, words, tmp_path):
    with pytest.raises(BenchError, match=words):
        ArtifactSubject(small_model(tmp_path / "m.onnx", **inputs), given)


@pytest.mark.slow
def test_an_artifact_made_elsewhere_is_fed_what_was_said(tmp_path):
    path = small_model(tmp_path / "m.onnx", a=(1, ["n", 3, "h", 8]), b=(7, ["n", "length"]))
    subject = ArtifactSubject(path, Given(shapes={"a": (3, 5, 8), "b": (6,)}))
    feed = subject.feeds.of(4)
    assert feed["a"].shape == (4, 3, 5, 8) and feed["b"].shape == (4, 6) and feed["b"].dtype == np.int64
    assert subject.run_at(Setting(4, 1))()[0].shape == (4, 4)
    fixed = small_model(tmp_path / "fixed.onnx", a=(1, [3, 3, 8, 8]))
    found = bench_grid(ArtifactSubject(fixed, Given()), Grid((1, 2), (1,)), 0.05)
    assert [cell.setting.batch for cell in found.cells] == [3] and "fixed batch of 3" in found.notes[0]


def test_recorded_tensors_are_fed_in_the_artifacts_layout(tmp_path):
    session = open_session(small_model(tmp_path / "m.onnx", a=(1, ["n", 8, 9, 3])))
    tensors = np.random.default_rng(0).random((2, 3, 8, 9), np.float32)
    fed = Feeds(session, Given(tensors, "w.witness"), "m.onnx").of(5)["a"]
    assert np.array_equal(fed, tensors.transpose(0, 2, 3, 1)[[0, 1, 0, 1, 0]])


@pytest.mark.slow
def test_advice_follows_the_figures(bench):
    def cell(batch, threads, rate, spread=0.01):
        seconds = np.full(400, batch / rate)
        latency = median_of([seconds])
        latency = replace(latency, low=latency.value * (1 - spread), high=latency.value * (1 + spread))
        return replace(bench.cells[0], setting=Setting(batch, threads), latency=latency, seconds=seconds)

    cells = [cell(1, 1, 100), cell(2, 1, 150), cell(4, 1, 152), cell(1, 2, 110), cell(2, 2, 240), cell(4, 2, 300)]
    assert best_throughput(cells).setting == Setting(4, 2)
    assert for_deadline(cells, 0.009).best.setting == Setting(2, 2) and for_deadline(cells, 0.001).best is None
    assert for_deadline([replace(cells[0], seconds=cells[0].seconds[:300])], 0.02).undecided
    paying = batch_limits(cells)
    assert [(each.batch, each.next_batch) for each in paying] == [(2, 4), (4, None)]
    assert [round(each.efficiency, 2) for each in scaling(cells)] == [0.55, 0.8, 0.99]
    # Nothing is concluded from what is hardly known.
    assert batch_limits([*cells[:2], cell(4, 1, 300, spread=0.5)]) == []


@pytest.mark.slow
def test_a_regression_is_judged_in_multiples_of_the_reference_workload(bench, tmp_path):
    def as_if(speed, artifact=1.0):
        """The same run on a machine so many times as slow, of an artifact so many times as slow."""
        sure = {"self_ratio": replace(bench.cells[0].self_ratio, value=1.0, low=0.995, high=1.005)}
        cells = []
        for cell in bench.cells:
            middle = cell.reference_ratio.value * artifact
            ratio = replace(cell.reference_ratio, value=middle, low=middle * 0.99, high=middle * 1.01)
            latency = replace(cell.latency, value=cell.latency.value * speed * artifact)
            cells.append(replace(cell, reference_ratio=ratio, latency=latency, **sure))
        references = {threads: seconds * speed for threads, seconds in bench.reference_seconds.items()}
        return replace(bench, cells=tuple(cells), reference_seconds=references)

    def verdicts(regression, allowed):
        return {gate.verdict for gate in regression.gates(allowed)}

    write_json(str(tmp_path / "earlier.json"), document(as_if(1.0)))
    earlier = read_baseline(tmp_path / "earlier.json")
    same = judge(as_if(1.7), earlier)
    assert {change.verdict for change in same.changes} == {SAME} and verdicts(same, 0.0) == {Verdict.UNDECIDED}
    assert same.machine_ratio[1] == pytest.approx(1.7) and same.changes[0].raw_ratio == pytest.approx(1.7)
    slower = judge(as_if(0.8, artifact=1.1), earlier)
    assert (
        {change.verdict for change in slower.changes} == {SLOWER}
        and verdicts(slower, 0.05) != {Verdict.PASSED}
        and verdicts(slower, 0.5) == {Verdict.PASSED}
    )
    assert verdicts(judge(as_if(1.0, artifact=1 / 1.3), earlier), 0.0) == {Verdict.PASSED}
    assert verdicts(judge(as_if(1.0, artifact=1.6), earlier), 0.15) == {Verdict.FAILED}
    elsewhere = replace(bench, machine=replace(bench.machine, processor="another"), runtime="another runtime")
    with pytest.raises(BenchError, match="processor .* in the baseline, another now; runtime"):
        judge(elsewhere, earlier)
    assert len(judge(elsewhere, earlier, differences_allowed=True).differences_found) == 2
    with pytest.raises(BenchError, match="no setting in common"):
        judge(replace(bench, cells=bench.cells[:1]), replace(earlier, cells={}), differences_allowed=True)


@pytest.mark.slow
@settings(max_examples=150, deadline=None)
@given(data=st.data())
def test_no_damage_to_an_earlier_result_brings_the_reader_down(bench, tmp_path_factory, data):
    content = json.loads(json.dumps(document(bench), default=str))
    place = content
    for _ in range(data.draw(st.integers(1, 4))):
        keys = list(place) if isinstance(place, dict) else list(range(len(place))) if isinstance(place, list) else []
        if not keys:
            break
        key = data.draw(st.sampled_from(keys))
        if isinstance(place[key], (dict, list)) and data.draw(st.booleans()):
            place = place[key]
            continue
        place[key] = data.draw(st.sampled_from([None, "x", -1, 1e400, [], {}, True, 10**400]))
        break
    path = tmp_path_factory.mktemp("damaged") / "earlier.json"
    path.write_text(json.dumps(content)[: data.draw(st.sampled_from([None, None, 50]))])
    try:
        earlier = read_baseline(path)
        judge(bench, earlier, differences_allowed=True)
    except ZygalError as fault:
        assert "\n" not in str(fault)


def test_the_control_groups_limits_are_obeyed(monkeypatch, tmp_path):
    monkeypatch.setattr(processor, "CONTROL_GROUPS", tmp_path)
    assert processor.core_quota() is None
    (tmp_path / "cpu.max").write_text("150000 100000\n")
    monkeypatch.setattr(processor, "cores_by_affinity", lambda: 8)
    assert processor.core_quota() == 1.5 and processor.allowed_cores() == 2
    (tmp_path / "cpu.max").write_text("max 100000\n")
    assert processor.core_quota() is None and processor.allowed_cores() == 8
    monkeypatch.setattr(usage, "CONTROL_GROUPS", tmp_path)
    whole, free = memory_granted_bytes(), memory_free_bytes()
    assert 0 < free <= whole
    (tmp_path / "memory.max").write_text("300000000\n")
    (tmp_path / "memory.current").write_text("100000000\n")
    assert memory_granted_bytes() == 300_000_000 and 0 < memory_free_bytes() <= 200_000_000


def test_stolen_time_and_other_programs_are_told_apart_from_ones_own(monkeypatch, tmp_path):
    own = {"wall": 10.0, "own": 3.0, "cores": CoreSeconds(20.0, 1.0, 40.0), "throttled": 0.0}
    later = {"wall": 12.0, "own": 4.5, "cores": CoreSeconds(23.5, 1.4, 44.0), "throttled": 0.5}
    readings = iter([own, later])
    monkeypatch.setattr(load_module, "_counters", lambda helpers: next(readings))
    found = load_module.LoadWatch().load()
    assert found.stolen == pytest.approx(0.1) and found.other_cores == pytest.approx(1.0)
    assert found.throttled == pytest.approx(0.25) and not found.quiet
    monkeypatch.undo()
    now = core_seconds()
    assert now.total > now.busy > 0 and now.stolen >= 0

    # A system that does not say what was stolen, and one core of two that is switched off.
    class Times(SimpleNamespace):
        user = nice = system = idle = 1.0

    monkeypatch.setattr(usage, "allowed_core_numbers", lambda: {2})
    monkeypatch.setattr(usage.psutil, "cpu_times", lambda percpu: [Times(), Times(user=5.0)])
    (tmp_path / "online").write_text("0,2\n")
    monkeypatch.setattr(usage, "_ONLINE", tmp_path / "online")
    assert core_seconds() == CoreSeconds(7.0, None, 8.0)
    monkeypatch.undo()
    # What a process takes that works for this one is its own too.
    busy = subprocess.Popen(
        [
            sys.executable,
            "-c",
            "import time\nend = time.process_time() + 0.3\nwhile time.process_time() < end: pass\ninput()",
        ],
        stdin=subprocess.PIPE,
    )
    try:
        deadline = time.monotonic() + 60
        while (taken := process_seconds(busy.pid)) < 0.25 and time.monotonic() < deadline:
            time.sleep(0.05)
        assert taken >= 0.25 and process_seconds(2**30) == 0
    finally:
        busy.kill()


@pytest.mark.parametrize(
    "grid, seconds, until, words",
    [
        ({"batches": (0,)}, 1, None, "--batches must be numbers from 1 to 4096"),
        ({"threads": (0,)}, 1, None, "--threads must be numbers from 1 to 1024"),
        ({"batches": (1, 1)}, 1, None, "twice"),
        ({}, -1, None, "--seconds must be > 0"),
        ({"batches": (5000,)}, 1, None, "1 to 4096"),
        ({"levels": ("most",)}, 1, None, "--levels must be of off, basic"),
        ({}, 1, 5.0, "500.00%"),
        ({"executions": ("random",)}, 1, None, "--execution must be of sequential"),
        ({}, math.nan, None, "--seconds must be > 0"),
    ],
)
def test_settings_without_sense_are_refused(grid, seconds, until, words, subject):
    with pytest.raises(BenchError, match=words):
        bench_grid(subject, Grid(**{"batches": (1,), "threads": (1,)} | grid), seconds, until)


def test_nothing_is_concluded_from_a_setting_that_is_too_imprecise():
    from dataclasses import replace

    import outcomes

    from zygal.bench.advice import best_throughput, lowest_latency

    precise, quick = outcomes._cell(1, 1, 0.9), outcomes._cell(1, 2, 0.3)
    vague = replace(quick, latency=replace(quick.latency, low=0.1e-3, high=0.9e-3))
    assert vague.imprecise and not quick.imprecise
    assert lowest_latency([precise, vague]) is precise and best_throughput([precise, vague]) is precise
    assert lowest_latency([precise, quick]) is quick
