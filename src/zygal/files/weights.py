"""Files of weights alone: what is in them, read without a framework."""

from __future__ import annotations

import os
from dataclasses import dataclass
from math import prod
from pathlib import Path
from typing import Any

from zygal.errors import SourceError
from zygal.files.documents import parse_json
from zygal.files.opening import open_file

_LARGEST_HEADER = 100_000_000


@dataclass(frozen=True)
class StoredWeight:
    """One tensor of a file."""

    name: str
    dtype: str
    shape: tuple[int, ...]


@dataclass(frozen=True)
class WeightsFacts:
    """weights: all tensors, in the order of the file. key: where in the file the model's dictionary stands, if it is
    not the whole; beside: what else the file keeps there."""

    weights: tuple[StoredWeight, ...]
    size_bytes: int
    key: str = ""
    beside: tuple[str, ...] = ()

    def document(self) -> dict[str, Any]:
        """The fields of a JSON result."""
        return {
            "tensors": len(self.weights),
            "parameters": self.parameters,
            "dtypes": self.dtypes,
            "names": [each.name for each in self.weights],
            "shapes": [list(each.shape) for each in self.weights],
            "size_bytes": self.size_bytes,
            "key": self.key or None,
            "beside": list(self.beside),
        }

    @property
    def parameters(self) -> int:
        """How many numbers all tensors hold."""
        return sum(prod(each.shape) for each in self.weights)

    @property
    def dtypes(self) -> list[str]:
        """The dtypes of the tensors, each once."""
        return sorted({each.dtype for each in self.weights})


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
        dtypes = {name: str(entry["dtype"]) for name, entry in entries.items()}
        end = max((int(entry["data_offsets"][1]) for entry in entries.values()), default=0)
    except (TypeError, KeyError, ValueError, IndexError) as fault:
        raise SourceError(
            f"the header of {path} is damaged ({type(fault).__name__}: {fault}); copy it again."
        ) from fault
    if 8 + length + end > size:
        raise SourceError(
            f"{path} is truncated: it holds {size} bytes, but its tensors end at {8 + length + end}; copy it again."
        )
    return WeightsFacts(tuple(StoredWeight(name, dtypes[name], tuple(shape)) for name, shape in shapes.items()), size)


def read_keras_weights(path: str | Path) -> WeightsFacts | None:
    """What a HDF5 file of weights holds; None if it holds a whole model. Raises SourceError."""
    import h5py

    found: list[StoredWeight] = []
    try:
        with h5py.File(path, "r") as file:
            if "model_config" in file.attrs:
                return None
            file.visititems(
                lambda name, item: (
                    found.append(StoredWeight(name, str(item.dtype), item.shape))
                    if isinstance(item, h5py.Dataset)
                    else None
                )
            )
    except (OSError, RuntimeError, KeyError, ValueError) as fault:
        raise SourceError(f"{path} is truncated or damaged ({fault}); copy it again.") from fault
    return WeightsFacts(tuple(found), os.path.getsize(path))
