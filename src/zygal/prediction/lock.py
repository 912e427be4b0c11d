"""A lock between processes: a file that one of them holds."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from zygal.errors import OutputError
from zygal.files.writing import write_failure
from zygal.machine.system import lock_file, locks_files


@contextmanager
def held_alone(lock: Path, what: Path) -> Iterator[None]:
    """Holds the lock of what is being written, and takes its file away afterwards. Raises OutputError if another has
    it.

    The system lets go of it when the process ends, however it ends; a file that is left behind locks nothing.
    """
    if not locks_files():
        # The user must take care.
        yield
        return
    handle = None
    try:
        while handle is None:
            handle = _opened(lock, what)
            if not lock_file(handle):
                raise OutputError(
                    f"{what} is being written by another zygal process; wait until it has ended, or stop it."
                )
            if not _is_still_there(handle, lock):
                # Its holder took it away between our two steps.
                os.close(handle)
                handle = None
        yield
        # Only who holds it may take it away.
        lock.unlink(missing_ok=True)
    except BaseException:
        # Asking again for what it has changes nothing.
        if handle is not None and lock_file(handle):
            lock.unlink(missing_ok=True)
        raise
    finally:
        if handle is not None:
            os.close(handle)


def _opened(lock: Path, what: Path) -> int:
    try:
        return os.open(lock, os.O_RDWR | os.O_CREAT | getattr(os, "O_CLOEXEC", 0), 0o666)
    except OSError as fault:
        raise write_failure(what, fault) from fault


def _is_still_there(handle: int, lock: Path) -> bool:
    try:
        there = os.stat(lock)
    except FileNotFoundError:
        return False
    ours = os.fstat(handle)
    return (there.st_dev, there.st_ino) == (ours.st_dev, ours.st_ino)
