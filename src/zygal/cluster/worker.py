"""What runs on the workers: finding or keeping artifacts, and groups of blocks."""

from __future__ import annotations

import os
import threading
import time
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from zygal.cluster.kit import Kit, SentArtifact, SentFile, unpack_blocks, unpack_kit
from zygal.errors import FileError
from zygal.files.locations import from_base
from zygal.files.opening import sha256_of
from zygal.machine.libraries import silence_libraries
from zygal.prediction.blocks import Block, ReadStates, read_ahead

MOST_KITS = 4
"""Kits that a worker keeps open; the least recently used one goes."""


class NeedsKit(Exception):
    """A worker does not have the kit of a run. worker: its address."""

    def __init__(self, worker: str):
        super().__init__(worker)
        self.worker = worker


@dataclass(frozen=True)
class Ran:
    """What became of a group of blocks, in order. seconds: how long it took there."""

    results: list[Any]
    seconds: float


@dataclass
class Station:
    """What one worker process keeps. kits: opened ones, by key. hashes: of files, by path and state."""

    kits: OrderedDict[str, tuple[Any, Kit, dict[str, Path]]] = field(default_factory=OrderedDict)
    hashes: dict[tuple[str, int, int], str] = field(default_factory=dict)
    lock: Any = field(default_factory=threading.RLock)

    def work(self, key: str) -> tuple[Any, Kit, dict[str, Path]] | None:
        """What was unpacked for a key, if it is here."""
        with self.lock:
            if key in self.kits:
                self.kits.move_to_end(key)
            return self.kits.get(key)

    def hash_of(self, path: str) -> str | None:
        """The hash of a file on this worker, None if it cannot be read."""
        try:
            state = os.stat(path)
            key = (path, state.st_size, state.st_mtime_ns)
            if key not in self.hashes:
                self.hashes[key] = sha256_of(path)
            return self.hashes[key]
        except (OSError, ValueError, FileError):
            return None

    def path_of(self, artifact: SentArtifact, base: str) -> Path | None:
        """Where this worker has all files of an artifact, with the right bytes: where the command sees it, or as it was
        sent."""
        for places in (
            [from_base(each.path, base) for each in artifact.files],
            [str(stored_path(artifact, each)) for each in artifact.files],
        ):
            if all(self.hash_of(place) == each.sha256 for place, each in zip(places, artifact.files)):
                return Path(places[0])
        return None


_station = Station()


def stored_path(artifact: SentArtifact, file: SentFile) -> Path:
    """Where a worker keeps a file that was sent to it."""
    from distributed import get_worker

    return Path(get_worker().local_directory) / f"zygal-{artifact.key[:24]}" / file.name


def receive(kit: Kit) -> list[str]:
    """Opens a kit; or the keys of the artifacts that are not here, which must be sent first."""
    silence_libraries(False)
    with _station.lock:
        if kit.key in _station.kits:
            return []
        paths = {each.key: _station.path_of(each, kit.base) for each in kit.artifacts}
        lacking = [key for key, path in paths.items() if path is None]
        if not lacking:
            _station.kits[kit.key] = (unpack_kit(kit.work, paths), kit, paths)
            while len(_station.kits) > MOST_KITS:
                _station.kits.popitem(last=False)
        return lacking


def store(artifact: SentArtifact, contents: Sequence[bytes]) -> None:
    """Keeps the files of an artifact in the worker's own folder, which goes when the worker ends."""
    for file, content in zip(artifact.files, contents):
        path = stored_path(artifact, file)
        path.parent.mkdir(parents=True, exist_ok=True)
        new = path.with_name(f"{path.name}.{os.getpid()}.{threading.get_ident()}.new")
        new.write_bytes(content)
        os.replace(new, path)


def call_once(key: str) -> Any:
    """What the work of a kit returns that takes nothing; the kit is not kept, and neither is the artifact that it has
    open."""
    work = _opened(key)[0]
    with _station.lock:
        _station.kits.pop(key, None)
    return work()


def run_group(key: str, packed: bytes, isolated: bool = False) -> Ran:
    """Runs the work over packed blocks. isolated: in a process of its own, so that an image that kills it is found.
    Raises NeedsKit and whatever the work raises."""
    work, kit, paths = _opened(key)
    blocks = [replace(each, base=kit.base) for each in unpack_blocks(packed)]
    began = time.perf_counter()
    if isolated:
        from zygal.cluster.isolated import run_isolated

        results = run_isolated(kit, paths, blocks)
    else:
        results = [work(each) for each in read_ahead(blocks)]
    return Ran(results, time.perf_counter() - began)


def states_of(blocks: Sequence[Block], base: str) -> list[list]:
    """What the files of blocks are, as this worker sees them."""
    return [ReadStates()(replace(each, base=base))[1] for each in blocks]


def _opened(key: str) -> tuple[Any, Kit, dict[str, Path]]:
    found = _station.work(key)
    if found is None:
        from distributed import get_worker

        raise NeedsKit(get_worker().address)
    return found
