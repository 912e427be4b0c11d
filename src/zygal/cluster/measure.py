"""How fast the workers of a cluster are, one alone and all at once, how fast they read, and what the coordinator can
take."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from itertools import cycle, islice
from pathlib import Path
from typing import Any

import numpy as np

from zygal.cluster.groups import TARGET_SECONDS
from zygal.cluster.kit import pack_blocks, pack_kit
from zygal.cluster.pool import ClusterPool
from zygal.cluster.run import Run
from zygal.cluster.simulation import Times
from zygal.cluster.worker import Ran, run_group
from zygal.cluster.workers import failure
from zygal.errors import FileError
from zygal.files.locations import fetch, is_url, open_location
from zygal.files.writing import scratch_folder
from zygal.prediction.blocks import Block, blocks_of
from zygal.prediction.classification import Classification, MadeRows, MakePredictions, MakeRows
from zygal.prediction.classifier import BATCH
from zygal.prediction.resumable import open_rows
from zygal.prediction.rows import CSV, RowWriter, columns_of
from zygal.prediction.stream import ScoreBlock

PARTS, WHOLE_PARTS = 4, 10
"""Groups that each slot is given in one measurement."""
CANNED_GROUPS = (200, 400)
"""Groups of full size and of a quarter of it that the coordinator takes to be measured."""
CANNED_SLOTS = 16
"""As if so many workers kept it busy."""


@dataclass(frozen=True)
class Speed:
    """workers, slots: at work. block_seconds: per block of images, of each group. images_per_second: all together.
    between_seconds: that a worker waited between two groups. bytes_per_second: of the images, where they were only
    read."""

    workers: int
    slots: int
    block_seconds: tuple[float, ...]
    images_per_second: float
    between_seconds: float
    bytes_per_second: float | None = None

    @property
    def of_each(self) -> float:
        """Images a second of one slot."""
        return self.images_per_second / self.slots


@dataclass(frozen=True)
class Coordinator:
    """What putting rows in order and writing them takes: seconds for each group and for each row, and the rows that it
    sustains."""

    group_seconds: float
    row_seconds: float
    rows_per_second: float
    group_rows: int


@dataclass(frozen=True)
class MeasuredCluster:
    """one, all: classifying on one slot, and on all at once. reading_one, reading_all: reading the files alone.
    start_seconds: until a worker that has been admitted has opened the artifact and run its first block."""

    one: Speed
    all: Speed
    reading_one: Speed
    reading_all: Speed
    start_seconds: float
    coordinator: Coordinator

    @property
    def times(self) -> Times:
        """For a simulation of workers that share machines as these do."""
        return Times(
            self.all.block_seconds,
            self.start_seconds,
            max(0.0, self.one.between_seconds),
            self.coordinator.group_seconds,
            self.coordinator.row_seconds,
        )


@dataclass(frozen=True)
class ReadBytes:
    """Work for a pool: a block to how many bytes its files have; they are read and nothing else."""

    def __call__(self, block: Block) -> int:
        """Reads a block's images, and gives how many bytes they have."""
        return sum(self._bytes(block.location(place), block.contents.get(place)) for place in range(len(block)))

    @staticmethod
    def _bytes(location: str, content: Any) -> int:
        if content is not None:
            return len(content.data)
        try:
            if is_url(location):
                return len(fetch(location).data)
            with open_location(location) as file:
                return len(file.read())
        except FileError:
            return 0


@dataclass(frozen=True)
class CannedRows:
    """Work for a pool: the rows of one block again and again, so that the coordinator is all that works."""

    made: MadeRows

    def __call__(self, block: Block) -> MadeRows:
        """The same rows for every block."""
        return replace(self.made, names=block.names)


def measure_cluster(
    pool: ClusterPool, run: Classification, names: Sequence[str], seconds: float, progress: Callable[[float], None]
) -> MeasuredCluster:
    """Measures for about so many seconds on these images, used repeatedly. The pool's workers have been admitted.
    Raises ClusterError, and any ZygalError."""
    writer = RowWriter(CSV, columns_of(run.top, run.classifier.multi_label, run.other is not None))
    work = ScoreBlock(
        run.classifier, run.other, MakeRows(MakePredictions(run.classifier, run.thresholds, run.top), writer)
    )
    bench, share = _Bench(pool, list(blocks_of(names))), seconds / 6
    began = time.perf_counter()
    bench.give(work)
    bench.run(bench.addresses[:1], 1, 1)
    start = time.perf_counter() - began
    # The first block includes what is done once.
    per_block = bench.run(bench.addresses[:1], 1, 4).block_seconds[0]
    progress(0)
    speeds = [bench.timed(bench.addresses[:1], share, per_block, first_slot_only=True)]
    progress(1 / 5)
    speeds.append(bench.whole_run(work, writer, 2 * share, per_block))
    bench.give(ReadBytes())
    per_block = bench.run(bench.addresses[:1], 1, 4).block_seconds[0]
    for step, addresses in enumerate((bench.addresses[:1], bench.addresses), 2):
        progress(step / 5)
        speeds.append(bench.timed(addresses, share / 2, per_block, first_slot_only=step == 2))
    progress(4 / 5)
    blocks_a_group = max(1, round(TARGET_SECONDS / float(np.mean(speeds[1].block_seconds))))
    coordinator = _coordinator(pool, work(bench.blocks[0]), writer, list(names), blocks_a_group)
    return MeasuredCluster(*speeds, start_seconds=start, coordinator=coordinator)


