"""The examination of workers: whether they fit this machine, have what they need, and see the images."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from zygal.cluster.kit import Kit, SentArtifact, pack_kit, sent_artifact
from zygal.cluster.probe import Probed, judge, make_probe
from zygal.cluster.worker import call_once, states_of
from zygal.cluster.workers import Workers
from zygal.errors import ClusterError
from zygal.files.locations import is_url
from zygal.prediction.blocks import ReadStates, blocks_of
from zygal.prediction.classifier import Classifier

FIRST_IMAGES = 1_000
"""So many images of a run are looked for on every worker before it begins."""


@dataclass
class Admission:
    """`admit` comes first; workers that come later are welcomed when they first ask for work. client: of the engine.
    artifacts: those that the work opens. notes: what was noticed about workers."""

    client: Any
    artifacts: tuple[SentArtifact, ...] = ()
    notes: list[str] = field(default_factory=list)
    _probe: Kit | None = None
    _here: Probed | None = None
    _in_8_bits: bool = False

    def admit(self, *classifiers: Classifier) -> None:
        """Examines all workers before anything is written. Raises ClusterError if one does not fit, or any
        ZygalError."""
        from zygal.artifact.formats import read_artifact

        self.artifacts = tuple(sent_artifact(each.path) for each in classifiers)
        probe = make_probe(*classifiers)
        self._probe, self._here = pack_kit(probe, self.artifacts), probe()
        self._in_8_bits = any(read_artifact(each.path, each.output).metadata.in_8_bits for each in classifiers)
        self.notes += self.welcome(self.workers.addresses())

    @property
    def workers(self) -> Workers:
        """The workers that may be given work."""
        return Workers(self.client)

    def welcome(self, addresses: list[str]) -> list[str]:
        """Examines workers: notes on what differs there. Raises ClusterError."""
        self.workers.check_versions(addresses)
        self.workers.supply(self._probe, addresses)
        return judge(self._here, self.workers.ask(addresses, call_once, self._probe.key), self._in_8_bits)

    def check_visible(self, names: Iterable[str]) -> None:
        """Raises ClusterError if a worker does not see files that are here, or sees other files. Of URLs one is looked
        at."""
        names = list(names)
        chosen = [name for name in names if not is_url(name)] + [name for name in names if is_url(name)][:1]
        blocks = list(blocks_of(chosen))
        here = [ReadStates()(block)[1] for block in blocks]
        for address, there in self.workers.ask(self.workers.addresses(), states_of, blocks, os.getcwd()).items():
            for block, mine, theirs in zip(blocks, here, there):
                for name, local, remote in zip(block.names, mine, theirs):
                    if not local.is_missing and remote.is_missing:
                        raise unseen(name, f"the worker {address}")
                    if not local.is_missing and local.size_bytes != remote.size_bytes:
                        raise ClusterError(
                            f"{name} has {local.size_bytes} bytes here and {remote.size_bytes} bytes on the "
                            f"worker {address}; give a folder that all see alike."
                        )


def unseen(name: str, by: str) -> ClusterError:
    """The error of a path that only this machine sees."""
    return ClusterError(
        f"{name} is seen here but not by {by}; give images in a folder that all workers see, or at URLs."
    )
