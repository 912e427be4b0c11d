"""Arrays in NumPy's own file format (version 1 and 2, NEP 1), read inside an archive that is not trusted.

The header is text that states a Python dictionary; it is matched, not evaluated, and its size and that of the numbers
are compared with what is there before memory is taken.
"""

from __future__ import annotations

import re
import zipfile
from math import prod
from pathlib import Path

import numpy as np

from zygal.errors import WitnessError, shown
from zygal.files.archives import zip_faults

_MAGIC = b"\x93NUMPY"
_LONGEST_HEADER = 10_000
_HEADER = re.compile(
    r"\{'descr': '(?P<dtype>[<>|=]?[A-Za-z][0-9]{0,2})', 'fortran_order': (?P<fortran>False|True), "
    r"'shape': \((?P<shape>[0-9, ]{0,200})\), ?\}\s*"
)
_DTYPES = {"<f4": np.dtype("<f4"), "|u1": np.dtype("|u1")}


def read_array(archive: zipfile.ZipFile, name: str, path: Path) -> np.ndarray:
    """An array of which the header and the claimed size agree, in an archive that `open_zip` opened, which compares
    what is claimed with what is packed. Raises WitnessError."""
    info = archive.NameToInfo.get(name)
    if info is None:
        raise WitnessError(f"{path} is damaged: it has no {name}; record it again.")
    with zip_faults(path, "a witness", WitnessError), archive.open(info) as member:
        head = member.read(len(_MAGIC) + 2)
        if head[:-2] != _MAGIC or head[-2:] not in (b"\x01\x00", b"\x02\x00"):
            raise WitnessError(f"{path} is damaged: {name} is no array in NumPy's format version 1 or 2.")
        width = 2 if head[-2] == 1 else 4
        length = int.from_bytes(member.read(width), "little")
        if length > _LONGEST_HEADER:
            raise WitnessError(f"{path} is damaged: the header of {name} claims {length} bytes.")
        header = member.read(length).decode("latin-1")
        found = _HEADER.fullmatch(header)
        dtype = found and _DTYPES.get(found["dtype"])
        if not dtype or found["fortran"] == "True":
            raise WitnessError(f"{path} is damaged: the header of {name} is {shown(header)}, which no recording has.")
        digits = [each.strip() for each in found["shape"].split(",") if each.strip()]
        if len(digits) > 8 or any(len(each) > 12 or not (each.isascii() and each.isdigit()) for each in digits):
            raise WitnessError(f"{path} is damaged: {name} is declared with the shape {shown(found['shape'])}.")
        shape = tuple(int(each) for each in digits)
        content_bytes = info.file_size - len(head) - width - length
        if not shape or min(shape) < 1 or prod(shape) * dtype.itemsize != content_bytes:
            raise WitnessError(
                f"{path} is damaged: {name} is declared as {dtype} {list(shape)}, which its size contradicts."
            )
        return np.frombuffer(member.read(), dtype).reshape(shape)
