"""Writing files so that a fault is one sentence and no output is left half-written."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from zygal.errors import OutputError
from zygal.files.opening import reason

FULL = (errno.ENOSPC, errno.EDQUOT)
"""What the system says where there is no room left."""


@contextmanager
def whole_file(path: str | os.PathLike, check: Callable[[Path], None] | None = None) -> Iterator[BinaryIO]:
    """A binary file for writing that appears at `path` complete or not at all.

    It is written under a temporary name in the same folder, forced to disk and renamed at the end; whatever ends the
    block early, an interrupt included, removes it. A link to a file is not followed. What is no file, a pipe or a
    device, is written straight into. check: is given the complete file under its temporary name, and raises what keeps
    it from being renamed. Raises OutputError.
    """
    path = _target(path)
    if _is_special(path):
        try:
            with open(path, "wb") as file:
                yield file
        except OSError as fault:
            raise write_failure(path, fault) from fault
        return
    name = _temporary_name(path)
    try:
        with os.fdopen(_created(name), "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        if check is not None:
            check(Path(name))
        os.chmod(name, 0o666 & ~_creation_mask())
        os.replace(name, path)
    except OSError as fault:
        raise write_failure(path, fault) from fault
    finally:
        # After the rename the temporary name is gone already. It was known before there was a file, so no interrupt
        # comes between.
        with suppress(OSError, ValueError):
            os.unlink(name)


def _temporary_name(path: Path) -> str:
    """A name of its own in the same folder: that of the file may be as long as names can be."""
    return str(path.parent / f".zygal-{os.urandom(6).hex()}.part")


def _created(name: str) -> int:
    return os.open(
        name, os.O_RDWR | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0) | getattr(os, "O_NOFOLLOW", 0), 0o600
    )


def write_text(path: str | os.PathLike, text: str) -> None:
    """Writes a UTF-8 text whole or not at all; what is not text is spelt out. Raises OutputError."""
    with whole_file(path) as file:
        file.write(text.encode("utf-8", "backslashreplace"))


def check_writable(path: str | os.PathLike) -> None:
    """Raises OutputError if `path` cannot be written, before any work is spent on its content."""
    path = _target(path)
    if _is_special(path):
        if not os.access(path, os.W_OK):
            raise write_failure(path, PermissionError(errno.EACCES, os.strerror(errno.EACCES)))
        return
    if not os.path.isdir(path.parent):
        raise OutputError(f"{path} cannot be written: the folder {path.parent} does not exist; create it first.")
    try:
        os.lstat(path)
    except FileNotFoundError:
        pass
    except (OSError, ValueError) as fault:  # The name is too long, for instance.
        raise write_failure(path, fault) from fault
    name = _temporary_name(path)
    try:
        os.close(_created(name))
    except OSError as fault:
        raise write_failure(path, fault) from fault
    finally:
        with suppress(OSError):
            os.unlink(name)


def _target(path: str | os.PathLike) -> Path:
    """Where an output really goes. Raises OutputError for folders and for links: what they lead to may be anybody's.
    Only a device or a pipe is written to through a link, as /dev/stdout is one."""
    try:
        real = Path(os.path.realpath(path))
    except (OSError, ValueError) as fault:
        raise write_failure(path, fault) from fault
    if os.path.isdir(real):
        raise OutputError(f"{path} is a folder; give the name of a file to write.")
    if os.path.islink(path) and not _is_special(real):
        raise OutputError(
            f"{path} is a symbolic link, and nothing is written through links; name the file itself, or remove "
            f"the link."
        )
    return real


def _is_special(path: Path) -> bool:
    """Whether there is something that is no regular file: a pipe, a device, a socket."""
    return os.path.exists(path) and not os.path.isfile(path)


def sync_folder(folder: str | os.PathLike) -> None:
    """Makes a rename in a folder outlast a power cut, where the system has a way to ask for it."""
    if os.name != "posix":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    except OSError:
        # Some network folders cannot be asked.
        pass
    finally:
        os.close(handle)


def make_folder(path: str | os.PathLike) -> None:
    """A folder for output, if it is not there yet. Raises OutputError."""
    path = Path(path)
    if os.path.exists(path) and not os.path.isdir(path):
        raise OutputError(f"{path} is a file; name a folder.")
    try:
        path.mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as fault:
        raise OutputError(f"{path} cannot be made a folder ({reason(fault)}).") from fault


@contextmanager
def scratch_folder() -> Iterator[Path]:
    """A folder for temporary files, removed afterwards. Raises OutputError where it cannot be made or is full."""
    try:
        import tempfile

        with tempfile.TemporaryDirectory(prefix="zygal-", ignore_cleanup_errors=True) as folder:
            yield Path(folder)
    except OSError as fault:
        where = fault.filename if isinstance(fault.filename, str) else None
        if fault.errno in FULL or isinstance(fault, FileNotFoundError) and where is None:
            raise OutputError(
                f"the folder for temporary files cannot be used ({reason(fault)}); make room in it, or set "
                f"TMPDIR to another."
            ) from fault
        raise


def write_failure(path: str | os.PathLike, fault: OSError | ValueError) -> OutputError:
    """What to raise where the system does not let `path` be written."""
    return OutputError(f"{path} cannot be written: {reason(fault)}; give another name or folder.")


def _creation_mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
