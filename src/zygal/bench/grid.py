"""An artifact measured over a grid of settings, together with a copy of itself, a reference workload, and other
models."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial

import numpy as np

from zygal.artifact.formats import artifact_hash
from zygal.bench.arithmetic import Arithmetic, multiply_adds
from zygal.bench.headroom import KEPT_FREE, foreseen_bytes
from zygal.bench.load import LoadWatch
from zygal.bench.machine import describe_machine
from zygal.bench.measure import Cells, Effort, Measurement, measure, paired
from zygal.bench.own_process import OwnProcess, in_own_process
from zygal.bench.reference_workload import MULTIPLY_ADDS, matrix_product, reference_workload
from zygal.bench.regression import Conditions
from zygal.bench.result import TOO_IMPRECISE, Bench, Cell, Comparison
from zygal.bench.settings import Grid, Setting
from zygal.bench.subjects import ArtifactSubject, LiveSubject, Subject
from zygal.errors import BenchError
from zygal.machine.processor import allowed_cores
from zygal.machine.usage import memory_free_bytes
from zygal.statistics.quantiles import Ratio, interval_of_centre, ratio_of

Progress = Callable[[str, float], None]
Paired = tuple[list[float], list[float], list[int]]

ARTIFACT, COPY, REFERENCE, PRODUCT = "artifact", "copy", "reference workload", "matrix product"
MOST_SECONDS = 86400.0
# Between probes of memory a batch grows by no more than this, so that none is run into unforeseen.
PROBE_FACTOR = 16


def bench_grid(
    subject: ArtifactSubject,
    grid: Grid,
    seconds: float,
    until_within: float | None = None,
    others: Sequence[Subject] = (),
    progress: Progress = lambda what, part: None,
) -> Bench:
    """Measures every setting of the grid, interleaved, for about `seconds` in all.

    until_within: ends sooner when all medians, and all ratios, are known within this part of themselves.
    Raises ArtifactError or BenchError; a batch that would not fit into memory is refused before it is run.
    """
    _check_effort(seconds, until_within)
    grid, notes = _fitted(subject, grid)
    settings = grid.settings()
    copies = 2 + sum(isinstance(other, ArtifactSubject) for other in others)
    own = _in_own_processes(subject, settings, copies, partial(progress, "start-up and memory"))
    enough = None if until_within is None else partial(_precise_enough, until_within)
    watch = LoadWatch([other.process_id for other in others if isinstance(other, LiveSubject)])
    make = partial(_cells, subject, settings, others)
    measured = measure(make, Effort(seconds, enough), partial(progress, "measuring"))
    load, count = watch.load(), multiply_adds(subject.name, subject.feeds)
    if enough is not None and not measured.interrupted and not enough(measured.readings):
        notes.append(
            f"after {seconds:g} s not all 95 % intervals are narrower than {until_within:.2%} of the median; "
            f"give more --seconds"
        )
    # A long function, but half of it only fills this record.
    return Bench(
        artifact=subject.name,
        sha256=artifact_hash(subject.name),
        runtime=subject.engine,
        inputs_from=subject.feeds.origin,
        image_shapes=subject.feeds.shapes,
        machine=describe_machine(),
        load=load,
        cells=tuple(_cell(each, measured, own, count) for each in settings if (each, ARTIFACT) in measured.readings),
        compared=tuple(_comparison(other, index, settings, measured) for index, other in enumerate(others)),
        arithmetic=count,
        reference_seconds=_reference_times(settings, measured),
        product_rates=_products(measured),
        notes=tuple(notes),
        seconds=measured.seconds,
        rounds=measured.rounds,
        interrupted=measured.interrupted,
    )


def _check_effort(seconds: float, until_within: float | None) -> None:
    if not 0 < seconds <= MOST_SECONDS:
        raise BenchError(f"--seconds must be > 0 and <= {MOST_SECONDS:g} (got {seconds:g}).")
    if until_within is not None and not 0.001 <= until_within <= 1:
        raise BenchError(f"--until-within must be >= 0.1% and <= 100% (got {until_within:.2%}).")


def _fitted(subject: ArtifactSubject, grid: Grid) -> tuple[Grid, list[str]]:
    """The grid that the artifact and the machine allow, and what is to be said of it."""
    notes, fixed = [], subject.feeds.batch_size
    if fixed is not None and grid.batches != (fixed,):
        grid = replace(grid, batches=(fixed,))
        notes.append(f"the artifact has a fixed batch of {fixed}, so only that batch size was measured")
    cores = allowed_cores()
    if max(grid.threads) > cores:
        notes.append(f"{max(grid.threads)} threads share {cores} cores here, so these rows do not show scaling")
    return grid, notes


def _cells(subject: ArtifactSubject, settings: Sequence[Setting], others: Sequence[Subject]) -> Cells:
    """New instances of everything that is run."""
    first, second, others = subject.again(), subject.again(), [other.again() for other in others]
    threads = dict.fromkeys(setting.threads for setting in settings)
    references = {count: reference_workload(count) for count in threads}
    products = {count: matrix_product(count) for count in threads}
    cells: dict = {
        # Forwards and backwards, what stands last is run twice in a row, which is an advantage: so it is the reference
        # workload.
        setting: {
            ARTIFACT: first.run_at(setting),
            COPY: second.run_at(setting),
            **{index: other.run_at(setting) for index, other in enumerate(others)},
            # In the same blocks, so that it says what the arithmetic allowed at that moment.
            PRODUCT: products[setting.threads],
            REFERENCE: references[setting.threads],
        }
        for setting in settings
    }
    return cells


def conditions_of(subject: ArtifactSubject, grid: Grid) -> Conditions:
    """How a run of the grid is made. Raises BenchError if the artifact does not allow it."""
    settings = frozenset(_fitted(subject, grid)[0].settings())
    return Conditions(
        describe_machine(),
        subject.engine,
        subject.feeds.origin,
        [list(shape) for shape in subject.feeds.shapes.values()],
        settings,
    )


def _in_own_processes(
    subject: ArtifactSubject, settings: Sequence[Setting], copies: int, progress: Callable[[float], None]
) -> dict[Setting, OwnProcess]:
    """Start-up and peak memory of each setting, the smallest batches first. Raises BenchError where memory would not
    do."""
    found: dict[Setting, OwnProcess] = {}
    peaks: dict[tuple, dict[int, int]] = {}
    sessions = copies * len({setting.session for setting in settings})
    for index, setting in enumerate(sorted(settings, key=lambda setting: setting.batch)):
        progress(index / len(settings))
        known = peaks.setdefault(setting.session, {})
        steps = [setting.batch]
        while steps[0] > PROBE_FACTOR * max(known, default=1) and subject.feeds.batch_size is None:
            steps.insert(0, max(1, steps[0] // PROBE_FACTOR))
        for batch in steps:
            probe = replace(setting, batch=batch)
            if known:
                base = min(own.base_bytes for own in found.values())
                _check_memory(subject, base, known, batch, sessions)
            own = in_own_process(subject.feeds, probe)
            known[batch] = own.peak_bytes
            found[probe] = own
    progress(1.0)
    return found


def _check_memory(subject: ArtifactSubject, base: int, peaks: Mapping[int, int], batch: int, sessions: int) -> None:
    free = memory_free_bytes()
    if free is None:
        return
    foreseen = foreseen_bytes(peaks, batch, subject.feeds.image_bytes)
    # All sessions are held at once while they are compared.
    needed = max(foreseen, sessions * (foreseen - base))
    if needed > (1 - KEPT_FREE) * free:
        raise BenchError(
            f"batch {batch} would need about {needed / 1e9:.1f} GB in {sessions} sessions (estimated from "
            f"{max(peaks.values()) / 1e9:.2f} GB at batch {max(peaks)}), but {free / 1e9:.1f} GB are free; give "
            "smaller --batches or fewer --threads values."
        )


def _cell(setting: Setting, measured: Measurement, own: Mapping[Setting, OwnProcess], count: Arithmetic) -> Cell:
    artifact_readings = measured.readings[setting, ARTIFACT]
    latency = artifact_readings.median()
    product = measured.readings.get((setting, PRODUCT))
    limit_share = None
    if product is not None and count.total and latency.relative_error < TOO_IMPRECISE:
        limit_share = _limit_share(count.total * setting.batch / latency.value, product.seconds())
    return Cell(
        setting=setting,
        latency=latency,
        seconds=artifact_readings.seconds(),
        cpu_seconds_per_image=artifact_readings.cpu_seconds_per_run() / setting.batch,
        self_ratio=_ratio(measured, setting, ARTIFACT, COPY),
        reference_ratio=_ratio(measured, setting, REFERENCE, ARTIFACT),
        limit_share=limit_share,
        own=own.get(setting),
        steady=artifact_readings.steady,
    )


def _limit_share(reached: float, seconds: np.ndarray) -> float | None:
    """The multiply-adds per second as a share of the most that matrix products reached in the same blocks; None where
    those say too little: where they are far from their own best, or the part would be more than all."""
    best = float(seconds.min())
    share = reached * best / MULTIPLY_ADDS
    imprecise = float(np.percentile(seconds, 25)) > (1 + TOO_IMPRECISE) * best
    return None if imprecise or share > 1 else share


def _ratio(measured: Measurement, setting: Setting, below, above):
    """above / below at a setting, or None where there are too few blocks of both."""
    readings = measured.readings
    if (setting, above) not in readings or (setting, below) not in readings:
        return None
    return ratio_of(*paired(readings[setting, below], readings[setting, above]))


def _comparison(other: Subject, index: int, settings: Sequence[Setting], measured: Measurement) -> Comparison:
    ratios = {
        setting: ratio for setting in settings if (ratio := _ratio(measured, setting, ARTIFACT, index)) is not None
    }
    pairs = [paired(measured.readings[setting, ARTIFACT], measured.readings[setting, index]) for setting in ratios]
    return Comparison(other.name, other.engine, ratios, mean_ratio(list(ratios.values()), pairs))


def mean_ratio(ratios: Sequence[Ratio], pairs: Sequence[Paired]) -> Ratio | None:
    """The geometric mean of the ratios of several settings. pairs: of each, as `measure.paired` gives them.

    Settings share sessions and moments, so their errors are not independent. What is independent are epochs: the
    interval is that of the epochs' own geometric means, of those epochs in which all settings were measured; of fewer
    than two, that of errors which are all alike."""
    if not ratios:
        return None
    middle = sum(math.log(ratio.value) for ratio in ratios) / len(ratios)
    by_epoch: dict[int, list[float]] = {}
    for first, second, epochs in pairs:
        logs, marks = np.log(np.asarray(second) / np.asarray(first)), np.asarray(epochs)
        for epoch in set(epochs):
            by_epoch.setdefault(epoch, []).append(float(np.median(logs[marks == epoch])))
    means = [sum(each) / len(each) for each in by_epoch.values() if len(each) == len(ratios)]
    if len(means) > 1:
        low, high = interval_of_centre(np.array(means))
    else:
        reach = sum(ratio.relative_error for ratio in ratios) / len(ratios)
        low, high = middle - reach, middle + reach
    return Ratio(
        math.exp(middle), math.exp(min(low, middle)), math.exp(max(high, middle)), sum(r.count for r in ratios)
    )


def _reference_times(settings: Sequence[Setting], measured: Measurement) -> dict[int, float]:
    """The median seconds of the reference workload, by threads."""
    runs: dict[int, list[float]] = {}
    for setting in settings:
        if (setting, REFERENCE) in measured.readings:
            runs.setdefault(setting.threads, []).extend(measured.readings[setting, REFERENCE].seconds())
    return {threads: float(np.median(seconds)) for threads, seconds in runs.items()}


def _products(measured: Measurement) -> dict[int, float]:
    """The most multiply-adds per second of the matrix product, by threads."""
    best: dict[int, float] = {}
    for (setting, name), each in measured.readings.items():
        if name == PRODUCT:
            rate = MULTIPLY_ADDS / float(each.seconds().min())
            best[setting.threads] = max(rate, best.get(setting.threads, 0.0))
    return best


def _precise_enough(part: float, readings: Mapping) -> bool:
    for (setting, name), each in readings.items():
        if name == ARTIFACT and each.median().relative_error > part:
            return False
        if name not in (ARTIFACT, REFERENCE, PRODUCT):
            ratio = ratio_of(*paired(readings[setting, ARTIFACT], each))
            if ratio is None or ratio.relative_error > part:
                return False
    return True