class _Bench:
    """Groups pinned to workers, timed."""

    def __init__(self, pool: ClusterPool, blocks: list[Block]):
        self.pool, self.client, self.blocks = pool, pool.client, blocks
        self.slots = pool.workers.slots()
        self.addresses = list(self.slots)
        self.key = ""

    def give(self, work: Any) -> None:
        kit = pack_kit(work, self.pool.artifacts)
        self.pool.workers.supply(kit, self.addresses)
        self.key = kit.key

    def timed(self, addresses: list[str], seconds: float, per_block: float, first_slot_only: bool) -> Speed:
        size = max(1, round(seconds / PARTS / per_block))
        return self.run(addresses, PARTS, size, first_slot_only)

    def whole_run(self, work: Any, writer: RowWriter, seconds: float, per_block: float) -> Speed:
        """All slots in a run as it is made, with the coordinator at work beside them."""
        slots = sum(self.slots.values())
        size = max(1, round(seconds / WHOLE_PARTS / per_block))
        count = size * WHOLE_PARTS * slots
        run = Run(self.pool, work, pack_kit(work, self.pool.artifacts), islice(cycle(self.blocks), count), size)
        began = time.perf_counter()
        try:
            with (
                scratch_folder() as folder,
                open_rows(Path(folder) / f"rows{CSV}", {"what": "a measurement"}, writer.heading()) as rows,
            ):
                images = 0
                for each in run.results():
                    rows.append(each.data, each.names, each.states, each.counts)
                    images += each.made
            wall = time.perf_counter() - began
        finally:
            run.close()
        return Speed(
            len(self.slots),
            slots,
            tuple(run.measured),
            images / wall,
            max(0.0, wall - count * float(np.mean(run.measured)) / slots) / WHOLE_PARTS,
        )

    def run(self, addresses: list[str], parts: int, size: int, first_slot_only: bool = True) -> Speed:
        """`parts` groups of `size` blocks for each slot. A worker with several slots has only one of them at work if
        that is asked."""
        supply = cycle(self.blocks)
        slots = {address: 1 if first_slot_only else self.slots[address] for address in addresses}
        groups = {address: [list(islice(supply, size)) for _ in range(parts * slots[address])] for address in addresses}
        began = time.perf_counter()
        ran: dict[str, list[Ran]] = {address: [] for address in addresses}
        if first_slot_only:
            for address, given in groups.items():
                previous = None
                for blocks in given:
                    # One after the other, with the next one there when the last is done.
                    previous = self._submit(address, blocks, previous)
                    ran[address].append(previous)
        else:
            for address, given in groups.items():
                ran[address] = [self._submit(address, blocks) for blocks in given]
        found = {address: [self._result(address, future) for future in futures] for address, futures in ran.items()}
        wall = time.perf_counter() - began
        everything = [each for results in found.values() for each in results]
        images = sum(len(block) for given in groups.values() for blocks in given for block in blocks)
        read = sum(each for one in everything for each in one.results if isinstance(each, int))
        busy = sum(each.seconds for each in everything) / sum(slots.values())
        return Speed(
            len(addresses),
            sum(slots.values()),
            tuple(each.seconds / size for each in everything),
            images / wall,
            max(0.0, wall - busy) / parts,
            read / wall if read else None,
        )

    def _submit(self, address: str, blocks: list[Block], after: Any = None) -> Any:
        return self.client.submit(
            _run_after, self.key, pack_blocks(blocks), after, workers=[address], allow_other_workers=False, pure=False
        )

    def _result(self, address: str, future: Any) -> Ran:
        try:
            return future.result()
        except Exception as fault:
            raise failure(self.client, address, fault) from fault


def _run_after(key: str, packed: bytes, previous: Ran | None) -> Ran:  # noqa: ARG001
    """A group that begins when another one is done."""
    return run_group(key, packed)


def _coordinator(
    pool: ClusterPool, made: MadeRows, writer: RowWriter, names: list[str], blocks_a_group: int
) -> Coordinator:
    """Writes canned rows in groups of two sizes, and solves for what a group and a row take."""
    sizes = (blocks_a_group, max(1, blocks_a_group // 4))
    seconds = [_take(pool, made, writer, names, size, count) for size, count in zip(sizes, CANNED_GROUPS)]
    rows = [size * count * BATCH for size, count in zip(sizes, CANNED_GROUPS)]
    if sizes[0] == sizes[1]:
        per_group, per_row = 0.0, seconds[0] / rows[0]
    else:
        per_group, per_row = np.linalg.solve([[CANNED_GROUPS[0], rows[0]], [CANNED_GROUPS[1], rows[1]]], seconds)
    # Noise can make one of them negative.
    if per_row <= 0 or per_group < 0:
        per_group, per_row = 0.0, seconds[0] / rows[0]
    return Coordinator(float(per_group), float(per_row), rows[0] / seconds[0], blocks_a_group * BATCH)


def _take(pool: ClusterPool, made: MadeRows, writer: RowWriter, names: list[str], size: int, groups: int) -> float:
    """Seconds for so many groups, from the first rows on: until then the workers get the rows."""
    supply = islice(cycle(names), (groups + 1) * size * BATCH)
    with (
        scratch_folder() as folder,
        open_rows(Path(folder) / f"rows{CSV}", {"what": "canned rows"}, writer.heading()) as rows,
    ):
        began = 0.0
        for each in pool.map(CannedRows(made), blocks_of(supply), size, CANNED_SLOTS):
            began = began or time.perf_counter()
            rows.append(each.data, each.names, each.states, each.counts)
        return time.perf_counter() - began
