"""A file of rows that survives its own writing: whatever ends the run, the same call goes on where the rows end.

Beside FILE there are, while it is being written, FILE.unfinished with the rows, and FILE.run.json with what the run is, how
many rows are safe and how many bytes they take. Bytes beyond those are cut off when the run is resumed. The rows reach the
disk before the account of them does, so that a power cut cannot leave an account of rows that are not there. FILE appears
when it is whole; FILE.run.json stays and says what made it.
"""

from __future__ import annotations

import hashlib
import json
import os
import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import asdict, dataclass, field
from io import RawIOBase
from itertools import islice
from pathlib import Path
from typing import Any

from zygal.errors import OutputError
from zygal.files import check_writable, write_failure

VERSION = 1
COMMIT_SECONDS, COMMIT_SHARE = 0.25, 20
"""Rows are made safe this often, or more rarely where the disk takes more than a twentieth of the time for it."""


@dataclass
class Account:
    """What FILE.run.json says. made_by: what the rows depend on, by names that a message can use. counts: of whatever the
    run counts. names_sha256: of the files' names, one a line, in the order of the rows."""

    made_by: dict[str, Any]
    finished: bool = False
    rows: int = 0
    bytes: int = 0
    counts: dict[str, int] = field(default_factory=dict)
    names_sha256: str = hashlib.sha256().hexdigest()


class ResumableRows:
    """The rows of one run, made or being made; open them by `open_rows`."""

    def __init__(self, path: Path, account: Account, file: RawIOBase | None):
        self.path, self.account, self._file = path, account, file
        self.counts = Counter(account.counts)
        self.resumed = account.rows
        self._names = hashlib.sha256()
        self._committed = time.monotonic()
        self._pause = 0.0

    @property
    def finished(self) -> bool:
        return self.account.finished

    def pass_over(self, names: Iterator[str]) -> None:
        """Goes past the names whose rows are there. Raises OutputError if they are others than those of the rows."""
        passed = 0
        for name in islice(names, self.account.rows):
            self._count_name(name)
            passed += 1
        if passed < self.account.rows or self._names.hexdigest() != self.account.names_sha256:
            raise OutputError(
                f"{self.path} was begun with other images, or in another order, than those named now; name the same ones, "
                "give another file, or begin anew with --afresh."
            )
        if self.finished and next(names, None) is not None:
            raise OutputError(
                f"{self.path} is finished, but more images are named now than it has rows ({self.account.rows}); give "
                "another file, or begin anew with --afresh."
            )

    def _count_name(self, name: str) -> None:
        self._names.update(os.fsencode(name) + b"\n")

    def append(self, data: bytes, names: list[str], counts: Counter) -> None:
        """Adds rows, and makes all rows so far safe if it is time. Raises OutputError."""
        try:
            _write_all(self._file, data)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        for name in names:
            self._count_name(name)
        self.counts.update(counts)
        self.account.rows += len(names)
        self.account.bytes += len(data)
        if time.monotonic() - self._committed > max(COMMIT_SECONDS, COMMIT_SHARE * self._pause):
            self.commit()

    def commit(self) -> None:
        """Makes the rows so far safe. Raises OutputError."""
        began = time.monotonic()
        self.account.counts, self.account.names_sha256 = dict(self.counts), self._names.hexdigest()
        try:
            os.fsync(self._file.fileno())
            _write_account(self.path, self.account)
        except OSError as fault:
            raise write_failure(self.path, fault) from fault
        self._committed = time.monotonic()
        self._pause = self._committed - began

    def discard(self) -> None:
        """Takes away what there is of the run."""
        for each in (_rows_file(self.path), _account_file(self.path)):
            each.unlink(missing_ok=True)
        self.account = Account(self.account.made_by)

    def finish(self, convert: Callable[[Path, Path], None] | None) -> None:
        """Gives the whole file its name; `convert` makes it of the rows where it has another form."""
        self.account.finished = True
        self.commit()
        _deliver(self.path, convert)


