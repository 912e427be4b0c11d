"""Opening and reading files so that a fault is one sentence."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator, Sequence
from fnmatch import fnmatch
from pathlib import Path
from typing import BinaryIO

from zygal.errors import FileError


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


def state_of(path: str | os.PathLike) -> tuple | None:
    """What changes when a file does; None if there is none."""
    try:
        state = os.stat(path)
    except (OSError, ValueError):
        return None
    return os.path.abspath(path), state.st_mtime_ns, state.st_size, state.st_ino


def sha256_of(path: str | os.PathLike) -> str:
    """The SHA-256 of a file's bytes, in hexadecimal. Raises FileError."""
    import hashlib

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
    import hashlib

    return hashlib.sha256(listed.encode("utf-8", "surrogateescape")).hexdigest()


def _unreadable(path: str | os.PathLike, fault: OSError) -> FileError:
    return FileError(f"{path} cannot be read: {reason(fault)}; check the path.")


def reason(fault: Exception) -> str:
    """What the system says is wrong, in its own words."""
    return (getattr(fault, "strerror", None) or str(fault)).lower()
