"""Reading and writing files so that a fault is one sentence and no output is left half-written."""

from __future__ import annotations

import errno
import hashlib
import os
import secrets
import stat
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from fnmatch import fnmatch
from pathlib import Path
from typing import BinaryIO

from zygal.errors import FileError, OutputError

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
    return str(path.parent / f".zygal-{secrets.token_hex(6)}.part")


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


def open_file(path: str | os.PathLike) -> BinaryIO:
    """An open regular file. A folder, a pipe or a device is refused without waiting for it. Raises FileError."""
    try:
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
    except IsADirectoryError:
        raise FileError(f"{path} is a folder; a file is needed here.") from None
    except PermissionError as fault:
        if os.path.isdir(path):
            raise FileError(f"{path} is a folder; a file is needed here.") from fault
        raise _unreadable(path, fault) from fault
    except OSError as fault:
        if fault.errno in (errno.ENXIO, errno.EWOULDBLOCK):
            raise FileError(f"{path} is a socket or a device, not a file; give a file.") from fault
        raise _unreadable(path, fault) from fault
    except ValueError as fault:  # A zero byte in the name.
        raise FileError(f"{path} is not a valid file name; check the path.") from fault
    try:
        mode = os.fstat(handle).st_mode
        if stat.S_ISDIR(mode):
            raise FileError(f"{path} is a folder; a file is needed here.")
        if not stat.S_ISREG(mode):
            raise FileError(f"{path} is a {_kind_of_node(mode)}, not a file; give a file.")
        return os.fdopen(handle, "rb")
    except BaseException:
        os.close(handle)
        raise


def _kind_of_node(mode: int) -> str:
    return "pipe" if stat.S_ISFIFO(mode) else "socket" if stat.S_ISSOCK(mode) else "device"


def existing_file(path: str | os.PathLike) -> Path:
    """`path`, if it is a regular file that can be opened; else raises FileError."""
    open_file(path).close()
    return Path(path)


def files_below(
    folder: str | os.PathLike, skip: Sequence[str] = (), above: tuple[tuple[int, int], ...] = ()
) -> Iterator[str]:
    """All below a folder that is no folder, in the order of their paths' code points; hidden ones, and those whose own
    name or whose folder's fits a pattern of `skip`, are passed over. Links to folders are followed, but not into a
    folder that leads here. Raises FileError."""
    try:
        own = os.stat(folder)
        here = (own.st_dev, own.st_ino)
        with os.scandir(folder) as entries:
            # A folder is where its name with the stroke behind it belongs, so that the order is that of whole paths.
            found = sorted(
                each.name + "/" if each.is_dir() else each.name for each in entries if not each.name.startswith(".")
            )
    except OSError as fault:
        raise FileError(f"{folder} cannot be read: {reason(fault)}.") from fault
    if here in above:
        return
    for name in found:
        if any(fnmatch(name.rstrip("/"), pattern) for pattern in skip):
            continue
        path = os.path.join(folder, name.rstrip("/"))
        if name.endswith("/"):
            yield from files_below(path, skip, (*above, here))
        else:
            yield path


def read_bytes(path: str | os.PathLike, what: str, limit_bytes: int) -> bytes:
    """The bytes of a small file; `what` names its role in the message of a FileError."""
    try:
        with open_file(path) as file:
            content = file.read(limit_bytes + 1)
    except OSError as fault:
        raise _unreadable(path, fault) from fault
    if len(content) > limit_bytes:
        raise FileError(f"{path} is larger than {limit_bytes // 1_000_000} MB, too large for {what}.")
    return content


def read_text(path: str | os.PathLike, what: str, limit_bytes: int = 16_000_000) -> str:
    """The UTF-8 text of a small file; `what` names its role in the message of a FileError."""
    try:
        return read_bytes(path, what, limit_bytes).decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        raise FileError(f"{path} is not text in UTF-8, so it is not {what} (byte {fault.start}).") from fault


def sha256_of(path: str | os.PathLike) -> str:
    """The SHA-256 of a file's bytes, in hexadecimal. Raises FileError."""
    digest = hashlib.sha256()
    try:
        with open_file(path) as file:
            while piece := file.read(1 << 20):
                digest.update(piece)
    except OSError as fault:
        raise _unreadable(path, fault) from fault
    return digest.hexdigest()


def sha256_of_all(paths: Sequence[str | os.PathLike]) -> str:
    """The one hash of a thing that consists of files: of a single file that of its bytes, of several that of their
    names and hashes, in their order. Raises FileError."""
    hashes = [sha256_of(path) for path in paths]
    if len(hashes) == 1:
        return hashes[0]
    listed = "".join(f"{each} {os.path.basename(path)}\n" for each, path in zip(hashes, paths))
    return hashlib.sha256(listed.encode("utf-8", "surrogateescape")).hexdigest()


def write_failure(path: str | os.PathLike, fault: OSError | ValueError) -> OutputError:
    """What to raise where the system does not let `path` be written."""
    return OutputError(f"{path} cannot be written: {reason(fault)}; give another name or folder.")


def _unreadable(path: str | os.PathLike, fault: OSError) -> FileError:
    return FileError(f"{path} cannot be read: {reason(fault)}; check the path.")


def reason(fault: Exception) -> str:
    """What the system says is wrong, in its own words."""
    return (getattr(fault, "strerror", None) or str(fault)).lower()


def _creation_mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
