"""Images that do not lie in a local folder: object storage, web servers, members of archives, by URLs.

A location is what follows the rules of fsspec, the library that reads it: PROTOCOL://PATH, and for members of an
archive tar://MEMBER::ARCHIVE or zip://MEMBER::ARCHIVE, where ARCHIVE is a path or a URL again.
"""

from __future__ import annotations

import datetime
import hashlib
import os
import re
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import nullcontext
from dataclasses import dataclass, field
from fnmatch import fnmatch
from io import BytesIO
from pathlib import Path
from typing import Any, BinaryIO

from zygal.errors import FileError, first_line, install_extra

DEEPEST_FOLDERS = 40
"""A web server whose pages link to themselves has no deepest one."""
EXCHANGE_SECONDS = 60.0
"""For reading one object or page from a web server, from the question to the last byte."""
MOST_BYTES = 1_000_000_000
"""Larger objects are not read into memory."""
PAUSES_SECONDS = (0.2, 1.0, 3.0)
"""Between attempts to read from a storage that does not answer."""
_URL = re.compile(r"[A-Za-z][A-Za-z0-9+.\-]+://")
_PAGES = ("http", "https")
_STATE_KEYS = (
    "ETag",
    "etag",
    "checksum",
    "md5Hash",
    "Content-MD5",
    "content_md5",
    "CRC",
    "chksum",
    "mtime",
    "LastModified",
    "last_modified",
    "created",
    "date_time",
)
"""What file systems call that which changes when a file does."""


class StorageOutage(FileError):
    """A storage does not answer, or the package for it is missing: that says nothing about the image, so the run stops
    and can be resumed."""


def is_url(name: object) -> bool:
    """Whether a name is a URL, not the path of a local file."""
    return isinstance(name, str) and _URL.match(name) is not None


def from_base(name: str, base: str) -> str:
    """The location that a name means to a process that works in the folder `base`, for one that works elsewhere."""
    if not is_url(name):
        return os.path.join(base, name)
    head, chain, archive = name.rpartition("::")
    return f"{head}::{from_base(archive, base)}" if chain else name


def joined(folder: str, name: str) -> str:
    """A file of a folder or of a URL; a name that is absolute or a URL stays itself."""
    if is_url(name) or not is_url(folder):
        return name if is_url(name) else str(Path(folder) / name)
    head, chain, archive = folder.partition("::")
    return f"{head}{'' if head.endswith('/') else '/'}{name}{chain}{archive}"


def folder_of(location: str) -> str:
    """The folder that a file lies in."""
    if not is_url(location):
        return os.path.dirname(location)
    head, chain, archive = location.partition("::")
    protocol, _, path = head.partition("://")
    return f"{protocol}://{path.rpartition('/')[0]}{chain}{archive}"


@dataclass(frozen=True)
class Content:
    """An object that was read. data: its bytes. size_bytes: as the storage tells it, -1 if it does not. version: a
    number that changes when the object does, 0 if the storage tells nothing."""

    data: bytes
    size_bytes: int
    version: int


def fetch(url: str, most_bytes: int | None = None) -> Content:
    """The bytes of an object, if it has at most so many (MOST_BYTES). Raises FileError, and StorageOutage if its
    storage does not answer at several attempts."""
    try:
        return _persistently(url, "read", lambda: _fetched(url, most_bytes or MOST_BYTES))
    except FileError:
        raise
    except Exception as fault:  # Every storage has errors of its own.
        raise _fault(url, fault) from fault


def _persistently(url: str, asked: str, question: Callable[[], Any]) -> Any:
    """The answer to a question, asked again while nobody answers. Raises what it raises, and StorageOutage after the
    last attempt."""
    for pause in (*PAUSES_SECONDS, None):
        try:
            return question()
        except Exception as fault:
            if not _is_outage(fault):
                raise
            if pause is None:
                raise StorageOutage(
                    f"{url} cannot be {asked}, because its storage does not answer ({_reason(fault)}); try again later."
                ) from fault
        time.sleep(pause)
    raise AssertionError


