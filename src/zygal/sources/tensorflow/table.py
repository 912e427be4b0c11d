"""The sorted table that variables' index files are: blocks of entries whose keys share prefixes, and an index of the
blocks."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from pathlib import Path

from zygal.errors import SourceError
from zygal.files.opening import read_bytes
from zygal.sources.tensorflow.checksum import crc32c, masked

MAGIC = 0xDB4775248B80FB57
LARGEST_INDEX_BYTES = 256_000_000
_FOOTER_BYTES, _TRAILER_BYTES = 48, 5


def read_table(path: Path) -> dict[bytes, bytes]:
    """All entries of a table, every block checked against its checksum. Raises FileError or SourceError."""
    content = read_bytes(path, "a table of variables", LARGEST_INDEX_BYTES)
    if len(content) < _FOOTER_BYTES or struct.unpack("<Q", content[-8:])[0] != MAGIC:
        raise SourceError(f"{path} is not a table of variables, or it was cut off; copy the whole folder again.")
    try:
        footer = _Bytes(content[-_FOOTER_BYTES:])
        footer.number(), footer.number()  # The place of another index, which holds nothing here.
        index = _block(content, footer.number(), footer.number(), path)
        entries: dict[bytes, bytes] = {}
        last = b""
        for _, handle in _entries(index):
            place = _Bytes(handle)
            for key, value in _entries(_block(content, place.number(), place.number(), path)):
                if entries and key <= last:
                    raise ValueError("its keys are not in order")
                entries[key], last = value, key
        return entries
    except (ValueError, IndexError, struct.error) as fault:
        raise SourceError(
            f"{path} is damaged: {fault or 'a block is cut off'}; copy the whole folder again."
        ) from fault


class _Bytes:
    """Bytes that are read from the front. Raises ValueError where they end too soon."""

    def __init__(self, content: bytes):
        self._content, self.place = content, 0

    def number(self) -> int:
        """Seven bits a byte, the lowest first."""
        value = shift = 0
        while True:
            (byte,) = self.take(1)
            value |= (byte & 0x7F) << shift
            if byte < 0x80:
                return value
            shift += 7
            if shift > 63:
                raise ValueError("a number is too long")

    def take(self, count: int) -> bytes:
        taken = self._content[self.place : self.place + count]
        if len(taken) != count:
            raise ValueError("an entry is cut off")
        self.place += count
        return taken


def _block(content: bytes, offset: int, size: int, path: Path) -> bytes:
    """A block without what follows it: how it is packed, and its checksum."""
    end = offset + size
    if end + _TRAILER_BYTES > len(content) - _FOOTER_BYTES:
        raise ValueError("a block lies behind its end")
    packing = content[end]
    (recorded,) = struct.unpack("<I", content[end + 1 : end + _TRAILER_BYTES])
    if masked(crc32c(content[offset : end + 1])) != recorded:
        raise ValueError("a block does not fit its checksum")
    if packing:
        raise ValueError(f"its blocks are packed (method {packing}), which is not supported")
    return content[offset:end]


def _entries(block: bytes) -> Iterator[tuple[bytes, bytes]]:
    """Keys and values; a key is stated as what it shares with the one before it, and the rest."""
    (restarts,) = struct.unpack("<I", block[-4:])
    end = len(block) - 4 * (restarts + 1)
    if end < 0:
        raise ValueError("a block is shorter than its list of restarts")
    reader, key = _Bytes(block[:end]), b""
    while reader.place < end:
        shared, rest, size = reader.number(), reader.number(), reader.number()
        if shared > len(key):
            raise ValueError("a key shares more than there is")
        key = key[:shared] + reader.take(rest)
        yield key, reader.take(size)