@contextmanager
def open_rows(
    path: str | Path,
    made_by: dict[str, Any],
    heading: bytes,
    convert: Callable[[Path, Path], None] | None = None,
    afresh: bool = False,
) -> Iterator[ResumableRows]:
    """The rows of a run, to be gone on with or already finished. What is safe when the block is left stays.

    Raises OutputError if FILE, or what there is of it, comes from another run.
    """
    path = Path(path)
    check_writable(path)
    account = None if afresh else _earlier(path, made_by)
    if account is not None and account.finished:
        if _rows_file(path).exists() and _rows_file(path).stat().st_size == account.bytes:
            # It was cut off between the last row and the name.
            _deliver(path, convert)
        yield ResumableRows(path, account, None)
        return
    # Without a buffer: what could not be written must not be tried again when the file is closed.
    with _rows_file(path).open("ab", buffering=0) as file:
        _keep_alone(file, path)
        rows = ResumableRows(path, account or Account(made_by), file)
        if not rows.resumed:
            _begin(rows, file, heading)
        elif file.seek(0, os.SEEK_END) < account.bytes:
            raise OutputError(f"{_rows_file(path)} is shorter than the run left it; begin anew with --afresh.")
        file.truncate(rows.account.bytes)
        file.seek(0, os.SEEK_END)
        try:
            yield rows
        finally:
            if not rows.finished and not rows.account.rows:
                rows.discard()
            elif not rows.finished:
                # Why the block is left matters more than rows that could not be made safe: they are made again.
                with suppress(OutputError):
                    rows.commit()


def _begin(rows: ResumableRows, file: RawIOBase, heading: bytes) -> None:
    # First the account says that nothing is there, then what lies there goes.
    rows.commit()
    try:
        file.truncate(0)
        _write_all(file, heading)
    except OSError as fault:
        raise write_failure(rows.path, fault) from fault
    rows.account.bytes = len(heading)
    rows.commit()


def _write_all(file: RawIOBase, data: bytes) -> None:
    """A disk that is nearly full takes a part, and refuses the rest when it is asked again."""
    while data:
        data = data[file.write(data) :]


def _earlier(path: Path, made_by: dict[str, Any]) -> Account | None:
    """The account of an earlier call of the same run, or None if there is nothing. Raises OutputError."""
    try:
        account = json.loads(_account_file(path).read_bytes())
        if account.pop("zygal_run") != VERSION:
            raise ValueError("another version")
        account = Account(**account)
    except FileNotFoundError:
        if path.exists():
            raise OutputError(
                f"{path} exists and no run of zygal left it; give another file, or replace it with --afresh."
            ) from None
        return None
    except (OSError, ValueError, TypeError, KeyError, AttributeError) as fault:
        raise OutputError(
            f"{_account_file(path)} is no account of a run ({fault}); give another file, or begin anew with --afresh."
        ) from fault
    now = json.loads(json.dumps(made_by))
    others = [name for name in (*now, *account.made_by) if now.get(name) != account.made_by.get(name)]
    if others:
        name = others[0]
        state = "made" if account.finished else "begun"
        raise OutputError(
            f"{path} was {state} by another run: {name} was {_said(account.made_by.get(name))} and is now "
            f"{_said(now.get(name))}; give another file, or begin anew with --afresh."
        )
    if account.finished and not path.exists() and not _rows_file(path).exists():
        return None
    return account


def _deliver(path: Path, convert: Callable[[Path, Path], None] | None) -> None:
    rows = _rows_file(path)
    if convert is not None:
        convert(rows, path)
        rows.unlink()
        return
    try:
        os.replace(rows, path)
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


def _keep_alone(file: RawIOBase, path: Path) -> None:
    """Raises OutputError if another process writes the same rows at this moment."""
    try:
        import fcntl
    except ImportError:
        # Where there are no such locks, the user must take care.
        return
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as fault:
        raise OutputError(f"{path} is being written by another zygal at this moment; wait for it or end it.") from fault


def files_of(path: str | Path | None) -> list[str]:
    """What there may be beside FILE because of its run."""
    if path is None:
        return []
    account = _account_file(Path(path))
    return [str(each) for each in (_rows_file(Path(path)), account, _new(account))]


def _new(account: Path) -> Path:
    return account.with_name(account.name + ".new")


def _rows_file(path: Path) -> Path:
    return path.with_name(path.name + ".unfinished")


def _account_file(path: Path) -> Path:
    return path.with_name(path.name + ".run.json")


def _said(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 40 else f"{text[:37]}..."
