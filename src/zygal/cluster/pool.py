"""An ordered map over blocks of files on the workers of a cluster."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any

from zygal.cluster.kit import Kit, SentArtifact, pack_kit, sent_artifact
from zygal.cluster.probe import Probed, judge, make_probe
from zygal.cluster.run import Run
from zygal.cluster.worker import call, states_of
from zygal.cluster.workers import Workers, engine_faults
from zygal.errors import ClusterError
from zygal.locations import is_url
from zygal.prediction.blocks import Block, OfBlock, ReadStates, blocks_of
from zygal.prediction.classifier import Classifier
from zygal.prediction.image_states import state_of

FIRST_IMAGES = 1_000
"""So many images of a run are looked for on every worker before it begins."""


@dataclass
class ClusterPool:
    """A pool whose workers are those of a cluster; `admit` comes first. Workers that come later are examined in the same way when
    they first ask for work.

    notes: what was noticed about workers. elsewhere: the workers read the images themselves.
    """

    client: Any
    artifacts: tuple[SentArtifact, ...] = ()
    notes: list[str] = field(default_factory=list)
    elsewhere: bool = True
    _probe: Kit | None = None
    _here: Probed | None = None
    _in_8_bits: bool = False

    def admit(self, *classifiers: Classifier) -> None:
        """Examines all workers before anything is written. Raises ClusterError if one does not fit, or any ZygalError."""
        from zygal.artifact import read_artifact

        self.artifacts = tuple(sent_artifact(each.path) for each in classifiers)
        probe = make_probe(*classifiers)
        self._probe, self._here = pack_kit(probe, self.artifacts), probe()
        self._in_8_bits = any(read_artifact(each.path, each.output).metadata.in_8_bits for each in classifiers)
        self.notes += self.welcome(self.workers.addresses())

    @property
    def workers(self) -> Workers:
        return Workers(self.client)

    def welcome(self, addresses: list[str]) -> list[str]:
        """Examines workers: notes on what differs there. Raises ClusterError."""
        self.workers.check_versions(addresses)
        self.workers.supply(self._probe, addresses)
        return judge(self._here, self.workers.ask(addresses, call, self._probe.key), self._in_8_bits)

    def check_visible(self, names: Iterable[str]) -> None:
        """Raises ClusterError if a worker does not see files that are here, or sees other files. Of URLs one is looked at."""
        names = list(names)
        chosen = [name for name in names if not is_url(name)] + [name for name in names if is_url(name)][:1]
        blocks = list(blocks_of(chosen))
        here = [ReadStates()(block)[1] for block in blocks]
        for address, there in self.workers.ask(self.workers.addresses(), states_of, blocks, os.getcwd()).items():
            for block, mine, theirs in zip(blocks, here, there):
                for name, local, remote in zip(block.names, mine, theirs):
                    if not local.is_missing and remote.is_missing:
                        raise _unseen(name, f"the worker {address}")
                    if not local.is_missing and local.size_bytes != remote.size_bytes:
                        raise ClusterError(
                            f"{name} has {local.size_bytes} bytes here and {remote.size_bytes} bytes on the worker {address}; give a folder that all see alike."
                        )

    def map(self, work: Callable[[Block], Any], items: Iterable[Any], group_size: int | None = None, slots: int | None = None) -> Iterator[Any]:
        """The results for blocks, in their order. group_size: blocks that a worker is given at a time, by measured speed unless given; slots: as if there were so many.
        Raises ClusterError, and any ZygalError that the work raises."""
        run = Run(self, work, pack_kit(work, self.artifacts), items, group_size, slots)
        try:
            with engine_faults(self.client):
                for result in run.results():
                    for name in result.missing if isinstance(result, OfBlock) else ():
                        if not state_of(name).is_missing:
                            raise _unseen(name, "a worker")
                    yield result
        finally:
            run.close()


def _unseen(name: str, by: str) -> ClusterError:
    return ClusterError(f"{name} is seen here but not by {by}; give images in a folder that all workers see, or at URLs.")
