"""An ordered map over blocks of files on the workers of a cluster."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any

from zygal.cluster.admission import Admission, unseen
from zygal.cluster.kit import pack_kit
from zygal.cluster.run import Run
from zygal.cluster.workers import engine_faults
from zygal.prediction.blocks import Block, OfBlock
from zygal.prediction.image_states import state_of


@dataclass
class ClusterPool(Admission):
    """A pool whose workers are those of a cluster, once they were admitted. elsewhere: they read the images
    themselves."""

    elsewhere: bool = True

    def map(
        self,
        work: Callable[[Block], Any],
        items: Iterable[Any],
        group_size: int | None = None,
        slots: int | None = None,
    ) -> Iterator[Any]:
        """The results for blocks, in their order. group_size: blocks that a worker is given at a time, by measured
        speed unless given; slots: as if there were so many. Raises ClusterError, and any ZygalError that the work
        raises."""
        run = Run(self, work, pack_kit(work, self.artifacts), items, group_size, slots)
        try:
            with engine_faults(self.client):
                for result in run.results():
                    for name in result.missing if isinstance(result, OfBlock) else ():
                        if not state_of(name).is_missing:
                            raise unseen(name, "a worker")
                    yield result
        finally:
            run.close()
