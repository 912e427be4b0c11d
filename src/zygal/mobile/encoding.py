"""Writes tables by the schema. Large vectors of bytes are left out and put behind the tables, so that no second copy of
them is held."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import flatbuffers
import numpy as np

from zygal.mobile.schema import TABLES, UNIONS

_PREPEND = {
    "bool": "Bool",
    "i8": "Int8",
    "u8": "Uint8",
    "u16": "Uint16",
    "i32": "Int32",
    "u32": "Uint32",
    "i64": "Int64",
    "u64": "Uint64",
    "f32": "Float32",
}
_DTYPES = {"bool": "?", "u8": "u1", "i32": "<i4", "i64": "<i8", "f32": "<f4"}


class Outside:
    """A vector of bytes that is put behind the tables. payload: has a `size`."""

    def __init__(self, payload: Any):
        self.payload = payload


class Encoder:
    """Tables as dictionaries of their fields; a field that is left out has its default."""

    def __init__(self) -> None:
        self._builder = flatbuffers.Builder(1 << 16)
        self._texts: dict[str, int] = {}
        self._outside: list[tuple[int, Any]] = []

    def outside(self, length: int) -> list[tuple[int, Any]]:
        """Of each vector outside, the byte of the finished tables at which its offset must stand, and its payload."""
        return [(length - place, payload) for place, payload in self._outside]

    def finished(self, fields: Mapping[str, Any], name: str, identifier: bytes) -> bytes:
        """The whole flatbuffer."""
        self._builder.Finish(self._table(fields, name), identifier)
        return bytes(self._builder.Output())

    def _table(self, fields: Mapping[str, Any], name: str) -> int:
        layout = TABLES[name]
        unknown = set(fields) - {field for field, *_ in layout}
        if unknown:
            raise KeyError(f"{name} has no field {sorted(unknown)[0]}")
        made = {
            field: self._made(fields, field, kind)
            for field, kind, *_ in layout
            if fields.get(field) is not None and kind not in _PREPEND
        }
        builder = self._builder
        builder.StartObject(len(layout))
        for number, (field, kind, *default) in enumerate(layout):
            if field in made:
                builder.PrependUOffsetTRelativeSlot(number, made[field], 0)
                if isinstance(fields[field], Outside):
                    # The builder works from the end, so places count from there.
                    self._outside.append((builder.Offset(), fields[field].payload))
            elif kind in _PREPEND and fields.get(field) is not None:
                getattr(builder, f"Prepend{_PREPEND[kind]}Slot")(number, fields[field], default[0] if default else 0)
        return builder.EndObject()

    def _made(self, fields: Mapping[str, Any], field: str, kind: str) -> int:
        value = fields[field]
        if isinstance(value, Outside):
            return self._vector((), "u8")
        if kind == "text":
            return self._text(value)
        if kind.startswith("union "):
            return self._table(value, UNIONS[kind[6:]][fields[f"{field}_type"]])
        if not kind.startswith("["):
            return self._table(value, kind)
        return self._vector(value, kind[1:-1])

    def _text(self, value: str) -> int:
        if value not in self._texts:
            self._texts[value] = self._builder.CreateString(value)
        return self._texts[value]

    def _vector(self, values: Sequence[Any], kind: str) -> int:
        if kind in _DTYPES:
            return self._builder.CreateNumpyVector(np.ascontiguousarray(values, _DTYPES[kind]))
        made = [self._text(each) if kind == "text" else self._table(each, kind) for each in values]
        self._builder.StartVector(4, len(made), 4)
        for each in reversed(made):
            self._builder.PrependUOffsetTRelative(each)
        return self._builder.EndVector()
