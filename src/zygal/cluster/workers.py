"""The workers of a cluster: asking each of them, and giving each what it needs."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from pydoc import locate
from typing import Any

from zygal import __version__
from zygal.cluster.kit import Kit, SentArtifact
from zygal.errors import ClusterError, ZygalError, first_line, install_extra

ANSWER_SECONDS = 300.0
"""A worker that takes longer to open an artifact is not waited for."""
_POLL_SECONDS = 1.0


class Workers:
    """client: of the engine."""

    def __init__(self, client: Any):
        self.client = client

    def addresses(self) -> list[str]:
        """The addresses of all workers that are there now."""
        return list(self.slots())

    def slots(self) -> dict[str, int]:
        """How many tasks each worker runs at once. Raises ClusterError if the scheduler is gone."""
        try:
            return dict(self.client.nthreads())
        except Exception as fault:
            raise scheduler_gone(fault) from fault

    def check_versions(self, addresses: Sequence[str]) -> None:
        """Raises ClusterError if a worker has no Zygal, or another release."""
        with engine_faults(self.client):
            found = (
                self.client.run(locate, "zygal.__version__", workers=list(addresses), on_error="return")
                if addresses
                else {}
            )
        present = self.slots()
        for address, version in found.items():
            if address not in present:
                continue
            if version is None or isinstance(version, Exception):
                why = f" ({first_line(version)})" if version is not None else ""
                raise ClusterError(
                    f"the worker {address} has no package zygal{why}; {install_extra('cluster')} in the "
                    f"environment of every worker."
                )
            if version != __version__:
                raise ClusterError(
                    f"the worker {address} has Zygal {version}, but {__version__} runs here; install the same "
                    f"release everywhere."
                )

    def ask(self, addresses: Sequence[str], function: Callable, *arguments: Any) -> dict[str, Any]:
        """What each worker answers to a call, as a task of its own. Workers that go away meanwhile are left out. Raises
        what a call raises, as a ClusterError if it is no ZygalError."""
        with engine_faults(self.client):
            futures = {
                address: self.client.submit(
                    function, *arguments, workers=[address], allow_other_workers=False, pure=False, priority=100
                )
                for address in addresses
            }
        answers: dict[str, Any] = {}
        deadline, something = time.monotonic() + ANSWER_SECONDS, threading.Event()
        for each in futures.values():
            each.add_done_callback(lambda done: something.set())
        while futures:
            something.wait(_POLL_SECONDS)
            something.clear()
            for address, future in list(futures.items()):
                if future.done():
                    del futures[address]
                    answers[address] = self._answer(address, future)
            if futures:
                present = self.slots()
                futures = {address: future for address, future in futures.items() if address in present}
            if futures and time.monotonic() > deadline:
                raise ClusterError(
                    f"the worker {next(iter(futures))} does not answer within {ANSWER_SECONDS:g} s; restart it."
                )
        return answers

    def _answer(self, address: str, future: Any) -> Any:
        try:
            return future.result()
        except ZygalError:
            raise
        except Exception as fault:
            raise failure(self.client, address, fault) from fault

    def supply(self, kit: Kit, addresses: Sequence[str]) -> None:
        """Gives workers a kit, and the artifacts that they do not see. Raises ClusterError."""
        from zygal.cluster.worker import receive

        lacking = {address: keys for address, keys in self.ask(addresses, receive, kit).items() if keys}
        for artifact in kit.artifacts:
            self._send(artifact, [address for address, keys in lacking.items() if artifact.key in keys])
        if lacking:
            left = [address for address, keys in self.ask(list(lacking), receive, kit).items() if keys]
            if left:
                raise ClusterError(
                    f"the worker {left[0]} cannot keep the artifact that was sent to it; check the room in its "
                    f"local folder."
                )

    def _send(self, artifact: SentArtifact, addresses: Sequence[str]) -> None:
        """The files of an artifact go to one worker; the others fetch them from those that have them."""
        from zygal.cluster.worker import store

        if not addresses:
            return
        contents = [Path(each.path).read_bytes() for each in artifact.files]
        try:
            (held,) = self.client.scatter([contents], workers=[addresses[0]], hash=False)
        except Exception as fault:
            if addresses[0] in self.slots():
                raise failure(self.client, addresses[0], fault) from fault
            self._send(artifact, addresses[1:])
            return
        self.ask(addresses, store, artifact, held)


def scheduler_gone(fault: BaseException) -> ClusterError:
    """The error of a scheduler that does not answer."""
    return ClusterError(
        f"the scheduler went away ({first_line(fault)}); start it again, and run the same command to go on."
    )  # type: ignore[arg-type]


def failure(client: Any, worker: str, fault: Exception) -> ClusterError:
    """What to raise for an error that a worker or the engine gives."""
    if client.status != "running" or {"CancelledError", "CommClosedError"} & {
        kind.__name__ for kind in type(fault).__mro__
    }:
        return scheduler_gone(fault)
    return ClusterError(f"the worker {worker} failed: {type(fault).__name__}: {first_line(fault)}.")


@contextmanager
def engine_faults(client: Any) -> Iterator[None]:
    """What the engine raises when its connections break, as a ClusterError."""
    try:
        yield
    except (ZygalError, GeneratorExit):
        raise
    except Exception as fault:
        raise failure(client, "that was asked", fault) from fault
