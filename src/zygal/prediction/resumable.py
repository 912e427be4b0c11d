"""A file of rows that survives its own writing: whatever ends the run, the same command resumes it.

Beside FILE there are, while it is being written, FILE.unfinished with the rows, FILE.run.images with what each image
was, FILE.run.json with what the run is, how many rows are safe and how many bytes they take, and FILE.run.lock, which
one process holds. Bytes beyond the safe rows are cut off when the run is resumed. The rows reach the disk before the
record of them does, so that a power cut cannot leave a record of rows that are not there. FILE appears when it is
whole; FILE.run.json and FILE.run.images stay and say what made it.

Everything that changes is one immutable record, exchanged in one step: wherever an interrupt falls, what is in memory
and what is on the disk each fit together.
"""

from __future__ import annotations

import hashlib
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from io import RawIOBase
from itertools import islice
from pathlib import Path
from typing import Any

from zygal.errors import OutputError, without_secrets
from zygal.files.opening import open_file
from zygal.files.writing import check_writable, sync_folder, write_failure
from zygal.machine.pool import Pool, ThreadPool
from zygal.prediction.blocks import ReadStates, blocks_of
from zygal.prediction.image_states import read_states
from zygal.prediction.lock import held_alone
from zygal.prediction.run_record import (
    RunRecord,
    converted_file,
    earlier_record,
    lock_file,
    record_file,
    rows_file,
    states_file,
    write_record,
)

COMMIT_SECONDS, COMMIT_SHARE = 0.25, 20
"""Rows are made safe this often, or more rarely where the disk takes more than a twentieth of the time for it."""


@dataclass(frozen=True)
class _Progress:
    """The rows that are written, safe or not. names: the hash of their files' names, never updated but copied."""

    rows: int = 0
    bytes: int = 0
    states_bytes: int = 0
    counts: Counter = field(default_factory=Counter)
    names: Any = field(default_factory=hashlib.sha256)

    def after(self, names: Sequence[str], size: int, states_size: int, counts: Counter) -> _Progress:
        digest = self.names.copy()
        for name in names:
            digest.update(_line_of(name))
        return _Progress(
            self.rows + len(names), self.bytes + size, self.states_bytes + states_size, self.counts + counts, digest
        )


def _line_of(name: str) -> bytes:
    """What a name counts as: signatures of URLs are renewed, so that a run goes on with other ones."""
    return os.fsencode(without_secrets(name)) + b"\n"


class ResumableRows:
    """The rows of one run, made or being made; open them by `open_rows`."""

    def __init__(self, path: Path, run_record: RunRecord, file: RawIOBase | None, states: RawIOBase | None):
        self.path, self.run_record, self._file, self._states = path, run_record, file, states
        self.resumed = run_record.rows
        self._written = _Progress(
            run_record.rows, run_record.bytes, run_record.states_bytes, Counter(run_record.counts)
        )
        self._committed, self._pause = time.monotonic(), 0.0
        # Whether the files may hold more than what is written by the account, or are not at its end.
        self._torn = True

    @property
    def finished(self) -> bool:
        """Whether the output is complete."""
        return self.run_record.finished

    @property
    def rows(self) -> int:
        """How many rows are written."""
        return self._written.rows

    @property
    def counts(self) -> Counter:
        """What is counted of the rows that are written."""
        return self._written.counts

    def pass_over(self, names: Iterator[str], hashed: bool = False, pool: Pool | None = None) -> list[int]:
        """Goes past the names whose rows are there: the numbers of those whose images are others now. pool: looks at
        the images. Raises OutputError if the names are others than those of the rows."""
        passed, digest, changed = 0, hashlib.sha256(), []
        states = read_states(states_file(self.path), self.run_record.rows)
        blocks = blocks_of(islice(names, self.run_record.rows))
        for block, found in (pool or ThreadPool()).map(ReadStates(hashed), blocks):
            for name, state in zip(block, found):
                digest.update(_line_of(name))
                if not next(states).image.same_as(state):
                    changed.append(passed)
                passed += 1
        if passed < self.run_record.rows or digest.hexdigest() != self.run_record.names_sha256:
            raise OutputError(
                f"{self.path} was started with other images, or in another order; name the same images, "
                "give another file, or start again with --overwrite."
            )
        if self.finished and next(names, None) is not None:
            raise OutputError(
                f"{self.path} is complete, but more images are named now than it has rows ({self.run_record.rows}); "
                "give another file, or start again with --overwrite."
            )
        self._written = replace(self._written, names=digest)
        return changed

    def append(self, data: bytes, names: Sequence[str], lines: bytes, counts: Counter) -> None:
        """Adds rows, with the lines that say what their images were, and makes all rows so far safe if it is time.
        Raises OutputError."""
        written = self._written.after(names, len(data), len(lines), counts)
        try:
            if self._torn:
                # An interrupt may have left a part of rows behind those that count.
                for file, size in ((self._file, self._written.bytes), (self._states, self._written.states_bytes)):
                    file.seek(size)
                    file.truncate()
            self._torn = True
            _write_all(self._file, data)
            _write_all(self._states, lines)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self._written = written
        self._torn = False
        if time.monotonic() - self._committed > max(COMMIT_SECONDS, COMMIT_SHARE * self._pause):
            self.commit()

    def commit(self, finished: bool = False) -> None:
        """Makes the rows so far safe. Raises OutputError."""
        began, written = time.monotonic(), self._written
        run_record = RunRecord(
            self.run_record.made_by,
            finished,
            written.rows,
            written.bytes,
            written.states_bytes,
            dict(written.counts),
            written.names.hexdigest(),
        )
        try:
            os.fsync(self._file.fileno())
            os.fsync(self._states.fileno())
            write_record(self.path, run_record)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self.run_record = run_record
        self._committed = time.monotonic()
        self._pause = self._committed - began

    def begin(self, heading: bytes) -> None:
        """Starts from the beginning. Raises OutputError."""
        # First the account says that nothing is there, then what lies there goes.
        self._written = _Progress()
        self.commit()
        try:
            for file in (self._file, self._states):
                file.seek(0)
                file.truncate()
            _write_all(self._file, heading)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self._written = _Progress(bytes=len(heading))
        self.commit()

    def discard(self) -> None:
        """Takes away what there is of the run."""
        self.run_record = RunRecord(self.run_record.made_by)
        self._written = _Progress()
        for each in (record_file(self.path), rows_file(self.path), states_file(self.path)):
            each.unlink(missing_ok=True)

    def finish(self, convert: Callable[[Path, Path], None] | None) -> None:
        """Gives the whole file its name; `convert` makes it of the rows where it has another form."""
        self.commit(finished=True)
        _deliver(self.path, convert)

    def leave(self) -> None:
        """What is done whatever ended the run: the rows so far are made safe, and of none nothing is left."""
        if self.finished:
            return
        if not self.rows:
            self.discard()
            return
        # Why the block is left matters more than rows that could not be made safe: they are made again.
        with suppress(OutputError):
            self.commit()


