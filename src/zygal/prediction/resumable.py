"""A file of rows that survives its own writing: whatever ends the run, the same call goes on where the rows end.

Beside FILE there are, while it is being written, FILE.unfinished with the rows, FILE.run.json with what the run is, how
many rows are safe and how many bytes they take, and FILE.run.lock, which one process holds. Bytes beyond the safe rows are
cut off when the run is resumed. The rows reach the disk before the account of them does, so that a power cut cannot leave
an account of rows that are not there. FILE appears when it is whole; FILE.run.json stays and says what made it.

Everything that changes is one immutable record, exchanged in one step: wherever an interrupt falls, what is in memory and
what is on the disk each fit together.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, field, replace
from io import RawIOBase
from itertools import islice
from pathlib import Path
from typing import Any

from zygal.prediction.lock import held_alone
from zygal.documents import Misfit, mapping, parse_json, rebuilt, record, truth, whole
from zygal.errors import OutputError, shown
from zygal.files import check_writable, open_file, read_bytes, sync_folder, write_failure

VERSION = 1
COMMIT_SECONDS, COMMIT_SHARE = 0.25, 20
"""Rows are made safe this often, or more rarely where the disk takes more than a twentieth of the time for it."""
_LARGEST_ACCOUNT_BYTES = 64_000_000


@dataclass(frozen=True)
class Account:
    """What FILE.run.json says. made_by: what the rows depend on, by names that a message can use. counts: of whatever the
    run counts. names_sha256: of the files' names, one a line, in the order of the rows."""

    made_by: dict[str, Any]
    finished: bool = False
    rows: int = 0
    bytes: int = 0
    counts: dict[str, int] = field(default_factory=dict)
    names_sha256: str = hashlib.sha256().hexdigest()


@dataclass(frozen=True)
class _Progress:
    """The rows that are written, safe or not. names: the hash of their files' names, never updated but copied."""

    rows: int = 0
    bytes: int = 0
    counts: Counter = field(default_factory=Counter)
    names: Any = field(default_factory=hashlib.sha256)

    def after(self, names: list[str], size: int, counts: Counter) -> _Progress:
        digest = self.names.copy()
        for name in names:
            digest.update(os.fsencode(name) + b"\n")
        return _Progress(self.rows + len(names), self.bytes + size, self.counts + Counter(counts), digest)


class ResumableRows:
    """The rows of one run, made or being made; open them by `open_rows`."""

    def __init__(self, path: Path, account: Account, file: RawIOBase | None):
        self.path, self.account, self._file = path, account, file
        self.resumed = account.rows
        self._written = _Progress(account.rows, account.bytes, Counter(account.counts))
        self._committed, self._pause = time.monotonic(), 0.0

    @property
    def finished(self) -> bool:
        return self.account.finished

    @property
    def rows(self) -> int:
        """How many rows are written."""
        return self._written.rows

    @property
    def counts(self) -> Counter:
        return self._written.counts

    def pass_over(self, names: Iterator[str]) -> None:
        """Goes past the names whose rows are there. Raises OutputError if they are others than those of the rows."""
        passed, digest = 0, hashlib.sha256()
        for name in islice(names, self.account.rows):
            digest.update(os.fsencode(name) + b"\n")
            passed += 1
        if passed < self.account.rows or digest.hexdigest() != self.account.names_sha256:
            raise OutputError(
                f"{self.path} was started with other images, or in another order; name the same images, "
                "give another file, or start again with --overwrite."
            )
        if self.finished and next(names, None) is not None:
            raise OutputError(
                f"{self.path} is complete, but more images are named now than it has rows ({self.account.rows}); give "
                "another file, or start again with --overwrite."
            )
        self._written = replace(self._written, names=digest)

    def append(self, data: bytes, names: list[str], counts: Counter) -> None:
        """Adds rows, and makes all rows so far safe if it is time. Raises OutputError."""
        written = self._written.after(names, len(data), counts)
        try:
            # An interrupt may have left a part of rows behind those that count.
            self._file.seek(self._written.bytes)
            self._file.truncate()
            _write_all(self._file, data)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self._written = written
        if time.monotonic() - self._committed > max(COMMIT_SECONDS, COMMIT_SHARE * self._pause):
            self.commit()

    def commit(self, finished: bool = False) -> None:
        """Makes the rows so far safe. Raises OutputError."""
        began, written = time.monotonic(), self._written
        account = Account(self.account.made_by, finished, written.rows, written.bytes, dict(written.counts),
                          written.names.hexdigest())  # fmt: skip
        try:
            os.fsync(self._file.fileno())
            _write_account(self.path, account)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self.account = account
        self._committed = time.monotonic()
        self._pause = self._committed - began

    def begin(self, heading: bytes) -> None:
        """Begins anew. Raises OutputError."""
        # First the account says that nothing is there, then what lies there goes.
        self._written = _Progress()
        self.commit()
        try:
            self._file.seek(0)
            self._file.truncate()
            _write_all(self._file, heading)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self._written = _Progress(bytes=len(heading))
        self.commit()

    def discard(self) -> None:
        """Takes away what there is of the run."""
        self.account = Account(self.account.made_by)
        self._written = _Progress()
        for each in (_account_file(self.path), _rows_file(self.path)):
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
    """The rows of a run, to be gone on with or already finished. What is safe when the block is left stays.

    Raises OutputError if FILE, or what there is of it, comes from another run, or if another process writes it.
    """
    path = Path(path)
    check_writable(path)
    with held_alone(_lock_file(path), path):
        account = None if overwrite else _earlier(path, made_by)
        if account is not None and account.finished:
            if _is_whole(_rows_file(path), account):
                # It was cut off between the last row and the name.
                _deliver(path, convert)
            yield ResumableRows(path, account, None)
            return
        try:
            # Without a buffer: what could not be written must not be tried again when the file is closed.
            file = open(_rows_file(path), "r+b" if os.path.exists(_rows_file(path)) else "w+b", buffering=0)  # noqa: SIM115
        except OSError as fault:
            raise write_failure(path, fault) from fault
        with file:
            rows = ResumableRows(path, account or Account(made_by), file)
            if rows.resumed and file.seek(0, os.SEEK_END) < rows.account.bytes:
                raise OutputError(f"{_rows_file(path)} is shorter than the last run left it; start again with --overwrite.")
            try:
                if not rows.resumed:
                    rows.begin(heading)
                yield rows
            finally:
                rows.leave()