def open_location(name: str | os.PathLike) -> BinaryIO:
    """A local file or a URL, for reading. Raises FileError."""
    from zygal.files.opening import open_file

    return BytesIO(fetch(name).data) if is_url(name) else open_file(name)


def version_of(url: str) -> tuple[int, int]:
    """Size in bytes and version of an object; (-1, -1) if there is none. Raises FileError for a URL that nothing here
    can read, and StorageOutage."""
    try:
        info = _persistently(url, "looked at", lambda: _info(url))
    except FileError:
        raise
    except Exception:
        return -1, -1
    return (-1, -1) if info["type"] == "directory" else (_size(info), _version(info))


def _info(url: str) -> dict[str, Any]:
    storage = _storage(url)
    with storage.lock:
        return storage.files.info(storage.path(url))


def is_folder(url: str) -> bool:
    """Whether a URL is a folder: on a web server one that ends in a stroke, elsewhere as the storage says. Raises
    FileError if there is nothing."""
    storage = _storage(url)
    if storage.protocol in _PAGES:
        return url.endswith("/")
    return _asked(url, lambda: storage.files.info(storage.path(url)), storage)["type"] == "directory"


def check_location(url: str) -> None:
    """Raises FileError if a URL cannot be read: unknown, without its package, or not there."""
    if not is_folder(url) and version_of(url) == (-1, -1):
        raise FileError(f"{url} does not exist or cannot be read; check the URL and the access to its storage.")


def names_below(url: str, suffixes: frozenset[str], skip: Sequence[str] = ()) -> Iterator[str]:
    """The names, relative to a folder, of files with such endings below it, in the order of their paths' code points;
    hidden ones, and those whose own name or whose folder's fits a pattern of `skip`, are passed over. Raises
    FileError."""
    storage = _storage(url)
    top = storage.path(url)
    for name in _below(storage, top, suffixes, skip, url):
        yield name[len(top) :].lstrip("/")


def _below(
    storage: _Storage, folder: str, suffixes: frozenset[str], skip: Sequence[str], url: str, depth: int = 0
) -> Iterator[str]:
    if depth > DEEPEST_FOLDERS:
        raise FileError(
            f"{url} has folders within folders, more than {DEEPEST_FOLDERS} deep: its pages link to themselves; "
            f"name the folders that hold the images."
        )
    found: dict[str, str] = {}
    for each in _asked(url, lambda: storage.files.ls(folder, detail=True), storage):
        inside, name = each["type"] == "directory", each["name"]
        short = name.rstrip("/").rpartition("/")[2]
        # A page may link to anything.
        linked = (
            storage.protocol not in _PAGES
            or name.startswith(folder)
            and "?" not in name
            and "/../" not in name
            and name != folder
        )
        if short and linked and not short.startswith(".") and not any(fnmatch(short, pattern) for pattern in skip):
            found[short + "/" * inside] = name
    for short in sorted(found):
        if short.endswith("/"):
            yield from _below(storage, found[short], suffixes, skip, url, depth + 1)
        elif os.path.splitext(short)[1].lower() in suffixes:
            yield found[short]


@dataclass(frozen=True)
class _Storage:
    """A file system, and a lock if one thread at a time may use it. archive: what stands behind "::"."""

    files: Any
    protocol: str
    archive: str | None
    lock: Any = field(default_factory=nullcontext)

    def path(self, url: str) -> str:
        if self.archive is None:
            return self.files._strip_protocol(url)
        return url.partition("::")[0].partition("://")[2].strip("/")


_shared: dict[tuple[str, str], _Storage] = {}
_opening = threading.Lock()


