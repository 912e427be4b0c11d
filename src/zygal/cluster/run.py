"""One map over a cluster: groups of blocks in flight, their results in order, and what is done when something fails.

A group is a few blocks of files that take a worker about TARGET_SECONDS, by what was measured so far. As many groups
are given out as keep the workers busy; finished ones wait on the workers until it is their turn. Where a worker is
lost, the engine runs its groups elsewhere; a group that has lost too many workers runs isolated, so that an image that
kills the process which decodes it is found. A group that is late holds up all behind it, so another copy is run on
another worker.
"""

from __future__ import annotations

import math
import queue
import time
import uuid
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from itertools import count, islice, takewhile
from typing import TYPE_CHECKING, Any

from zygal.cluster.groups import (
    GIVEN_OUT_PER_SLOT,
    LOSSES_UNTIL_GIVEN_UP,
    LOSSES_UNTIL_ISOLATED,
    WAITING_PER_SLOT,
    Group,
    last_size,
    late_after,
    next_size,
)
from zygal.cluster.kit import Kit, pack_blocks
from zygal.cluster.worker import NeedsKit, Ran, run_group
from zygal.cluster.workers import failure, scheduler_gone
from zygal.errors import ClusterError, ZygalError
from zygal.prediction.blocks import Block, Done

if TYPE_CHECKING:
    from zygal.cluster.admission import Admission

GATHERED = 32
"""Groups whose results are fetched at once."""
SLOTS_SECONDS = 2.0
NO_WORKERS_SECONDS = 120.0
MOST_COPIES = 3


