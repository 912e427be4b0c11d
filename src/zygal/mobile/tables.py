"""Reads the tables of a flatbuffer by the schema, every offset checked before it is followed.

A table begins with the distance back to its list of fields (the vtable), which says how far into the table each field
lies. Layout: the public description of flatbuffers' internals.
"""

from __future__ import annotations

from types import SimpleNamespace
from typing import Any

import numpy as np
from flatbuffers import number_types as numbers
from flatbuffers import packer
from flatbuffers.encode import Get

from zygal.errors import FileError
from zygal.mobile.schema import TABLES, UNIONS

_SCALARS = {
    "bool": (packer.boolean, numbers.BoolFlags),
    "i8": (packer.int8, numbers.Int8Flags),
    "u8": (packer.uint8, numbers.Uint8Flags),
    "u16": (packer.uint16, numbers.Uint16Flags),
    "i32": (packer.int32, numbers.Int32Flags),
    "u32": (packer.uint32, numbers.Uint32Flags),
    "i64": (packer.int64, numbers.Int64Flags),
    "u64": (packer.uint64, numbers.Uint64Flags),
    "f32": (packer.float32, numbers.Float32Flags),
}
_DTYPES = {"bool": "?", "i8": "i1", "u8": "u1", "u16": "<u2", "i32": "<i4", "u32": "<u4", "i64": "<i8", "f32": "<f4"}
LARGEST_TEXT = 1 << 20
MOST_TABLES = 1 << 20


class Decoder:
    """The tables of one file. where: its name for messages."""

    def __init__(self, data: memoryview, where: str):
        self._data, self._where, self._tables, self._text = data, where, 0, 0
        self._listed = 0

    def root(self, name: str) -> SimpleNamespace:
        """The outermost table. Raises FileError, here and in all other methods."""
        return self._table(self._offset(0), name)

    def damaged(self, what: str) -> FileError:
        """The error of a file that breaks its own rules."""
        return FileError(f"{self._where} is truncated or damaged: {what}; copy it again from its source.")

    def _number(self, position: int, kind: str) -> Any:
        form, flags = _SCALARS[kind]
        self._check(position, flags.bytewidth, kind)
        return Get(form, self._data, position)

    def _check(self, position: int, size: int, what: str) -> None:
        if position < 0 or size < 0 or position + size > len(self._data):
            raise self.damaged(f"a field ({what}) lies at byte {position} of {len(self._data)}")

    def _offset(self, position: int) -> int:
        """Where an offset leads to: always forward."""
        distance = self._number(position, "u32")
        if not distance:
            raise self.damaged(f"the offset at byte {position} leads to itself")
        self._check(position + distance, 4, "an offset")
        return position + distance

    def _table(self, position: int, name: str) -> SimpleNamespace:
        self._tables += 1
        if self._tables > MOST_TABLES:
            raise self.damaged(f"it holds more than {MOST_TABLES} tables")
        found = SimpleNamespace()
        if TABLES[name] is None:
            return found
        places = self._places(position, name)
        for number, (field, kind, *default) in enumerate(TABLES[name]):
            if not field:
                continue
            place = places[number] if number < len(places) else 0
            if kind.startswith("union "):
                value = self._union(place, kind[6:], getattr(found, f"{field}_type"))
            elif place:
                value = self._value(place, kind, f"{name}.{field}")
            else:
                value = default[0] if default else _ABSENT.get(kind, None if kind not in _SCALARS else 0)
            setattr(found, field, value)
        return found

    def _places(self, position: int, name: str) -> list[int]:
        """Where each field of a table lies, 0 for those that are left out."""
        start = position - self._number(position, "i32")
        size, extent = self._number(start, "u16"), self._number(start + 2, "u16")
        self._check(start, size, "a list of fields")
        self._check(position, extent, f"the table {name}")
        if size < 4 or size % 2:
            raise self.damaged(f"the list of fields of {name} is {size} bytes long")
        found = np.frombuffer(self._data, "<u2", (size - 4) // 2, start + 4).tolist()
        if any(found[len(TABLES[name]) :]):
            number = next(at for at in range(len(TABLES[name]), len(found)) if found[at])
            raise FileError(
                f"{self._where} has a table {name} with a field (number {number}) that version 3 of the format, as it "
                "is known here, does not have; save the model for an older release of the mobile runtime."
            )
        if any(each >= extent for each in found):
            raise self.damaged(f"a field of {name} lies behind its end")
        return [position + each if each else 0 for each in found]

    def _value(self, place: int, kind: str, what: str) -> Any:
        if kind in _SCALARS:
            return self._number(place, kind)
        target = self._offset(place)
        if kind == "text":
            return self._text_at(target, what)
        if not kind.startswith("["):
            return self._table(target, kind)
        return self._vector(target, kind[1:-1], what)

    def _text_at(self, position: int, what: str) -> str:
        length = self._number(position, "u32")
        self._text += length
        if self._text > max(LARGEST_TEXT, len(self._data)):
            raise self.damaged(f"its names ({what}) are longer than the file")
        self._check(position + 4, length, what)
        return bytes(self._data[position + 4 : position + 4 + length]).decode("utf-8", "backslashreplace")

    def _vector(self, position: int, kind: str, what: str) -> Any:
        """Numbers as an array over the file itself, tables as a list."""
        length = self._number(position, "u32")
        width = np.dtype(_DTYPES[kind]).itemsize if kind in _DTYPES else 4
        self._check(position + 4, length * width, what)
        if kind in _DTYPES:
            return np.frombuffer(self._data, _DTYPES[kind], length, position + 4)
        self._listed += length
        if self._listed > MOST_TABLES:
            raise self.damaged(f"it lists more than {MOST_TABLES} tables")
        places = [self._offset(position + 4 + 4 * at) for at in range(length)]
        return [self._text_at(place, what) if kind == "text" else self._table(place, kind) for place in places]

    def _union(self, place: int, name: str, sort: int) -> SimpleNamespace | None:
        """A table of the sort that the number says; None where there is none, or where nothing is known of such
        tables."""
        if not sort or not place or sort not in UNIONS[name]:
            return None
        return self._table(self._offset(place), UNIONS[name][sort])


_ABSENT: dict[str, Any] = {"bool": False, "f32": 0.0, "text": ""}
