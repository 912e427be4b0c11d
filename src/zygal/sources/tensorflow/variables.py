"""The variables beside a saved model: their table, and the shards that hold their bytes."""

from __future__ import annotations

import mmap
from collections.abc import Iterator
from dataclasses import dataclass
from math import prod
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files.opening import open_file
from zygal.sources.tensorflow.checksum import crc32c, masked
from zygal.sources.tensorflow.messages import DTYPES, message
from zygal.sources.tensorflow.table import read_table
from zygal.sources.tensorflow.tensors import in_float32, storage_dtype

OBJECT_GRAPH = "_CHECKPOINTABLE_OBJECT_GRAPH"


@dataclass(frozen=True)
class Stored:
    """One entry. start: where its slice of a partitioned variable begins along each axis; empty for a whole one."""

    dtype: str
    shape: tuple[int, ...]
    shard: int
    offset: int
    size: int
    checksum: int
    slices: tuple[tuple[tuple[int, int], ...], ...] = ()


class Variables:
    """Arrays by the keys of a checkpoint; views of the memory-mapped shards, each checked against its checksum when it
    is read.

    widths: the floating-point dtypes of those that were read.
    """

    def __init__(self, prefix: Path):
        self.prefix, self.widths = prefix, set()
        self._parts: dict[str, list[tuple[tuple[tuple[int, int], ...], Stored]]] = {}
        self._entries: dict[str, Stored] = {}
        self._shards: dict[int, tuple[Path, memoryview]] = {}
        entries = read_table(prefix.with_name(f"{prefix.name}.index"))
        if b"" not in entries:
            raise SourceError(f"{prefix}.index is damaged: its first entry, which describes the others, is missing.")
        header = self._parsed("BundleHeaderProto", entries.pop(b""))
        if header.endianness:
            raise SourceError(
                f"{prefix}.index was written on a machine of the other byte order, which is not supported."
            )
        self._shard_count = header.num_shards
        for key, value in entries.items():
            self._note(key, self._parsed("BundleEntryProto", value))

    def __contains__(self, key: str) -> bool:
        return key in self._entries

    def numeric_keys(self) -> list[str]:
        """The keys of numbers, without those of text."""
        return [key for key, stored in self._entries.items() if stored.dtype != "string"]

    def stored(self, key: str) -> Stored:
        """What the table says of a variable."""
        return self._entries[key]

    def array(self, key: str, part: str = "") -> np.ndarray:
        """The variable as the artifact computes with it. part: a slice as the saver states it, such as "8 4 0,5:-".
        Raises SourceError."""
        if key not in self._entries:
            raise SourceError(
                f"{self.prefix}.index holds no variable {key}, which the graph reads; copy the whole folder again."
            )
        stored = self._entries[key]
        if stored.dtype == "string":
            raise SourceError(f"{self.prefix}.index holds text under {key}, where the graph reads numbers.")
        array = self._joined(key, stored) if stored.slices else self._bytes(stored, key)
        if array.dtype.kind == "f" or stored.dtype == "bfloat16":
            self.widths.add(stored.dtype)
        array = in_float32(array, stored.dtype)
        return array[_cuts(part, array.shape, self.prefix)] if part.strip() else array

    def object_graph(self) -> Any | None:
        """The graph of the objects that the variables belong to, if the checkpoint keeps it."""
        stored = self._entries.get(OBJECT_GRAPH)
        if stored is None or stored.dtype != "string" or stored.shape:
            return None
        content = bytes(self._raw(stored, OBJECT_GRAPH))
        # One text: its length, a checksum of the length, then the text itself.
        size = place = shift = 0
        for byte in content[:10]:
            size |= (byte & 0x7F) << shift
            place, shift = place + 1, shift + 7
            if byte < 0x80:
                break
        body = content[place + 4 :]
        return self._parsed("TrackableObjectGraph", body) if len(body) == size else None

    def close(self) -> None:
        """Closes the shards."""
        self._shards.clear()

    def _parsed(self, name: str, content: bytes) -> Any:
        made = message(name)()
        try:
            made.ParseFromString(content)
        except Exception as fault:  # The runtime's exception has no class that all releases share.
            raise SourceError(f"{self.prefix}.index is damaged: an entry is not a message of the schema.") from fault
        return made

    def _note(self, key: bytes, entry: Any) -> None:
        shape = tuple(each.size for each in entry.shape.dim)
        dtype = DTYPES.get(entry.dtype)
        slices = tuple(tuple((each.start, each.length) for each in piece.extent) for piece in entry.slices)
        stored = Stored(
            dtype or f"number {entry.dtype}", shape, entry.shard_id, entry.offset, entry.size, entry.crc32c, slices
        )
        if (
            min((*shape, entry.offset, entry.size, entry.shard_id), default=0) < 0
            or entry.shard_id >= self._shard_count
        ):
            raise SourceError(
                f"{self.prefix}.index is damaged: the entry {shown(key, 40)} has a size or a place below zero, "
                f"or no shard."
            )
        if dtype is not None and dtype != "string" and not slices:
            width = storage_dtype(dtype)
            if width is not None and prod(shape) * width.itemsize != entry.size:
                raise SourceError(
                    f"{self.prefix}.index is damaged: the entry {shown(key, 40)} of shape {list(shape)} has "
                    f"{entry.size} bytes."
                )
        if key[:1] == b"\0":
            own, extents = _slice_key(key, self.prefix)
            self._parts.setdefault(own, []).append((extents, stored))
        else:
            self._entries[key.decode("utf-8", "backslashreplace")] = stored

    def _bytes(self, stored: Stored, key: str) -> np.ndarray:
        dtype = storage_dtype(stored.dtype)
        if dtype is None:
            raise SourceError(f"{self.prefix}.index keeps {key} as {stored.dtype}, which is not supported.")
        content = self._raw(stored, key)
        return np.frombuffer(content, dtype).reshape(stored.shape)

    def _raw(self, stored: Stored, key: str) -> memoryview:
        path, shard = self._shard(stored.shard)
        if stored.offset + stored.size > len(shard):
            raise SourceError(
                f"{path} is cut off: {key} ends at byte {stored.offset + stored.size}, the file at "
                f"{len(shard)}; copy it again."
            )
        content = shard[stored.offset : stored.offset + stored.size]
        if stored.dtype != "string" and masked(crc32c(content)) != stored.checksum:
            raise SourceError(f"{path} is damaged: the bytes of {key} do not fit their checksum; copy it again.")
        return content

    def _shard(self, number: int) -> tuple[Path, memoryview]:
        if number not in self._shards:
            path = self.prefix.with_name(f"{self.prefix.name}.data-{number:05d}-of-{self._shard_count:05d}")
            if not path.is_file():
                raise SourceError(f"{path} is missing, so the folder is not complete; copy the whole folder again.")
            with open_file(path) as file:
                empty = file.seek(0, 2) == 0
                content = memoryview(b"") if empty else memoryview(mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ))
            self._shards[number] = path, content
        return self._shards[number]

    def _joined(self, key: str, stored: Stored) -> np.ndarray:
        """A partitioned variable from its slices, which must cover it exactly."""
        dtype = storage_dtype(stored.dtype)
        parts = self._parts.get(key, [])
        sizes = [prod(_span(extent, whole)[1] for extent, whole in zip(extents, stored.shape)) for extents, _ in parts]
        if (
            dtype is None
            or sum(sizes) != prod(stored.shape)
            or any(size * dtype.itemsize != each.size for size, (_, each) in zip(sizes, parts))
        ):
            raise SourceError(
                f"{self.prefix}.index is damaged: the slices of {key} do not make up {list(stored.shape)}."
            )
        made = np.empty(stored.shape, dtype)
        for extents, part in parts:
            spans = [_span(extent, whole) for extent, whole in zip(extents, stored.shape)]
            content = np.frombuffer(self._raw(part, key), dtype).reshape([length for _, length in spans])
            made[tuple(slice(start, start + length) for start, length in spans)] = content
        return made