@contextmanager
def open_rows(
    path: str | Path,
    made_by: dict[str, Any],
    heading: bytes,
    convert: Callable[[Path, Path], None] | None = None,
    overwrite: bool = False,
) -> Iterator[ResumableRows]:
    """The rows of a run, to be resumed or already complete. Rows that are safe when the block ends are kept.

    Raises OutputError if FILE, or what there is of it, comes from another run, or if another process writes it.
    """
    path = Path(path)
    check_writable(path)
    with held_alone(lock_file(path), path):
        run_record = None if overwrite else earlier_record(path, made_by)
        if run_record is not None and run_record.finished:
            if _is_whole(rows_file(path), run_record):
                # It was cut off between the last row and the name.
                _deliver(path, convert)
            yield ResumableRows(path, run_record, None, None)
            return
        with _opened(rows_file(path)) as file, _opened(states_file(path)) as states:
            rows = ResumableRows(path, run_record or RunRecord(made_by), file, states)
            for each, size in ((file, rows.run_record.bytes), (states, rows.run_record.states_bytes)):
                if rows.resumed and each.seek(0, os.SEEK_END) < size:
                    raise OutputError(
                        f"{each.name} is shorter than the last run left it; start again with --overwrite."
                    )
            try:
                if not rows.resumed:
                    rows.begin(heading)
                yield rows
            finally:
                rows.leave()


def _opened(path: Path) -> RawIOBase:
    """Without a buffer: what could not be written must not be tried again when the file is closed. Raises
    OutputError."""
    try:
        return open(path, "r+b" if os.path.exists(path) else "w+b", buffering=0)
    except OSError as fault:
        raise write_failure(path, fault) from fault


def _is_whole(rows: Path, run_record: RunRecord) -> bool:
    return os.path.isfile(rows) and os.path.getsize(rows) == run_record.bytes


def _write_all(file: RawIOBase, data: bytes) -> None:
    """A disk that is nearly full takes a part, and refuses the rest when it is asked again."""
    while data:
        data = data[file.write(data) :]


def _deliver(path: Path, convert: Callable[[Path, Path], None] | None) -> None:
    """The rows under the name that was asked for. What is cut off here is done again by the next call. Raises
    OutputError."""
    rows, made = rows_file(path), rows_file(path)
    try:
        if convert is not None:
            # One name, so that what a killed process leaves is written over by the next one.
            made = converted_file(path)
            convert(rows, made)
            with open_file(made) as file:
                os.fsync(file.fileno())
        os.replace(made, path)
        sync_folder(path.parent)
        rows.unlink(missing_ok=True)
    except OSError as fault:
        raise write_failure(path, fault) from fault
