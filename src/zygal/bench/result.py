"""What a benchmark found, as plain data."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np

from zygal.bench.arithmetic import Arithmetic
from zygal.bench.load import Load
from zygal.bench.machine import Machine
from zygal.bench.own_process import OwnProcess
from zygal.bench.settings import Setting
from zygal.statistics.quantiles import Median, Ratio, for_many, interval_of_quantile, quantile_of, readings_for

TOO_IMPRECISE = 0.25
"""A figure that may be off by more than this part of itself is not drawn conclusions from."""


@dataclass(frozen=True)
class Cell:
    """One setting's result.

    latency: seconds a batch. seconds: of every run, none left out. cpu_seconds_an_image: of the whole process, all
    threads. self_ratio: a copy of the artifact compared with it. reference_ratio: a batch's time in multiples of the
    reference workload's. limit_share: the multiply-adds per second, as a share of the most that a matrix product
    reached in the same blocks, None where that is too vague. own: None where it was not measured.
    """

    setting: Setting
    latency: Median
    seconds: np.ndarray = field(repr=False)
    cpu_seconds_per_image: float
    self_ratio: Ratio | None
    reference_ratio: Ratio | None
    limit_share: float | None
    own: OwnProcess | None
    steady: bool

    @property
    def images_per_second(self) -> float:
        """Throughput by the median latency."""
        return self.setting.batch / self.latency.value

    def quantile(self, part: float) -> float | None:
        """Seconds a batch; None where too few runs carry it."""
        return quantile_of(self.seconds, part)

    def interval_of_quantile(self, part: float) -> tuple[float, float] | None:
        """Its 95 % interval."""
        return interval_of_quantile(self.seconds, part)

    @property
    def imprecise(self) -> bool:
        """Whether the interval of the median is too wide to rely on."""
        return self.latency.relative_error > TOO_IMPRECISE

    @property
    def noise(self) -> float:
        """How far the artifact was from itself in this run, on the logarithmic scale."""
        return math.inf if self.self_ratio is None else noise_of(self.self_ratio)


LEAST_NOISE = 0.01
"""No two things are told apart by less: what stands where in a block, and where in memory, makes as much."""


def noise_of(self_ratio: Ratio) -> float:
    """The difference of an artifact from itself; or how well that is known if it is more: a quarter of its interval,
    which is about a standard error."""
    return max(abs(math.log(self_ratio.value)), math.log(self_ratio.high / self_ratio.low) / 4, LEAST_NOISE)


def told_apart(ratio: Ratio, noise: float, stretch: float = 1.0) -> bool:
    """Whether a difference is one: its interval, stretched by a factor, leaves out 1, and it is larger than the
    noise."""
    nearer = ratio.low if ratio.value > 1 else ratio.high
    apart = abs(math.log(ratio.value))
    return apart > stretch * abs(math.log(ratio.value / nearer)) and apart > noise


@dataclass(frozen=True)
class Comparison:
    """Something else on the same inputs in the same run. ratios: its time as a multiple of the artifact's."""

    name: str
    engine: str
    ratios: dict[Setting, Ratio]
    overall: Ratio | None

    def told_apart(self, cell: Cell) -> bool:
        """Whether the two differ at a setting, with the number of settings taken into account."""
        return told_apart(self.ratios[cell.setting], cell.noise, for_many(len(self.ratios)))


@dataclass(frozen=True)
class Bench:
    """All cells in the order of the grid. notes: sentences that a person should read. reference_seconds, product_rates
    (multiply-adds per second of a matrix product): by threads.

    inputs_from: where the input tensors are from. image_shapes: of one image, by the input's name. seconds: spent
    measuring.
    """

    artifact: str
    sha256: str
    runtime: str
    inputs_from: str
    image_shapes: dict[str, tuple[int, ...]]
    machine: Machine
    load: Load
    cells: tuple[Cell, ...]
    compared: tuple[Comparison, ...]
    arithmetic: Arithmetic
    reference_seconds: dict[int, float]
    product_rates: dict[int, float]
    notes: tuple[str, ...]
    seconds: float
    rounds: int
    interrupted: bool

    def cell(self, setting: Setting) -> Cell | None:
        """What was measured at a setting, if it was."""
        return next((cell for cell in self.cells if cell.setting == setting), None)


READINGS_FOR_P99 = readings_for(0.99)