def _is_whole(rows: Path, account: Account) -> bool:
    return os.path.isfile(rows) and os.path.getsize(rows) == account.bytes


def _write_all(file: RawIOBase, data: bytes) -> None:
    """A disk that is nearly full takes a part, and refuses the rest when it is asked again."""
    while data:
        data = data[file.write(data) :]


def _hash(value: Any) -> str:
    if not isinstance(value, str) or len(value) != 64 or set(value) - set("0123456789abcdef"):
        raise Misfit("a SHA-256", value)
    return value


_ACCOUNT = record({
    "zygal_run": whole(VERSION, VERSION), "made_by": mapping(lambda value: value), "finished": truth, "rows": whole(0),
    "bytes": whole(0), "counts": mapping(whole(0)), "names_sha256": _hash,
})  # fmt: skip


def _earlier(path: Path, made_by: dict[str, Any]) -> Account | None:
    """The account of an earlier call of the same run, or None if there is nothing. Raises FileError or OutputError."""
    account_path = _account_file(path)
    if not os.path.lexists(account_path):
        if os.path.lexists(path):
            raise OutputError(
                f"{path} exists and is not a result of zygal classify; give another name, or add --overwrite to replace it."
            )
        return None
    advice = f"{account_path} is not a run record that this release can resume (give another file, or start again with --overwrite)"
    document = rebuilt(
        parse_json(read_bytes(account_path, "an account of a run", _LARGEST_ACCOUNT_BYTES), advice, OutputError),
        _ACCOUNT, advice, OutputError,
    )  # fmt: skip
    del document["zygal_run"]
    account = Account(**document)
    now = json.loads(json.dumps(made_by))
    others = [name for name in (*now, *account.made_by) if now.get(name) != account.made_by.get(name)]
    if others:
        name = others[0]
        state = "written" if account.finished else "started"
        raise OutputError(
            f"{path} was {state} by another run: {shown(name).strip(chr(39))} was {shown(account.made_by.get(name), 40)} and is now "
            f"{shown(now.get(name), 40)}; give another file, or start again with --overwrite."
        )
    if account.finished and not os.path.exists(path) and not os.path.exists(_rows_file(path)):
        return None
    return account


def _deliver(path: Path, convert: Callable[[Path, Path], None] | None) -> None:
    """The rows under the name that was asked for. What is cut off here is done again by the next call. Raises OutputError."""
    rows, made = _rows_file(path), _rows_file(path)
    try:
        if convert is not None:
            # One name, so that what a killed process leaves is written over by the next one.
            made = _converted_file(path)
            convert(rows, made)
            with open_file(made) as file:
                os.fsync(file.fileno())
        os.replace(made, path)
        sync_folder(path.parent)
        rows.unlink(missing_ok=True)
    except OSError as fault:
        raise write_failure(path, fault) from fault


def _write_account(path: Path, account: Account) -> None:
    target = _account_file(path)
    new = _new(target)
    with new.open("w", encoding="utf-8") as file:
        json.dump({"zygal_run": VERSION, **asdict(account)}, file, indent=1)
        file.flush()
        os.fsync(file.fileno())
    os.replace(new, target)


def files_of(path: str | Path | None) -> list[str]:
    """What there may be beside FILE because of its run."""
    if path is None:
        return []
    account = _account_file(Path(path))
    others = (_rows_file(Path(path)), account, _new(account), _lock_file(Path(path)), _converted_file(Path(path)))
    return [str(each) for each in others]


def _new(account: Path) -> Path:
    return account.with_name(account.name + ".new")


def _rows_file(path: Path) -> Path:
    return path.with_name(path.name + ".unfinished")


def _converted_file(path: Path) -> Path:
    return path.with_name(path.name + ".unfinished.converted")


def _account_file(path: Path) -> Path:
    return path.with_name(path.name + ".run.json")


def _lock_file(path: Path) -> Path:
    return path.with_name(path.name + ".run.lock")