def _storage(url: str) -> _Storage:
    """An archive is opened once and read by one thread at a time; file systems that serve many threads are shared; of
    the others each thread has its own. Raises FileError."""
    try:
        from fsspec.core import url_to_fs
    except ImportError as fault:
        raise StorageOutage(
            f"{url} needs the package fsspec, which is not installed; {install_extra('remote')}."
        ) from fault
    head, chain, archive = url.partition("::")
    protocol = head.partition("://")[0].lower()
    key = (protocol, archive if chain else head.partition("://")[2].partition("/")[0])
    with _opening:
        if key in _shared:
            return _shared[key]
        try:
            if chain:
                _check_archive(archive)
                made = _Storage(url_to_fs(f"{protocol}://::{archive}")[0], protocol, archive, threading.Lock())
            else:
                made = _Storage(url_to_fs(url, use_listings_cache=False, **_limits(protocol))[0], protocol, None)
        except ImportError as fault:
            raise StorageOutage(
                f"{url} cannot be read here ({first_line(fault)}); install that package where the images are read."
            ) from fault
        except ValueError as fault:
            raise FileError(f"{url} cannot be read: {first_line(fault)}; check the URL.") from fault
        except Exception as fault:
            raise _fault(url, fault) from fault
        if chain or made.files.async_impl:
            _shared[key] = made
        return made


def _check_archive(archive: str) -> None:
    """Raises FileError where an archive on this machine is no regular file: a device has no end."""
    from zygal.files.opening import open_file

    path = archive.partition("://")[2] if archive.lower().startswith(("file://", "local://")) else archive
    if not is_url(path) and "::" not in path:
        open_file(path).close()


def _limits(protocol: str) -> dict[str, Any]:
    """The time limit of a web server's answers, however slowly they come."""
    if protocol not in _PAGES:
        return {}
    from aiohttp import ClientTimeout

    return {"client_kwargs": {"timeout": ClientTimeout(total=EXCHANGE_SECONDS)}}


def _fetched(url: str, most_bytes: int) -> Content:
    storage = _storage(url)
    path = storage.path(url)
    with storage.lock:
        info = storage.files.info(path)
        if info["type"] == "directory":
            raise FileError(f"{url} is a folder; a file is needed here.")
        if _size(info) > most_bytes:
            raise _too_large(url, most_bytes)
        if _size(info) >= 0:
            return Content(storage.files.cat_file(path), _size(info), _version(info))
        with storage.files.open(path, "rb") as file:
            data = file.read(most_bytes + 1)
    if len(data) > most_bytes:
        raise _too_large(url, most_bytes)
    return Content(data, _size(info), _version(info))


def _too_large(url: str, most_bytes: int) -> FileError:
    return FileError(f"{url} has more than {most_bytes / 1e6:g} MB, too much for an image.")


def _size(info: dict[str, Any]) -> int:
    """-1 if the storage does not tell."""
    size = info.get("size")
    return size if isinstance(size, int) else -1


def _version(info: dict[str, Any]) -> int:
    """A number of 62 bits that stands for what the storage tells of an object's state."""
    told = [f"{key} {_moment(info[key])}" for key in _STATE_KEYS if info.get(key) is not None]
    return int.from_bytes(hashlib.sha256("\n".join(told).encode()).digest()[:8], "big") >> 2 if told else 0


def _moment(value: Any) -> Any:
    return value.timestamp() if isinstance(value, datetime.datetime) else value


def _asked(url: str, question, storage: _Storage) -> Any:
    try:
        with storage.lock:
            return question()
    except Exception as fault:
        raise _fault(url, fault) from fault


def _fault(url: str, fault: Exception) -> FileError:
    if isinstance(fault, FileNotFoundError) and not _is_outage(fault):
        return FileError(f"{url} does not exist; check the URL.")
    return FileError(f"{url} cannot be read: {_reason(fault)}; check the URL and the access to its storage.")


def _reason(fault: BaseException) -> str:
    """What a storage says, in its own words; a file system may hide it behind "not found"."""
    inner = fault.__cause__ if isinstance(fault, FileNotFoundError) and fault.__cause__ else fault
    return first_line(inner).lower()  # type: ignore[arg-type]


def _is_outage(fault: BaseException | None) -> bool:
    """Whether nobody answers, or the answer breaks off: whatever was asked, it would have failed."""
    names = {kind.__name__ for kind in type(fault).__mro__}
    if isinstance(fault, (ConnectionError, TimeoutError)) or names & {
        "ClientConnectionError",
        "ClientPayloadError",
        "EndpointConnectionError",
        "TimeoutError",
    }:
        return True
    return (
        fault is not None
        and isinstance(fault, FileNotFoundError)
        and fault.__cause__ is not None
        and _is_outage(fault.__cause__)
    )