class Run:
    """seconds_per_block: measured on the workers, None before the first result; measured: of the last groups. supplied:
    when workers were given the kit. fixed_size: blocks in each group, whatever they take; fixed_slots: for so many
    slots groups are given out, whatever there are."""

    def __init__(
        self,
        admission: Admission,
        work: Callable[[Block], Any],
        kit: Kit,
        items: Iterable[Any],
        fixed_size: int | None = None,
        fixed_slots: int | None = None,
    ):
        self.admission, self.client, self.work, self.kit = admission, admission.client, work, kit
        self.items, self.ahead = iter(items), deque[Any]()
        self.pending: deque[Group] = deque()
        self.unfinished: set[Group] = set()
        self.events: queue.SimpleQueue[tuple[Group, Any]] = queue.SimpleQueue()
        self.seconds_per_block: float | None = None
        self.fixed_size, self.fixed_slots = fixed_size, fixed_slots
        self.size, self.slots, self.looked, self.worked = fixed_size or 1, 0, -math.inf, time.monotonic()
        self.exhausted = False
        # A scheduler may still know the groups of a command that was killed: names must never come again.
        self.name, self.numbers = uuid.uuid4().hex, count()
        self.measured: deque[float] = deque(maxlen=1_000)
        # One fetch at a time, beside the thread that writes.
        self.fetcher = ThreadPoolExecutor(1)
        self.fetching: tuple[list[Group], Any] | None = None
        self.supplied: dict[str, float] = {}

    def results(self) -> Iterator[Any]:
        """The results of all groups, in their order. Raises ClusterError."""
        self._supply(self.admission.workers.addresses())
        self._fill()
        while self.pending:
            head = self.pending[0]
            self._settle(head)
            # A group may have been replaced by its parts.
            if self.pending[0] is head:
                self.pending.popleft()
                # While these are written, the next ones come.
                self._take_all()
                self._fill()
                self._fetch()
                yield from head.result

    def close(self) -> None:
        """Takes back what is still given out."""
        self.fetcher.shutdown(wait=False, cancel_futures=True)
        futures = [future for group in self.pending for future in group.futures]
        if futures and self.client.status == "running":
            self.client.cancel(futures, force=True)
        self.pending.clear()

    def _supply(self, addresses: list[str]) -> None:
        self.admission.workers.supply(self.kit, addresses)
        self.supplied.update(dict.fromkeys(addresses, time.monotonic()))

    # Giving out.

    def _fill(self) -> None:
        self._look_at_slots()
        while (
            len(self.unfinished) < GIVEN_OUT_PER_SLOT * self.slots and len(self.pending) < WAITING_PER_SLOT * self.slots
        ):
            group = self._next_group()
            if group is None:
                return
            self.pending.append(group)
            if group.result is None:
                self._give_out(group)

    def _next_group(self) -> Group | None:
        """Blocks for one worker; smaller groups at the end, so that all workers end at about the same time."""
        if not self.exhausted:
            wanted = max(1, self.size * self.slots)
            more = list(islice(self.items, wanted + 1 - len(self.ahead))) if len(self.ahead) <= wanted else []
            self.ahead.extend(more)
            self.exhausted = len(self.ahead) <= wanted
        if not self.ahead:
            return None
        if isinstance(self.ahead[0], Done):
            return Group([], result=[self.work(self.ahead.popleft())])
        size = self.size if self.fixed_size or not self.exhausted else last_size(self.size, len(self.ahead), self.slots)
        blocks: list[Block] = []
        while self.ahead and len(blocks) < size and not isinstance(self.ahead[0], Done):
            blocks.append(self.ahead.popleft())
        return Group(blocks)

    def _give_out(self, group: Group, **where: Any) -> None:
        future = self.client.submit(
            run_group,
            self.kit.key,
            pack_blocks(group.blocks),
            group.isolated,
            key=f"zygal-{self.name}-{next(self.numbers)}",
            pure=False,
            **where,
        )
        group.began = time.monotonic()
        group.futures.append(future)
        self.unfinished.add(group)
        future.add_done_callback(lambda done, group=group: self.events.put((group, done)))

    def _look_at_slots(self) -> None:
        if time.monotonic() - self.looked < SLOTS_SECONDS:
            return
        members = self.admission.workers.slots()
        self.slots, self.looked = sum(members.values()), time.monotonic()
        new = [address for address in members if address not in self.supplied]
        if new:
            # One that cannot even read its tasks would be lost again and again, and the groups with it.
            self.admission.notes += self.admission.welcome(new)
            self._supply(new)
        if self.slots:
            self.worked = time.monotonic()
        elif time.monotonic() - self.worked > NO_WORKERS_SECONDS:
            raise ClusterError(
                f"the cluster has had no workers for {NO_WORKERS_SECONDS:g} s; start some, and run the same "
                f"command to go on."
            )
        self.slots = self.fixed_slots or max(1, self.slots)

    # Taking back.

    def _settle(self, head: Group) -> None:
        """Waits until the first group has its result here, and does meanwhile what other groups need."""
        while head.result is None:
            if head.finished:
                self._gather()
                continue
            try:
                self._take(*self.events.get(timeout=0.25))
                self._take_all()
            except queue.Empty:
                self._look_at_slots()
                self._hurry(head)
            self._fill()

    def _take_all(self) -> None:
        while not self.events.empty():
            self._take(*self.events.get(timeout=0))

    def _take(self, group: Group, future: Any) -> None:
        """What became of one copy of a group."""
        if group.result is not None or future not in group.futures:
            return
        if future.status == "finished":
            group.finished = future
            self.unfinished.discard(group)
            return
        group.futures.remove(future)
        fault = self._fault(future)
        if isinstance(fault, NeedsKit):
            # The worker is new, perhaps because this very group ended the one before it.
            group.losses += 1
            self._welcome(fault.worker, group.began)
            self._after_loss(group)
        elif type(fault).__name__ == "KilledWorker":
            group.losses = max(group.losses + 1, LOSSES_UNTIL_GIVEN_UP if group.isolated else LOSSES_UNTIL_ISOLATED)
            self._after_loss(group)
        elif isinstance(fault, ZygalError):
            raise fault
        else:
            raise failure(self.client, "that ran a group", fault) from fault

    def _fault(self, future: Any) -> BaseException:
        try:
            return future.exception(timeout=30) or ConnectionError("the connection broke")
        except Exception as fault:
            # The engine raises what it knows of a task that was cancelled, instead of giving it.
            return fault

    def _welcome(self, worker: str, began: float) -> None:
        """Examines a worker that lacks the kit, with all others that are new, and gives it to them. began: when the
        worker was asked; it may have got the kit since."""
        if began > self.supplied.get(worker, -math.inf):
            # One that is gone by now is none of them.
            new = [
                address
                for address in self.admission.workers.addresses()
                if address not in self.supplied or address == worker
            ]
            self.admission.notes += self.admission.welcome(new)
            self._supply(new)

    def _after_loss(self, group: Group) -> None:
        """A group that has lost several workers runs isolated, then block by block, and then its images get the reason
        in their rows."""
        if group.futures:
            return
        if not group.isolated and group.losses >= LOSSES_UNTIL_ISOLATED:
            group.isolated, group.losses = True, 0
        if not group.isolated or group.losses < LOSSES_UNTIL_GIVEN_UP:
            self._give_out(group, priority=10)
        elif len(group.blocks) > 1:
            self._cut_up(group)
        else:
            self.unfinished.discard(group)
            reason = f"the worker that was given it was lost, {LOSSES_UNTIL_ISOLATED + LOSSES_UNTIL_GIVEN_UP} times"
            group.result = [
                self.work(replace(block, faults=dict.fromkeys(range(len(block)), reason))) for block in group.blocks
            ]

    def _cut_up(self, group: Group) -> None:
        self.unfinished.discard(group)
        place = self.pending.index(group)
        parts = [Group([block], isolated=True) for block in group.blocks]
        del self.pending[place]
        for each in reversed(parts):
            self.pending.insert(place, each)
        for each in parts:
            self._give_out(each, priority=10)
        group.result = []

    def _hurry(self, head: Group) -> None:
        """Another copy of a late group, on a worker that has none of it."""
        if not 1 <= len(head.futures) < MOST_COPIES or self.seconds_per_block is None:
            return
        usual = self.seconds_per_block * len(head.blocks) * (4 if head.isolated else 1)
        if time.monotonic() - head.began < late_after(usual):
            return
        keys = {future.key for future in head.futures}
        try:
            busy = {address for address, given in self.client.processing().items() if keys & set(given)}
        except Exception as fault:
            raise scheduler_gone(fault) from fault
        others = [address for address in self.admission.workers.addresses() if address not in busy]
        if others:
            self._give_out(head, workers=others, allow_other_workers=False, priority=10)

    def _fetch(self) -> None:
        """Begins to fetch the results of the first groups that are finished, if none are on their way."""
        if self.fetching is not None:
            return
        groups = list(
            takewhile(
                lambda group: group.finished and group.result is None, islice(self.pending, self._first_without(), None)
            )
        )[:GATHERED]
        if groups:
            futures = [group.finished for group in groups]
            self.fetching = groups, self.fetcher.submit(self.client.gather, futures)

    def _first_without(self) -> int:
        """The place of the first group without its result here."""
        return next((place for place, group in enumerate(self.pending) if group.result is None), len(self.pending))

    def _gather(self) -> None:
        """Waits for the results that are being fetched."""
        self._fetch()
        groups, fetched = self.fetching
        self.fetching = None
        try:
            found: list[Ran] = fetched.result()
        except Exception:
            # A worker was lost after it had finished, and the group again and again: each is asked for what became of
            # it.
            self._gather_one(groups[0])
            return
        for group, ran in zip(groups, found):
            self._keep(group, ran)

    def _gather_one(self, group: Group) -> None:
        try:
            self._keep(group, group.finished.result())
        except Exception:
            future, group.finished = group.finished, None
            self.unfinished.add(group)
            time.sleep(0.2)
            self.events.put((group, future))

    def _keep(self, group: Group, ran: Ran) -> None:
        group.result = ran.results
        for future in group.futures:
            if future is not group.finished:
                self.client.cancel([future], force=True)
        group.futures.clear()
        if not group.isolated and group.blocks:
            measured = ran.seconds / len(group.blocks)
            self.measured.append(measured)
            self.seconds_per_block = (
                measured if self.seconds_per_block is None else 0.7 * self.seconds_per_block + 0.3 * measured
            )
            self.size = self.fixed_size or next_size(self.size, self.seconds_per_block)
