"""The weights beside a model.json: a manifest of names, shapes and dtypes, and shards that hold their bytes one after
the other."""

from __future__ import annotations

from dataclasses import dataclass
from math import prod
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files.documents import parse_json
from zygal.files.opening import read_bytes, read_text

LARGEST_DOCUMENT_BYTES = 256_000_000
LARGEST_SHARD_BYTES = (1 << 31) - 1
_DTYPES = {
    "float32": "<f4",
    "int32": "<i4",
    "bool": "|b1",
    "uint8": "|u1",
    "float16": "<f2",
    "float64": "<f8",
    "int64": "<i8",
    "int8": "|i1",
}
_AFFINE = {"uint8": "|u1", "uint16": "<u2"}


@dataclass(frozen=True)
class WebModel:
    """A model.json. topology: its layers or its graph. arrays: the weights by name, widened to float32. widened: from
    what."""

    path: Path
    document: dict[str, Any]
    arrays: dict[str, np.ndarray]
    widened: tuple[str, ...]

    @property
    def topology(self) -> dict[str, Any]:
        """The graph or the layers. Raises SourceError if there are none."""
        found = self.document.get("modelTopology")
        if not isinstance(found, dict):
            raise SourceError(f"{self.path} holds no modelTopology, so it says nothing of the model; copy it again.")
        return found

    @property
    def notes(self) -> tuple[str, ...]:
        """Sentences on what was stored in fewer bits."""
        if not self.widened:
            return ()
        return (
            f"the weights are stored as {' and '.join(self.widened)}; the artifact holds them in float32, as "
            f"the model computes with them",
        )


def read_web_model(path: Path) -> WebModel:
    """Raises FileError or SourceError."""
    document = parse_json(read_text(path, "a web model", LARGEST_DOCUMENT_BYTES), str(path), SourceError)
    arrays: dict[str, np.ndarray] = {}
    widened: dict[str, None] = {}
    for group in _groups(document, path):
        content = b"".join(read_bytes(each, "a shard of weights", LARGEST_SHARD_BYTES) for each in _shards(group, path))
        place = 0
        for entry in group.get("weights") or []:
            array, place, stored = _array(entry, content, place, path)
            arrays[str(entry["name"])] = array
            if stored is not None:
                widened[stored] = None
        if place != len(content):
            raise SourceError(
                f"{path}: its shards hold {len(content)} bytes of weights and its manifest {place}; copy all "
                f"files again."
            )
    return WebModel(path, document, arrays, tuple(widened))


def shard_paths(path: Path) -> list[Path]:
    """The files beside a model.json that hold its weights. Raises FileError or SourceError."""
    document = parse_json(read_text(path, "a web model", LARGEST_DOCUMENT_BYTES), str(path), SourceError)
    return [each for group in _groups(document, path) for each in _shards(group, path)]


def _groups(document: dict[str, Any], path: Path) -> list[dict[str, Any]]:
    groups = document.get("weightsManifest") or []
    if not isinstance(groups, list) or not all(isinstance(each, dict) for each in groups):
        raise SourceError(f"{path} does not follow its schema: weightsManifest must be a list of groups.")
    return groups


def _shards(group: dict[str, Any], path: Path) -> list[Path]:
    listed = group.get("paths") or []
    # Nothing beside the model's own folder is read, whatever the file says.
    if not isinstance(listed, list) or not all(
        isinstance(each, str) and each and not {"/", "\\"} & set(each) and each != ".." for each in listed
    ):
        raise SourceError(f"{path} names shards of weights that do not lie beside it ({shown(listed)}).")
    found = [path.with_name(each) for each in listed]
    missing = [each.name for each in found if not each.is_file()]
    if missing:
        raise SourceError(f"{path} needs {missing[0]} beside it, which is missing; copy all files of the model.")
    return found


def _array(entry: Any, content: bytes, place: int, path: Path) -> tuple[np.ndarray, int, str | None]:
    """The numbers of one entry, the place behind it, and how it was stored if that is narrower than float32."""
    try:
        name, shape, dtype = entry["name"], tuple(entry["shape"]), entry["dtype"]
        if not all(type(size) is int and size >= 0 for size in shape) or prod(shape) > len(content):
            raise ValueError
    except (KeyError, TypeError, ValueError):
        raise SourceError(
            f"{path} does not follow its schema: the weight {shown(entry)} has no name, shape or dtype, or is "
            f"larger than the shards; copy all files again."
        ) from None
    packing = entry.get("quantization")
    if packing is not None and not isinstance(packing, dict):
        raise SourceError(f"{path} does not follow its schema: the quantization of {name} is {shown(packing)}.")
    stored = (packing or {}).get("dtype", dtype)
    width = np.dtype(
        (_AFFINE if packing and stored in _AFFINE else _DTYPES).get(stored, "V0") if isinstance(stored, str) else "V0"
    )
    if not width.itemsize or dtype not in _DTYPES:
        raise SourceError(f"{path} keeps {name} as {shown(stored)}, which is not supported.")
    end = place + prod(shape) * width.itemsize
    if end > len(content):
        raise SourceError(f"{path}: the shards end before {name}; copy all files again.")
    array = np.frombuffer(content[place:end], width).reshape(shape)
    if packing and stored in _AFFINE:
        array = _unpacked(array, packing, dtype, name, path)
        return array, end, "8-bit numbers with a scale" if stored == "uint8" else "16-bit numbers with a scale"
    if array.dtype.kind == "f" and array.dtype != np.float32:
        return array.astype(np.float32), end, stored
    return array, end, None


def _unpacked(array: np.ndarray, packing: dict[str, Any], dtype: str, name: str, path: Path) -> np.ndarray:
    """stored * scale + min, in float32 as the web runtime computes it."""
    scale, least = packing.get("scale"), packing.get("min")
    if any(isinstance(each, bool) or not isinstance(each, int | float) for each in (scale, least)):
        raise SourceError(f"{path} does not follow its schema: {name} has no scale or no min.")
    made = array.astype(np.float32) * np.float32(scale) + np.float32(least)
    return np.rint(made).astype(np.int32) if dtype == "int32" else made
