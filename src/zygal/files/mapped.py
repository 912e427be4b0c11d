"""Zip archives of tensors, whose members come as views of the mapped file."""

from __future__ import annotations

import io
import os
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files.archives import PLAUSIBLE_RATIO, check_directory, open_zip, zip_faults

_LOCAL_HEADER = struct.Struct("<4s5H3I2H")


class MappedZip:
    """An open archive whose members come as read-only views of the mapped file, uint8 [bytes]."""

    def __init__(self, path: os.PathLike, what: str, archive: zipfile.ZipFile, mapped: np.ndarray):
        self.path, self._what, self._archive, self._mapped = path, what, archive, mapped

    @property
    def names(self) -> list[str]:
        """The names of all members, in their order."""
        return self._archive.namelist()

    def size_of(self, name: str) -> int | None:
        """A member's bytes as the directory says; None if there is no such member."""
        info = self._archive.NameToInfo.get(name)
        return None if info is None else info.file_size

    def member_bytes(self, name: str, limit_bytes: int | None = None) -> np.ndarray:
        """The bytes of a member, checked against its CRC: a view of the file where it is stored as it is. Raises
        SourceError."""
        info = self._archive.NameToInfo.get(name)
        if info is None:
            raise SourceError(f"{self.path} is damaged: it has no member {shown(name)}.")
        if limit_bytes is not None and info.file_size > limit_bytes:
            raise SourceError(f"{self.path} is damaged: {shown(name)} claims {info.file_size} bytes.")
        if info.compress_type != zipfile.ZIP_STORED:
            # Frameworks store weights as they are; who packs them later gains little, and a claim of more is not
            # believed.
            if info.file_size > PLAUSIBLE_RATIO * max(info.compress_size, 4096):
                raise SourceError(f"{self.path} is damaged: {shown(name)} claims more bytes than it can hold.")
            with zip_faults(self.path, self._what, SourceError):
                return np.frombuffer(self._archive.read(info), np.uint8)
        content = self._stored_bytes(info)
        if zlib.crc32(content) != info.CRC:
            raise SourceError(
                f"{self.path} is damaged: the bytes of {shown(name)} do not match their checksum; copy the file again."
            )
        return content

    def inner(self, name: str) -> MappedZip:
        """A member that is a zip archive itself. Raises SourceError."""
        content = self.member_bytes(name)
        with zip_faults(self.path, self._what, SourceError):
            archive = zipfile.ZipFile(_Bytes(content))
            check_directory(archive, self.path, content.size, SourceError)
        return MappedZip(self.path, self._what, archive, content)

    def _stored_bytes(self, info: zipfile.ZipInfo) -> np.ndarray:
        header = bytes(self._mapped[info.header_offset : info.header_offset + _LOCAL_HEADER.size])
        if len(header) < _LOCAL_HEADER.size or header[:4] != b"PK\x03\x04":
            raise SourceError(f"{self.path} is damaged: the header of {info.filename} is not where it should be.")
        name_size, extra_size = _LOCAL_HEADER.unpack(header)[-2:]
        start = info.header_offset + _LOCAL_HEADER.size + name_size + extra_size
        content = self._mapped[start : start + info.file_size]
        if content.size != info.file_size:
            raise SourceError(f"{self.path} is truncated: {info.filename} ends after the end of the file.")
        return content


class _Bytes(io.RawIOBase):
    """Bytes of a mapped file as a file, without a copy of them."""

    def __init__(self, content: np.ndarray):
        self._content, self._at = memoryview(content), 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = os.SEEK_SET) -> int:
        start = {os.SEEK_SET: 0, os.SEEK_CUR: self._at, os.SEEK_END: len(self._content)}[whence]
        self._at = max(0, start + offset)
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, target: memoryview) -> int:
        part = self._content[self._at : self._at + len(target)]
        target[: len(part)] = part
        self._at += len(part)
        return len(part)


@contextmanager
def open_mapped(path: str | os.PathLike, what: str) -> Iterator[MappedZip]:
    """A zip archive, mapped. Raises FileError or SourceError."""
    with open_zip(path, what, SourceError) as archive:
        yield MappedZip(Path(path), what, archive, np.memmap(path, np.uint8, "r"))
