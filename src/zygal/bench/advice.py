"""What the figures say to do: numbers for the sentences that a person acts on."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from zygal.bench.result import Cell, Comparison

WORTHWHILE_GAIN = 0.05
"""A larger batch pays if it brings so much more throughput."""


def conclusive(cells: Sequence[Cell]) -> list[Cell]:
    """The cells that are precise enough to conclude from."""
    return [cell for cell in cells if not cell.imprecise]


def best_throughput(cells: Sequence[Cell]) -> Cell:
    """Among the cells that are precise enough; among all where none is."""
    return max(conclusive(cells) or cells, key=lambda cell: cell.images_per_second)


def lowest_latency(cells: Sequence[Cell]) -> Cell:
    """Among the cells that are precise enough; among all where none is."""
    return min(conclusive(cells) or cells, key=lambda cell: cell.latency.value)


def on_eight_bits(artifact: str, made_from: str, cells: Sequence[Cell], compared: Sequence[Comparison]) -> str:
    """A sentence on whether computing in 8 bits pays, from the comparisons that were made."""
    if not compared:
        return (
            f"{artifact} computes in 8 bits; whether that pays on this machine is measured with --compare {made_from}"
        )
    sentences = []
    for other in compared:
        slower = [
            cell.setting.description
            for cell in cells
            if cell.setting in other.ratios and other.told_apart(cell) and other.ratios[cell.setting].value < 1
        ]
        equal = [
            cell.setting.description for cell in cells if cell.setting in other.ratios and not other.told_apart(cell)
        ]
        if slower:
            sentences.append(f"8 bits do not pay at {'; '.join(slower)}: {other.name} is faster there")
        if equal:
            sentences.append(f"8 bits bring no measurable speed at {'; '.join(equal)} compared with {other.name}")
        if not slower and not equal:
            sentences.append(f"8 bits pay at every setting that was measured, compared with {other.name}")
    return ". ".join(sentences)


@dataclass(frozen=True)
class Deadline:
    """best: the most throughput among the cells whose p99 is within it, or None. undecided: cells with too few runs for
    a p99 whose median is within it."""

    seconds: float
    best: Cell | None
    undecided: tuple[Cell, ...]


def for_deadline(cells: Sequence[Cell], seconds: float) -> Deadline:
    """The settings whose p99 latency keeps a deadline of so many seconds."""
    keeping = [cell for cell in cells if (worst := cell.quantile(0.99)) is not None and worst <= seconds]
    undecided = [cell for cell in cells if cell.quantile(0.99) is None and cell.latency.value <= seconds]
    return Deadline(seconds, best_throughput(keeping) if keeping else None, tuple(undecided))


@dataclass(frozen=True)
class BatchLimit:
    """Of one kind of session: the batch from which on larger ones bring hardly more, and what the next one still brings
    (a part of the throughput; None if no larger one was measured). Not of cells that are vague."""

    threads: int
    level: str
    execution: str
    batch: int
    next_batch: int | None
    gain: float | None


def batch_limits(cells: Sequence[Cell]) -> list[BatchLimit]:
    """The batch size from which throughput grows no further, by session settings."""
    found = []
    for (threads, level, execution), group in _by_session(cells).items():
        if len(group) < 2 or any(cell.imprecise for cell in group):
            continue
        index = 0
        # A later batch may pay where the next one does not.
        for later in range(1, len(group)):
            if group[later].images_per_second > (1 + WORTHWHILE_GAIN) * group[index].images_per_second:
                index = later
        following = group[index + 1] if index + 1 < len(group) else None
        gain = None if following is None else following.images_per_second / group[index].images_per_second - 1
        batch = following.setting.batch if following else None
        found.append(BatchLimit(threads, level, execution, group[index].setting.batch, batch, gain))
    return found


@dataclass(frozen=True)
class Scaling:
    """What more threads bring at a batch: speedup over the fewest, and efficiency, the part of the ideal that it is."""

    batch: int
    fewest: int
    threads: int
    speedup: float
    efficiency: float


def scaling(cells: Sequence[Cell]) -> list[Scaling]:
    """For each batch, of the first level and execution that were measured; not of cells that are vague."""
    if not cells:
        return []
    first = cells[0].setting
    alike = [c for c in cells if (c.setting.level, c.setting.execution) == (first.level, first.execution)]
    found = []
    for batch in dict.fromkeys(cell.setting.batch for cell in alike):
        group = sorted((c for c in alike if c.setting.batch == batch), key=lambda cell: cell.setting.threads)
        for cell in group[1:]:
            if cell.imprecise or group[0].imprecise:
                continue
            speedup = cell.images_per_second / group[0].images_per_second
            more = cell.setting.threads / group[0].setting.threads
            found.append(Scaling(batch, group[0].setting.threads, cell.setting.threads, speedup, speedup / more))
    return found


def memory_per_image(cells: Sequence[Cell]) -> tuple[float, float] | None:
    """(bytes before the first image, bytes for each image of the batch), a straight line through the peaks; None of one
    batch size only."""
    points = [(cell.setting.batch, cell.own.peak_bytes) for cell in cells if cell.own is not None]
    if len({batch for batch, _ in points}) < 2:
        return None
    slope, start = np.polyfit(*zip(*points), 1)
    return float(start), float(slope)


def _by_session(cells: Sequence[Cell]) -> dict[tuple[int, str, str], list[Cell]]:
    groups: dict[tuple[int, str, str], list[Cell]] = {}
    for cell in cells:
        groups.setdefault(cell.setting.session, []).append(cell)
    return {key: sorted(group, key=lambda cell: cell.setting.batch) for key, group in groups.items()}
