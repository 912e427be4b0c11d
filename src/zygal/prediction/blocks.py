"""Blocks of files: the unit in which images are read and run, and reading ahead where each file takes long to come."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Generic, TypeVar

from zygal.errors import FileError, ImageError
from zygal.files.locations import Content, StorageOutage, fetch, from_base, is_url
from zygal.inlet.apply import InletTensor
from zygal.machine.pool import Pool, ThreadPool
from zygal.prediction.classifier import BATCH, Classifier
from zygal.prediction.image_states import ImageState, state_of

Result = TypeVar("Result")

READERS = 32
"""Objects that are fetched at once: a storage answers after tens of milliseconds, and then fast."""
BLOCKS_AHEAD = 8
AHEAD_BYTES = 8_000_000
"""Larger objects are fetched when it is their turn, so that what is ahead takes little memory."""


@dataclass(frozen=True)
class Block:
    """Files that are run as one batch. truth: the numbers of their true classes, where they are known. base: the folder
    that relative paths start at, if not the current one. faults: why a file is not even opened, by its place. contents:
    what was read ahead, by place."""

    names: Sequence[str]
    truth: Sequence[tuple[int, ...]] = ()
    base: str = ""
    faults: Mapping[int, str] = field(default_factory=dict)
    contents: Mapping[int, Content] = field(default_factory=dict)

    def __len__(self) -> int:
        return len(self.names)

    def location(self, place: int) -> str:
        """Where a file is, for this process."""
        return from_base(self.names[place], self.base) if self.base else self.names[place]

    def state(self, place: int, hashed: bool = False) -> ImageState:
        """What a file is now. Raises StorageOutage."""
        return state_of(self.location(place), hashed, self.contents.get(place))

    def read(self, place: int, classifier: Classifier) -> InletTensor:
        """The tensor of a file. Raises ImageError, whose message does not name the file, or StorageOutage."""
        if place in self.faults:
            raise ImageError(self.faults[place])
        location, content = self.location(place), self.contents.get(place)
        try:
            return classifier.read(location, content and content.data)
        except ImageError as fault:
            raise ImageError(str(fault).removeprefix(location).strip(" :").rstrip(".")) from fault


class OfBlock:
    """What work makes of a block. missing: names of files that are not there."""

    missing: Sequence[str]


@dataclass(frozen=True)
class Done(Generic[Result]):
    """A block whose result is known from an earlier run."""

    result: Result


@dataclass(frozen=True)
class ReadStates:
    """Work for a pool: a block to its names and what its files are now."""

    hashed: bool = False

    def __call__(self, block: Block) -> tuple[Sequence[str], list[ImageState]]:
        """The names of a block's images and their states."""
        return block.names, [block.state(place, self.hashed) for place in range(len(block))]


def blocks_of(names: Iterable[str]) -> Iterator[Block]:
    """Blocks begin at every eighth file, so they are the same blocks when a later run begins further down the list."""
    names = iter(names)
    while part := list(islice(names, BATCH)):
        yield Block(part)


def map_blocks(pool: Pool | None, work: Callable[[Block], Result], blocks: Iterable[Block | Done]) -> Iterator[Result]:
    """The results for blocks, in their order; threads of this process unless a pool is given. Raises what the work
    raises."""
    pool = pool or ThreadPool()
    return pool.map(work, blocks if pool.elsewhere else read_ahead(blocks))


def read_ahead(blocks: Iterable[Block | Done]) -> Iterator[Block | Done]:
    """The same blocks, with the contents of those files that are URLs: several are fetched at once, and some blocks
    before they are needed. What cannot be fetched is left to the reader of the block. Raises StorageOutage."""
    waiting: deque[tuple[Block | Done, dict[int, Future]]] = deque()
    with ThreadPoolExecutor(READERS) as executor:
        try:
            for block in blocks:
                waiting.append((block, _begun(block, executor)))
                if len(waiting) > BLOCKS_AHEAD or not waiting[0][1]:
                    yield _filled(*waiting.popleft())
            while waiting:
                yield _filled(*waiting.popleft())
        finally:
            executor.shutdown(wait=False, cancel_futures=True)


def _begun(block: Block | Done, executor: ThreadPoolExecutor) -> dict[int, Future]:
    if isinstance(block, Done):
        return {}
    places = [place for place, name in enumerate(block.names) if is_url(name) and place not in block.faults]
    return {place: executor.submit(_content, block.location(place)) for place in places}


def _content(url: str) -> Content | None:
    try:
        return fetch(url, AHEAD_BYTES)
    except StorageOutage:
        raise
    except FileError:
        return None


def _filled(block: Block | Done, begun: dict[int, Future]) -> Block | Done:
    if not begun:
        return block
    found = {place: each.result() for place, each in begun.items()}
    return replace(block, contents={place: content for place, content in found.items() if content is not None})
