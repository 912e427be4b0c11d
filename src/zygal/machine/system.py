"""What only some systems have. Where one lacks it, what is asked for is left out, and the function says so."""

from __future__ import annotations

import os
import select
from contextlib import suppress
from pathlib import Path


def locks_files() -> bool:
    """Whether this system has locks that it lets go of when a process ends, however it ends."""
    try:
        import fcntl  # noqa: F401
    except ImportError:
        return False
    return True


def lock_file(handle: int) -> bool:
    """Locks an open file for this process alone; whether it has it now. To be asked only where there are such locks."""
    import fcntl

    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        return False
    return True


def write_no_core_dumps() -> None:
    """A crash of this process leaves no picture of its memory behind, where the system can be told."""
    with suppress(ImportError):
        import resource

        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))


def be_ended_first() -> None:
    """Where memory runs out, this process is to go before the one that waits for it; Linux alone can be told."""
    with suppress(OSError):
        Path("/proc/self/oom_score_adj").write_text("1000")


def open_without_waiting(path: str, patience_seconds: float) -> int:
    """A handle for reading. A pipe that nobody has opened is empty, and is waited for so long at the most, where the
    system has a way to. Raises OSError."""
    if not hasattr(os, "O_NONBLOCK"):
        return os.open(path, os.O_RDONLY)
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK)
    select.select([handle], [], [], patience_seconds)
    os.set_blocking(handle, True)
    return handle
