"""Groups of blocks: what a worker is given at a time, how large it is, and when it is late."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from zygal.prediction.blocks import Block

TARGET_SECONDS = 2.0
MOST_BLOCKS = 250
"""However fast they are: rows that wait take memory."""
GIVEN_OUT_PER_SLOT, WAITING_PER_SLOT = 2, 8
"""Groups that are given out for each slot of the workers, and those of them that may be finished and wait for their
turn."""
LOSSES_UNTIL_ISOLATED, LOSSES_UNTIL_GIVEN_UP = 3, 8
"""How often a group may lose its worker before it runs isolated, and then before it is cut up or given up."""
LATE_FACTOR, LATE_SECONDS = 2.5, 4.0
"""A group is late when it has taken so many times as long as others do, and so many seconds more. Until then the groups
that may wait keep the other workers busy."""


def next_size(size: int, seconds_per_block: float) -> int:
    """Blocks in the next groups, after groups of `size`. The first runs of a worker are slow ones and say little, so it
    grows by steps."""
    return max(1, min(MOST_BLOCKS, 4 * size, round(TARGET_SECONDS / max(seconds_per_block, 1e-9))))


def last_size(size: int, left: int, slots: int) -> int:
    """Blocks in the next group when so many are left in all: all workers are to end at about the same time, and groups
    must not become so small that the coordinator is busy with them."""
    return min(size, left, max(math.ceil(left / (2 * max(1, slots))), math.ceil(size / 8)))


def late_after(usual_seconds: float) -> float:
    """After how many seconds a group is late, which waits for a slot first. usual_seconds: what such a group takes."""
    return LATE_FACTOR * GIVEN_OUT_PER_SLOT * usual_seconds + LATE_SECONDS


@dataclass(eq=False)
class Group:
    """blocks: in order. futures: of its copies, several if it is late. losses: how often its worker may have been lost.
    result: once it is known here."""

    blocks: list[Block]
    began: float = 0.0
    isolated: bool = False
    losses: int = 0
    futures: list[Any] = field(default_factory=list)
    finished: Any = None
    result: list[Any] | None = None
