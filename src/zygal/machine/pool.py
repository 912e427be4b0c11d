"""Work over many items: an ordered map with back-pressure.

Here the workers are threads: decoding, resizing and inference release the interpreter. What is given to a pool as work
is a picklable callable (a frozen dataclass with `__call__`, or a function of a module), so that the workers of a
cluster (`zygal.cluster`) do it with the same code.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Protocol, TypeVar

from zygal.machine.processor import allowed_cores

Item = TypeVar("Item")
Result = TypeVar("Result")

WAITING_PER_WORKER = 2
"""Results that may wait for the reader, for each worker: enough to keep all busy, and memory does not grow."""


class Pool(Protocol):
    """Applies work to items. elsewhere: its workers are on other machines, and read files themselves. notes: what a
    user should know of them."""

    elsewhere: bool
    notes: Sequence[str]

    def map(self, work: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        """The results in the order of the items. Items are taken from the iterable only as results are read."""
        ...


class ThreadPool:
    """Workers that are threads; `threads`: None for one per core that this process may use."""

    elsewhere = False
    notes = ()

    def __init__(self, threads: int | None = None):
        self.threads = threads or allowed_cores()

    def map(self, work: Callable[[Item], Result], items: Iterable[Item]) -> Iterator[Result]:
        """See `Pool.map`."""
        if self.threads == 1:
            yield from map(work, items)
            return
        with ThreadPoolExecutor(self.threads) as executor:
            waiting: deque = deque()
            try:
                for item in items:
                    waiting.append(executor.submit(work, item))
                    if len(waiting) > WAITING_PER_WORKER * self.threads:
                        yield waiting.popleft().result()
                while waiting:
                    yield waiting.popleft().result()
            finally:
                # Whoever stops reading need not wait for results that nobody will read.
                for each in waiting:
                    each.cancel()
