"""Files of weights alone: what is in them, read without a framework."""

from __future__ import annotations

import os
from dataclasses import dataclass
from math import prod
from pathlib import Path

from zygal.errors import SourceError
from zygal.files.documents import parse_json
from zygal.files.opening import open_file

_LARGEST_HEADER = 100_000_000


@dataclass(frozen=True)
class WeightsFacts:
    """tensors, parameters: how many there are. dtypes: of the tensors. names: of all tensors, in the order of the
    file."""

    tensors: int
    parameters: int
    dtypes: tuple[str, ...]
    names: tuple[str, ...]
    size_bytes: int


def read_safetensors(path: str | Path) -> WeightsFacts:
    """By the header of the open format: its length in 8 bytes, then JSON. Raises FileError or SourceError."""
    size = os.path.getsize(path)
    with open_file(path) as file:
        length = int.from_bytes(file.read(8), "little")
        if length > min(size - 8, _LARGEST_HEADER):
            raise SourceError(f"{path} is truncated: its header is longer than the file; copy it again.")
        header = parse_json(file.read(length), f"the header of {path}", SourceError)
    entries = {name: entry for name, entry in header.items() if name != "__metadata__"}
    try:
        shapes = {name: [int(side) for side in entry["shape"]] for name, entry in entries.items()}
        dtypes = {str(entry["dtype"]) for entry in entries.values()}
        end = max((int(entry["data_offsets"][1]) for entry in entries.values()), default=0)
    except (TypeError, KeyError, ValueError, IndexError) as fault:
        raise SourceError(
            f"the header of {path} is damaged ({type(fault).__name__}: {fault}); copy it again."
        ) from fault
    if 8 + length + end > size:
        raise SourceError(
            f"{path} is truncated: it holds {size} bytes, but its tensors end at {8 + length + end}; copy it again."
        )
    return WeightsFacts(len(shapes), sum(map(prod, shapes.values())), tuple(sorted(dtypes)), tuple(shapes), size)


def read_keras_weights(path: str | Path) -> WeightsFacts | None:
    """What a HDF5 file of weights holds; None if it holds a whole model. Raises SourceError."""
    import h5py

    found: dict[str, tuple[int, str]] = {}
    try:
        with h5py.File(path, "r") as file:
            if "model_config" in file.attrs:
                return None
            file.visititems(
                lambda name, item: (
                    found.update({name: (item.size, str(item.dtype))}) if isinstance(item, h5py.Dataset) else None
                )
            )
    except (OSError, RuntimeError, KeyError, ValueError) as fault:
        raise SourceError(f"{path} is truncated or damaged ({fault}); copy it again.") from fault
    dtypes = tuple(sorted({dtype for _, dtype in found.values()}))
    return WeightsFacts(
        len(found), sum(size for size, _ in found.values()), dtypes, tuple(found), os.path.getsize(path)
    )
