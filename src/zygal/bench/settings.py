"""The grid: what an artifact is measured at."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product

from zygal.engines.session import EXECUTIONS, LEVELS
from zygal.errors import BenchError

LARGEST_BATCH, MOST_THREADS = 4096, 1024


@dataclass(frozen=True)
class Setting:
    """One place of the grid. level, execution: see `engines.session`."""

    batch: int
    threads: int
    level: str = "all"
    execution: str = "sequential"

    @property
    def session(self) -> tuple[int, str, str]:
        """What a session is opened with; batches share one."""
        return self.threads, self.level, self.execution

    @property
    def description(self) -> str:
        """Level and execution only where they are not what is usual."""
        words = f"batch {self.batch} on {self.threads} thread{'s' * (self.threads != 1)}"
        if self.level != "all":
            words += f", level {self.level}"
        return words + (", parallel" if self.execution == "parallel" else "")


@dataclass(frozen=True)
class Grid:
    """All combinations are measured. Raises BenchError where a number makes no sense or a name is unknown."""

    batches: tuple[int, ...]
    threads: tuple[int, ...]
    levels: tuple[str, ...] = ("all",)
    executions: tuple[str, ...] = ("sequential",)

    def __post_init__(self):
        _check_numbers(self.batches, "batches", LARGEST_BATCH)
        _check_numbers(self.threads, "threads", MOST_THREADS)
        _check_names(self.levels, LEVELS, "levels")
        _check_names(self.executions, EXECUTIONS, "execution")

    def settings(self) -> list[Setting]:
        """In the order in which a table shows them: batches run fastest."""
        return [
            Setting(batch, *rest) for *rest, batch in product(self.threads, self.levels, self.executions, self.batches)
        ]


def _check_numbers(numbers: Sequence[int], what: str, most: int) -> None:
    for number in numbers:
        if not 1 <= number <= most:
            raise BenchError(f"--{what} must be numbers from 1 to {most} (got {number}).")
    if not numbers or len(set(numbers)) != len(numbers):
        raise BenchError(f"--{what} is empty or lists a number twice; list each number once.")


def _check_names(names: Sequence[str], known: Sequence[str], what: str) -> None:
    for name in names:
        if name not in known:
            raise BenchError(f"--{what} must be of {', '.join(known)} (got {name!r}).")
    if not names or len(set(names)) != len(names):
        raise BenchError(f"--{what} is empty or lists a name twice; list each name once.")