def _span(extent: tuple[int, int], whole: int) -> tuple[int, int]:
    """Start and length along an axis; a length of -1 is the whole axis."""
    start, length = extent
    return (0, whole) if length < 0 else (start, length)


def _cuts(part: str, shape: tuple[int, ...], where: Path) -> tuple[slice, ...]:
    """A slice as the saver states it: the sizes of the whole, then start,length for each axis, "-" for all of it."""
    try:
        cuts = []
        for each in part.split()[-1].split(":"):
            start, _, length = each.partition(",")
            cuts.append(slice(None) if each == "-" else slice(int(start), int(start) + int(length)))
        if len(cuts) != len(shape):
            raise ValueError
        return tuple(cuts)
    except ValueError:
        raise SourceError(f"{where}.index: the slice {shown(part)} cannot be read.") from None


def _slice_key(key: bytes, where: Path) -> tuple[str, tuple[tuple[int, int], ...]]:
    """The name and the extents that the key of a slice encodes, in an order-preserving code."""
    try:
        name, place = bytearray(), 1
        while key[place : place + 2] != b"\0\1":
            if key[place] in (0x00, 0xFF):
                name.append(key[place])
                place += 2
            else:
                name.append(key[place])
                place += 1
        place += 2
        rank = int.from_bytes(key[place + 1 : place + 1 + key[place]], "big")
        place += 1 + key[place]
        numbers = list(_signed_numbers(key[place:]))
        if len(numbers) != 2 * rank:
            raise ValueError
        return name.decode("utf-8", "backslashreplace"), tuple(zip(numbers[::2], numbers[1::2]))
    except (IndexError, ValueError):
        raise SourceError(f"{where}.index is damaged: the key of a slice cannot be read.") from None


def _signed_numbers(code: bytes) -> Iterator[int]:
    """Whole numbers; the ones at the beginning of the first byte say how many bytes one has."""
    place = 0
    while place < len(code):
        first = code[place]
        if first < 0x80:
            if first != 0x7F:
                raise ValueError
            yield -1
            place += 1
            continue
        count = 8 - (first ^ 0xFF).bit_length()
        if count > 7 or place + count > len(code):
            raise ValueError
        yield int.from_bytes(code[place : place + count], "big") & (1 << 7 * count) - 1
        place += count
