"""Parameter files (NAME-0000.params): a list of arrays and their names, little-endian, as views of the mapped file.

The file is eight bytes 0x112, eight bytes 0, a count, the arrays, a count, the names. An array is a mark that tells the
form, its shape, the device it was on, the number of its dtype, and its values.
"""

from __future__ import annotations

import os
import re
import struct
from dataclasses import dataclass
from math import prod
from pathlib import Path

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files.opening import existing_file
from zygal.files.recognition import PARAMETERS_MAGIC
from zygal.files.weights import StoredWeight, WeightsFacts

_WITH_SIZES_OF_8, _WITH_STORAGE, _WITH_SIGNED_AXES = 0xF993FAC8, 0xF993FAC9, 0xF993FACA
_DTYPES = {0: "<f4", 1: "<f8", 2: "<f2", 3: "u1", 4: "<i4", 5: "i1", 6: "<i8", 7: "?"}
_NAME = re.compile(r"(?P<stem>.+)-symbol\.json")
MOST_AXES, LONGEST_NAME = 32, 4096


@dataclass
class _Cursor:
    """Reads through the mapped bytes. Raises SourceError where they end."""

    path: Path
    data: np.ndarray
    at: int = 0

    def take(self, count: int) -> np.ndarray:
        if count > len(self.data) - self.at:
            raise SourceError(f"{self.path} is truncated: it ends within an array or a name; copy it again.")
        self.at += count
        return self.data[self.at - count : self.at]

    def numbers(self, form: str) -> tuple[int, ...]:
        return struct.unpack(f"<{form}", self.take(struct.calcsize(f"<{form}")).tobytes())

    def damaged(self, what: str) -> SourceError:
        return SourceError(f"{self.path} is damaged: {what}; copy it again.")


def read_parameters(path: str | Path) -> dict[str, np.ndarray]:
    """The arrays by their names, which begin with arg: or aux: in files of a whole model. Raises FileError or
    SourceError."""
    path = existing_file(path)
    size = os.path.getsize(path)
    cursor = _Cursor(path, np.memmap(path, np.uint8, "r") if size else np.empty(0, np.uint8))
    if size < len(PARAMETERS_MAGIC) or cursor.take(len(PARAMETERS_MAGIC)).tobytes() != PARAMETERS_MAGIC:
        raise SourceError(f"{path} is no parameter file of MXNet: it does not begin as one; give NAME-0000.params.")
    (count,) = cursor.numbers("Q")
    # An array takes at least its mark, a number of axes, a device and a dtype.
    if count > size // 16:
        raise cursor.damaged(f"it claims {count} arrays")
    arrays = [_array(cursor) for _ in range(count)]
    (named,) = cursor.numbers("Q")
    if named not in (count, 0):
        raise cursor.damaged(f"it has {count} arrays and {named} names")
    if not named and count:
        raise SourceError(f"{path} holds a list of arrays without names, which are no parameters of a model.")
    names = [_name(cursor) for _ in range(named)]
    if len(set(names)) != len(names):
        raise cursor.damaged("two of its arrays have one name")
    if cursor.at != size:
        raise cursor.damaged(f"{size - cursor.at} bytes follow its last name")
    return dict(zip(names, arrays))


def _array(cursor: _Cursor) -> np.ndarray:
    (mark,) = cursor.numbers("I")
    if mark in (_WITH_STORAGE, _WITH_SIGNED_AXES):
        (storage,) = cursor.numbers("i")
        if storage != 0:
            raise SourceError(
                f"{cursor.path} stores an array sparsely (storage type {storage}), which is not supported."
            )
    if mark in (_WITH_STORAGE, _WITH_SIGNED_AXES, _WITH_SIZES_OF_8):
        (axes,) = cursor.numbers("i")
        sizes_of = "q"
    else:
        # The oldest form has no mark: its first number is that of the axes.
        axes, sizes_of = mark, "I"
    if not 0 <= axes <= MOST_AXES:
        raise cursor.damaged(f"an array has {axes} axes")
    if axes == 0 and mark != _WITH_SIGNED_AXES:
        raise SourceError(f"{cursor.path} holds an array that was never filled; save the model after its first run.")
    shape = cursor.numbers(f"{axes}{sizes_of}")
    if any(each < 0 for each in shape) or prod(shape) > len(cursor.data):
        raise cursor.damaged(f"an array claims the shape {list(shape)}")
    cursor.numbers("ii")  # The device that the array was on.
    (number,) = cursor.numbers("i")
    if number not in _DTYPES:
        raise SourceError(f"{cursor.path} stores an array in the dtype number {number}, which is not supported.")
    dtype = np.dtype(_DTYPES[number])
    return cursor.take(prod(shape) * dtype.itemsize).view(dtype).reshape(shape)


def _name(cursor: _Cursor) -> str:
    (length,) = cursor.numbers("Q")
    if length > LONGEST_NAME:
        raise cursor.damaged(f"a name claims {length} bytes")
    try:
        return cursor.take(length).tobytes().decode()
    except UnicodeDecodeError as fault:
        raise cursor.damaged("a name is no text") from fault


def parameters_beside(symbol: Path) -> Path:
    """The parameter file of a symbol file by the usual names, NAME-symbol.json and NAME-0012.params: the highest epoch.
    Raises SourceError if there is none."""
    match = _NAME.fullmatch(symbol.name)
    stem = match["stem"] if match else symbol.stem
    usual = re.compile(rf"{re.escape(stem)}-(\d{{4,}})\.params")
    try:
        found = [(int(each[1]), name) for name in os.listdir(symbol.parent) if (each := usual.fullmatch(name))]
    except OSError:
        found = []
    if not found:
        raise SourceError(
            f"{symbol} holds a graph without its weights, and no {stem}-0000.params lies beside it; name the parameter "
            "file with --weights."
        )
    return symbol.parent / max(found)[1]


def read_weights(path: str | Path) -> WeightsFacts:
    """What a parameter file holds. Raises FileError or SourceError."""
    arrays = read_parameters(path)
    stored = tuple(StoredWeight(shown_name(name), str(each.dtype), each.shape) for name, each in arrays.items())
    return WeightsFacts(stored, os.path.getsize(path))


def shown_name(name: str) -> str:
    """A name on one line."""
    return name if name.isprintable() else shown(name)
