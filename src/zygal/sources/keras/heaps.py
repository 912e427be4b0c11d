"""The heaps of an HDF5 file, in which texts of any length lie, checked before the library walks them.

A heap is `GCOL`, version 1, three zeros, its size, and objects one after the other: number, count of references, four
zeros, size, and the bytes, filled up to a multiple of eight; the number 0 is free space and its size counts its own
head (HDF5 File Format Specification, section III.E). The library walks on by what an object says of its size, and for
ever where that is 0.
"""

from __future__ import annotations

import mmap
import struct
from pathlib import Path

from zygal.errors import SourceError
from zygal.files.opening import open_file

_MARK = b"GCOL\x01\0\0\0"
_SIZE, _OBJECT = struct.Struct("<Q"), struct.Struct("<HHIQ")
_HEAD = len(_MARK) + _SIZE.size


def check_heaps(file: str | Path, named: str | Path) -> None:
    """Raises SourceError where a heap would not be walked to its end. `named` is the file in the message."""
    with open_file(file) as opened:
        try:
            content = mmap.mmap(opened.fileno(), 0, access=mmap.ACCESS_READ)
        except ValueError:  # An empty file.
            return
        with content:
            offset = content.find(_MARK)
            while offset >= 0:
                if not _is_sound(content, offset):
                    raise SourceError(f"{named} is damaged: one of its string heaps is invalid; save the model again.")
                offset = content.find(_MARK, offset + 1)


def _is_sound(content: mmap.mmap, offset: int) -> bool:
    if offset + _HEAD > len(content):
        return False
    (size,) = _SIZE.unpack_from(content, offset + len(_MARK))
    end = offset + size
    if size < _HEAD or end > len(content):
        return False
    at = offset + _HEAD
    while at + _OBJECT.size <= end:
        number, _, _, object_size = _OBJECT.unpack_from(content, at)
        step = object_size if number == 0 else _OBJECT.size + (object_size + 7) // 8 * 8
        if step < _OBJECT.size or at + step > end:
            return False
        at += step
    return True
