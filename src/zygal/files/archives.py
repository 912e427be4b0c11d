"""Zip archives that are not trusted: the whole directory is checked before one member is read."""

from __future__ import annotations

import os
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager

from zygal.errors import FileError, OutputError, ZygalError, shown
from zygal.files.opening import open_file
from zygal.files.writing import FULL

MOST_DEFLATED = 1032
"""No deflated byte gives more bytes than this; a larger claim is not believed. (RFC 1951: a match of 258 bytes takes 2
bits.)"""
MOST_MEMBERS = 200_000
PLAUSIBLE_RATIO = 40
"""Packed numbers of a trained model are no smaller than this part of what they unpack to."""


@contextmanager
def open_zip(path: str | os.PathLike, what: str, error: type[ZygalError]) -> Iterator[zipfile.ZipFile]:
    """A zip archive for reading, its directory checked. Raises FileError, or `error` where its structure is damaged."""
    with open_file(path) as file:
        with zip_faults(path, what, error):
            archive = zipfile.ZipFile(file)
            check_directory(archive, path, os.fstat(file.fileno()).st_size, error)
        with archive:
            yield archive


def check_directory(archive: zipfile.ZipFile, path: str | os.PathLike, size: int, error: type[ZygalError]) -> None:
    """Every member is stored or deflated, lies inside the file, apart from the others, and has a name of its own."""
    members = archive.infolist()
    if len(members) > MOST_MEMBERS:
        raise error(f"{path} holds {len(members)} members, more than any model has; it is damaged or malicious.")
    names = set()
    end = 0
    for info in sorted(members, key=lambda each: each.header_offset):
        fault = _fault(info, size, end) or ("is there twice" if info.filename in names else None)
        if fault:
            raise error(f"{path} is damaged: its member {shown(info.filename)} {fault}; copy the file again.")
        names.add(info.filename)
        end = info.header_offset + 30 + len(info.filename) + info.compress_size


def _fault(info: zipfile.ZipInfo, size: int, end: int) -> str | None:
    if info.flag_bits & 0x1:
        return "is encrypted"
    if info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
        return f"is packed by the method {info.compress_type}, which is neither stored nor deflated"
    if info.header_offset < end:
        return "overlaps another member"
    if info.header_offset + 30 + info.compress_size > size:
        return "ends after the end of the file"
    if info.compress_type == zipfile.ZIP_STORED and info.file_size != info.compress_size:
        return f"is stored, but claims {info.file_size} bytes of {info.compress_size}"
    if info.file_size > MOST_DEFLATED * info.compress_size + 64:
        return f"claims {info.file_size} bytes, more than it can hold"
    return None


def read_member(
    archive: zipfile.ZipFile, name: str, path: str | os.PathLike, error: type[ZygalError], most: int
) -> bytes:
    """The bytes of a member of a size that is bounded. Raises `error`."""
    info = archive.NameToInfo.get(name)
    if info is None:
        raise error(f"{path} is damaged: it has no member {shown(name)}; copy it again from its source.")
    if info.file_size > most:
        raise error(
            f"{path} is damaged: {shown(name)} claims {info.file_size} bytes, more than the {most} that it may have."
        )
    with zip_faults(path, "the archive that it was", error):
        return archive.read(info)


@contextmanager
def zip_faults(path: str | os.PathLike, what: str, error: type[ZygalError]) -> Iterator[None]:
    """Around the reading of an archive: what zipfile raises on damage comes as `error`."""
    try:
        yield
    except (FileError, OutputError):
        raise
    except zipfile.BadZipFile as fault:
        raise error(
            f"{path} is not {what}, or it is truncated or damaged ({fault}); copy it again from its source."
        ) from fault
    except OSError as fault:
        if fault.errno in FULL:
            # The disk failed, not the file.
            raise
        raise error(f"{path} is damaged ({fault}); copy it again from its source.") from fault
    except (NotImplementedError, RuntimeError, EOFError, ValueError, zlib.error, IndexError, OverflowError) as fault:
        # Encrypted members, unknown compression, broken offsets and broken streams.
        raise error(f"{path} is damaged ({fault}); copy it again from its source.") from fault
