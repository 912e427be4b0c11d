"""What can be measured: an artifact in the runtime, and compared with it other artifacts or a source in its live
framework."""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from functools import partial
from pathlib import Path
from typing import Protocol

from zygal.bench.feeds import Feeds, Given
from zygal.bench.live_process import WAYS, LiveProcess
from zygal.bench.settings import Setting
from zygal.engines.session import Session, SessionSettings, open_session
from zygal.errors import BenchError, first_line

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
    """An artifact in sessions of its runtime: one for each number of threads, level and execution.

    Raises ArtifactError, or BenchError where it is not known what to feed.
    """

    def __init__(self, path: str | Path, given: Given):
        self.name = str(path)
        self._sessions: dict[tuple, Session] = {}
        self._tried: set[Setting] = set()
        # This session is not kept: what is measured has its own.
        session = open_session(path, SessionSettings(1))
        self.engine, self.feeds = session.runtime, Feeds(session, given, path)

    def run_at(self, setting: Setting) -> Run:
        """See `Subject.run_at`."""
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

    def session(self, threads: int, level: str, execution: str) -> Session:
        """The session of these settings, opened once."""
        key = threads, level, execution
        if key not in self._sessions:
            path = self.name
            self._sessions[key] = open_session(path, SessionSettings(threads, level, execution))
        return self._sessions[key]


class LiveSubject:
    """A source in the framework that made it, in a process of its own, fed what the artifact is fed. Raises
    BenchError."""

    def __init__(self, live: LiveProcess, feeds: Feeds):
        self.name, self._live, self._feeds = live.name, live, feeds
        self.framework, self.keeps_threads = live.about["framework"], live.about["keeps_threads"]
        self.notes, self.process_id = tuple(live.about["notes"]), live.process_id
        self.engine = f"{self.framework} ({WAYS[live.about['way']]})"
        if len(feeds.inputs) > 1:
            raise BenchError(f"{feeds.artifact} has several inputs, so {self.name} cannot be compared with it.")
        if live.about["batch_size"] is not None:
            raise BenchError(
                f"{self.name} was captured with a fixed batch of {live.about['batch_size']}, so it cannot be compared "
                "with the artifact at other batch sizes; capture it with a dynamic batch."
            )

    def run_at(self, setting: Setting) -> Run:
        """See `Subject.run_at`."""
        (array,) = self._feeds.of(setting.batch).values()
        try:
            self._live.prepare(array)
        except BenchError as fault:
            raise BenchError(f"{self.name} does not take what {self._feeds.artifact} takes: {fault}") from fault
        return self._live.call(setting.batch, setting.threads)

    def again(self) -> LiveSubject:
        """Itself: a live model is loaded once."""
        return self
