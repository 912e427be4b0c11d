"""What can be measured: an artifact in the runtime, and compared with it other artifacts or a source in its live framework."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from functools import partial
from pathlib import Path
from typing import Protocol

from zygal.bench.feeds import Feeds, Given
from zygal.bench.settings import Setting
from zygal.engines.keras import COMPILED, EAGER
from zygal.engines.live import open_live_engine
from zygal.engines.pytorch import CAPTURED, MODULE
from zygal.engines.session import SessionSettings, open_session, runtime_name
from zygal.errors import BenchError, ZygalError, first_line
from zygal.sources.opened import SourceFile

Run = Callable[[], object]


class Subject(Protocol):
    """name: what the user calls it. engine: what runs it."""

    name: str
    engine: str

    def run_at(self, setting: Setting) -> Run:
        """One run of a batch at a setting."""
        ...

    def again(self) -> Subject:
        """The same in other places of the memory, if that can be had at little cost."""
        ...


class ArtifactSubject:
    """An artifact in sessions of ONNX Runtime: one for each number of threads, level and execution.

    Raises ArtifactError, or BenchError where it is not known what to feed.
    """

    def __init__(self, path: str | Path, given: Given):
        self.name, self.engine = str(path), runtime_name()
        self._sessions: dict[tuple, object] = {}
        self._tried: set[Setting] = set()
        # This session is not kept: what is measured has its own.
        self.feeds = Feeds(open_session(path, SessionSettings(1)), given, path)

    def run_at(self, setting: Setting) -> Run:
        run = partial(self.session(*setting.session).run, None, self.feeds.of(setting.batch))
        if setting not in self._tried:
            try:
                run()
            except Exception as fault:  # The runtime's exceptions share no class of their own.
                raise BenchError(
                    f"{self.name} cannot be run on a batch of {setting.batch} ({first_line(fault)})."
                ) from fault
            self._tried.add(setting)
        return run

    def again(self) -> ArtifactSubject:
        """The same artifact in sessions of its own, fed the same numbers: what differs between the two is noise."""
        other = copy(self)
        other._sessions, other.feeds = {}, self.feeds.again()
        return other

    def session(self, threads: int, level: str, execution: str):
        key = threads, level, execution
        if key not in self._sessions:
            path = self.name
            self._sessions[key] = open_session(path, SessionSettings(threads, level, execution))
        return self._sessions[key]


WAYS = {
    MODULE: "the module itself, evaluation mode, no gradients",
    CAPTURED: "the captured program, no gradients",
    COMPILED: "compiled prediction on a batch",
    EAGER: "layer by layer, not compiled",
}
"""What the ways to run a live model are, for the reader of a table."""


class LiveSubject:
    """A source in the framework that made it, fed what the artifact is fed.

    way: how it is run, of the ways that the source has; the usual one unless given. Raises EngineError, SourceError or BenchError.
    """

    def __init__(self, source: SourceFile, feeds: Feeds, way: str | None = None):
        live = open_live_engine(source)
        self.name, self._live, self._feeds = source.name, live, feeds
        if way is not None and way not in live.ways:
            raise BenchError(f"--compare-as {way} does not apply to {self.name}; it can be run as {' or '.join(live.ways)}.")
        self.way = way or live.ways[0]
        self.framework = f"{live.name} {live.version}"
        self.engine = f"{self.framework} ({WAYS[self.way]})"
        self._tried: set[Setting] = set()
        if len(feeds.inputs) > 1:
            raise BenchError(f"{feeds.artifact} has several inputs, so {self.name} cannot be compared with it.")
        if live.batch_size is not None:
            raise BenchError(
                f"{self.name} was captured with a fixed batch of {live.batch_size}, so it cannot be compared with the artifact at "
                "other batch sizes; capture it with a dynamic batch."
            )

    def run_at(self, setting: Setting) -> Run:
        (array,) = self._feeds.of(setting.batch).values()
        live, threads = self._live, setting.threads
        if setting not in self._tried:
            live.use_threads(threads)
            try:
                live.run(array)
            except ZygalError as fault:
                raise BenchError(f"{self.name} does not take what {self._feeds.artifact} takes: {fault}") from fault
            self._tried.add(setting)
        call = live.prepared(array, self.way)

        def run() -> object:
            live.use_threads(threads)
            return call()

        return run

    def again(self) -> LiveSubject:
        return self

    @property
    def keeps_threads(self) -> bool:
        """Whether the framework uses as many threads as it is told."""
        return self._live.use_threads(1)
