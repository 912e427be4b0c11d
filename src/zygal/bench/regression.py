"""A run judged by an earlier one: has the artifact grown slower?

Days apart, a machine is not as fast as it was. Both runs measured the reference workload between their own runs, so
times are compared in multiples of it. What remains uncertain is both runs' intervals and both runs' noise.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, fields
from statistics import NormalDist

from zygal.bench.baseline import Baseline
from zygal.bench.machine import Machine
from zygal.bench.result import Bench
from zygal.bench.settings import Setting
from zygal.errors import BenchError, some_of
from zygal.outcome import Gate
from zygal.statistics.quantiles import for_many
from zygal.wording import rough_percent, short_number

Z = NormalDist().inv_cdf(0.975)
BETWEEN_RUNS = 0.05
"""Half the width of a 95 % interval of what a run has of its own, whatever its blocks and epochs say: on a virtual
machine with a busy host, the time of an artifact in multiples of the reference workload changed from run to run with a
standard deviation of 4 %, most of which the intervals knew of."""

SLOWER, FASTER, SAME = "slower", "faster", "no significant difference"


@dataclass(frozen=True)
class Change:
    """ratio: how many times as long as in the earlier run, in multiples of the reference workload. reach: by how much
    it may be off, on the logarithmic scale, both runs' noise included; of_a_run: as far as no measuring within a run
    makes it smaller. raw_ratio: of the times as they were."""

    setting: Setting
    ratio: float
    reach: float
    raw_ratio: float
    verdict: str
    of_a_run: float = 0.0

    def gate(self, allowed: float, what: str) -> Gate:
        """That it is not slower by more than a share. what: the setting, in words."""
        low, high = (self.ratio * math.exp(sign * self.reach) - 1 for sign in (-1, 1))
        return Gate(
            "baseline",
            f"slowdown, {what}",
            self.ratio - 1,
            allowed,
            "share",
            low=low,
            high=high,
            deciding=self._deciding(allowed),
        )

    def _deciding(self, allowed: float) -> str:
        """What would bring the interval to one side of the limit: time, as far as time is what it lacks."""
        away, own = abs(math.log((1 + allowed) / self.ratio)), self.of_a_run
        if away <= own:
            return (
                f"no time would: any two runs differ by up to {rough_percent(math.expm1(own))}; allow more, or "
                f"compare both in one run (--compare)"
            )
        factor = (self.reach**2 - own**2) / (away**2 - own**2)
        return (
            f"both runs {short_number(max(1.1, factor))} times as long (--seconds), or a quieter machine, would "
            f"decide it"
        )


@dataclass(frozen=True)
class Regression:
    """changes: by setting. together: over all settings, None of a single one. machine_ratio: how many times as long the
    reference workload itself took, by threads. differing: what is not as it was (only where that was allowed)."""

    changes: tuple[Change, ...]
    overall: Change | None
    machine_ratio: dict[int, float]
    differences_found: tuple[str, ...]

    @property
    def all_changes(self) -> tuple[Change, ...]:
        """The settings' changes, and the one of all together if there is one."""
        return (*self.changes, *((self.overall,) if self.overall else ()))

    def gates(self, allowed: float) -> tuple[Gate, ...]:
        """One for each change."""
        whole = ((self.overall, "all settings"),) if self.overall else ()
        return tuple(
            change.gate(allowed, what)
            for change, what in (*((each, each.setting.description) for each in self.changes), *whole)
        )


def judge(now: Bench, earlier: Baseline, differences_allowed: bool = False) -> Regression:
    """Raises BenchError if the runs cannot be compared, and says what differs."""
    conditions = Conditions(
        now.machine,
        now.runtime,
        now.inputs_from,
        [list(shape) for shape in now.image_shapes.values()],
        frozenset(cell.setting for cell in now.cells),
    )
    if not differences_allowed:
        refuse_other_conditions(conditions, earlier)
    differences_found = differences(conditions, earlier)
    found: list[tuple[Setting, float, float, float]] = []
    for cell in now.cells:
        before = earlier.cells.get(cell.setting)
        if before is None or cell.reference_ratio is None:
            continue
        change = math.log(cell.reference_ratio.value / before.reference_ratio.value)
        # All of them half the width of a 95 % interval; the noise is about a standard error.
        parts = (
            cell.reference_ratio.relative_error,
            before.reference_ratio.relative_error,
            Z * cell.noise,
            Z * before.noise,
            BETWEEN_RUNS,
        )
        raw = cell.latency.value / before.latency_seconds
        found.append((cell.setting, change, math.hypot(*parts), raw))
    # Each setting is a test of its own, and so is all of them together.
    stretch = for_many(len(found) + (len(found) > 1))
    changes = [_change(setting, change, reach, raw, stretch) for setting, change, reach, raw in found]
    if not changes:
        raise BenchError("the two runs have no setting in common; measure the same batches and threads.")
    overall = None
    if len(changes) > 1:
        mean = sum(math.log(each.ratio) for each in changes) / len(changes)
        raw = math.exp(sum(math.log(each.raw_ratio) for each in changes) / len(changes))
        # Settings of a run share sessions and moments, so their errors may be alike.
        overall = _change(changes[0].setting, mean, sum(each[2] for each in found) / len(found), raw, stretch)
    machine = {
        threads: seconds / earlier.reference_seconds[threads]
        for threads, seconds in now.reference_seconds.items()
        if threads in earlier.reference_seconds
    }
    return Regression(tuple(changes), overall, machine, tuple(differences_found))


def _change(setting: Setting, change: float, reach: float, raw: float, stretch: float) -> Change:
    """stretch: of the interval, for the number of changes that are judged."""
    reach *= stretch
    verdict = SAME if abs(change) <= reach else SLOWER if change > 0 else FASTER
    return Change(setting, math.exp(change), reach, raw, verdict, stretch * BETWEEN_RUNS)


@dataclass(frozen=True)
class Conditions:
    """How a run is made: what must be alike in two runs that are compared."""

    machine: Machine
    runtime: str
    inputs_from: str
    image_shapes: list[list[int]]
    settings: frozenset[Setting]


def refuse_other_conditions(now: Conditions, earlier: Baseline) -> None:
    """Raises BenchError if a run under these conditions cannot be compared with an earlier one, and says what
    differs."""
    if not now.settings & set(earlier.cells):
        raise BenchError("the two runs have no setting in common; measure the same batches and threads.")
    found = differences(now, earlier)
    if found:
        raise BenchError(
            f"the two runs are not made in the same way: {'; '.join(found)}; measure both alike, or add --force "
            f"to compare them anyway."
        )


def differences(now: Conditions, earlier: Baseline) -> list[str]:
    """What differs between the two runs, one text each."""
    found = []
    for each in fields(Machine):
        here, there = getattr(now.machine, each.name), getattr(earlier.machine, each.name)
        if each.name == "python":
            # It waits while the runtime works.
            continue
        if each.name == "memory_bytes" and here and there and abs(here - there) < 0.05 * there:
            # What the firmware keeps for itself changes from start to start.
            continue
        if here != there:
            found.append(f"{each.name.replace('_', ' ')} {_value_text(there)} in the baseline, {_value_text(here)} now")
    for name in ("runtime", "inputs_from", "image_shapes"):
        here, there = getattr(now, name), getattr(earlier, name)
        if here != there:
            found.append(
                f"{name.removesuffix('_from').replace('_', ' ')} {_value_text(there)} in the baseline, "
                f"{_value_text(here)} now"
            )
    here, there = now.settings, set(earlier.cells)
    for which, only in (("in the baseline", there - here), ("now", here - there)):
        if only:
            settings = sorted(only, key=lambda each: (each.threads, each.batch))
            found.append(f"measured only {which}: {some_of([each.description for each in settings])}")
    return found


def _value_text(value) -> str:
    if isinstance(value, tuple):
        return " ".join(value) or "none"
    return "unknown" if value is None else str(value)
