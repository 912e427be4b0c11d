"""The two files that Keras writes, opened without it: the .keras archive and the whole-model HDF5 file."""

from __future__ import annotations

import json
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import h5py
import numpy as np

from zygal import kinds
from zygal.archives import open_zip, zip_faults
from zygal.errors import FileError, SourceError
from zygal.files import existing_file

LARGEST_CONFIGURATION_BYTES = 200_000_000


@dataclass(frozen=True)
class KerasFile:
    """What a file holds: the configuration of the model as JSON has it, and the open group of weights.

    `by_place` says how weights are found: by the place of layers in their containers (.keras), or by the
    layers' names (HDF5).
    """

    path: Path
    configuration: dict[str, Any]
    version: str
    backend: str
    weights: h5py.Group
    by_place: bool


@contextmanager
def open_keras(path: str | Path) -> Iterator[KerasFile]:
    """Opens either container. Arrays read from it may be views of the open file. Raises FileError or SourceError."""
    kind = kinds.kind_of(path)
    if kind == kinds.KERAS_ARCHIVE:
        with _open_archive(Path(path)) as opened:
            yield opened
    elif kind == kinds.HDF5:
        with _open_hdf5(existing_file(path)) as opened:
            yield opened
    else:
        raise FileError(f"{path} is {kind}, but a Keras model is needed here; check the path.")


@contextmanager
def _open_archive(path: Path) -> Iterator[KerasFile]:
    what = "a .keras archive"
    with open_zip(path, what, SourceError) as archive, tempfile.NamedTemporaryFile(suffix=".h5") as copy:
        with zip_faults(path, what, SourceError):
            sizes = {info.filename: info.file_size for info in archive.infolist()}
            # A stored member cannot be larger than the file that holds it; a packed one not much.
            if (
                sizes["model.weights.h5"] > 40 * path.stat().st_size
                or sizes["config.json"] > LARGEST_CONFIGURATION_BYTES
            ):
                raise SourceError(f"{path} unpacks to an absurd size, so it is damaged or made to do harm.")
            configuration = _json(archive.read("config.json"), path, "config.json")
            metadata = _json(archive.read("metadata.json"), path, "metadata.json") if "metadata.json" in sizes else {}
            with archive.open("model.weights.h5") as packed:
                shutil.copyfileobj(packed, copy, 1 << 20)
        copy.flush()
        with _open_group(Path(copy.name), path) as weights:
            version = str(metadata.get("keras_version", "3"))
            yield KerasFile(path, configuration, version, "", weights, by_place=True)


@contextmanager
def _open_hdf5(path: Path) -> Iterator[KerasFile]:
    with _open_group(path, path) as root:
        attributes = {name: _text(root.attrs[name]) for name in root.attrs if name != "training_config"}
        if "model_config" not in attributes or attributes["model_config"] in ("", "null"):
            raise SourceError(
                f"{path} {_what_instead(root)}; save the whole model with model.save('model.keras'), or build the model in "
                "Keras, load these weights and save it whole."
            )
        configuration = _json(attributes["model_config"].encode(), path, "its model_config")
        if "model_weights" not in root:
            raise SourceError(f"{path} is damaged: it has no group model_weights; save the model again.")
        weights = root["model_weights"]
        version = attributes.get("keras_version") or _text(weights.attrs.get("keras_version", "1"))
        backend = attributes.get("backend") or _text(weights.attrs.get("backend", "theano"))
        yield KerasFile(path, configuration, version, backend, weights, by_place=False)


def _what_instead(root: h5py.Group) -> str:
    if "layer_names" in root.attrs or any(name in root for name in ("layers", "_layer_checkpoint_dependencies")):
        return "holds weights alone, without the configuration that says which layers they belong to"
    if "model_weights" in root:
        return "was saved without a configuration, as models are that are written as a class of their own"
    return "is an HDF5 file, but not one that Keras wrote"


@contextmanager
def _open_group(file: Path, path: Path) -> Iterator[h5py.File]:
    try:
        opened = h5py.File(file, "r")
    except (OSError, RuntimeError, ValueError, KeyError) as fault:
        first = str(fault).splitlines()[0] if str(fault) else type(fault).__name__
        raise SourceError(f"{path} is truncated or damaged ({first}); copy it again from where it was made.") from fault
    with opened:
        try:
            yield opened
        except (OSError, RuntimeError, KeyError, ValueError, TypeError, UnicodeError, MemoryError) as fault:
            # What h5py raises on damage inside; Zygal's own errors pass.
            first = str(fault).splitlines()[0] if str(fault) else type(fault).__name__
            raise SourceError(f"{path} is damaged or inconsistent ({type(fault).__name__}: {first}).") from fault


def child(group: h5py.Group, way: str, path: Path) -> h5py.Group | h5py.Dataset | None:
    """What lies at a way of names inside a group, or None. Raises SourceError on links that leave the file."""
    for name in way.split("/"):
        if not name or not isinstance(group, h5py.Group):
            return None
        links, encoded = group.id.links, name.encode()
        if not links.exists(encoded):
            return None
        if links.get_info(encoded).type != h5py.h5l.TYPE_HARD:
            raise SourceError(f"{path} holds a link at {group.name}/{name} instead of weights; save the model again.")
        group = group[name]
    return group


def read_array(dataset: h5py.Dataset, path: Path) -> np.ndarray:
    """The numbers of a dataset: memory-mapped where they lie in one piece. Raises SourceError."""
    if dataset.external or dataset.is_virtual:
        raise SourceError(f"{path} keeps {dataset.name} in other files; save the model again as one file.")
    if dataset.dtype.kind not in "fiub" or dataset.dtype.itemsize > 8:
        raise SourceError(f"{path} keeps {dataset.name} as {dataset.dtype}, which is no dtype of weights.")
    stored = dataset.id.get_storage_size()
    if dataset.size and (stored == 0 or dataset.nbytes > 200 * stored):
        raise SourceError(f"{path} says that {dataset.name} is {list(dataset.shape)}, but holds {stored} bytes of it.")
    offset = dataset.id.get_offset()
    if offset is None or dataset.chunks is not None or not dataset.size:
        return dataset[()]
    if stored != dataset.nbytes:
        raise SourceError(
            f"{path} is truncated: {dataset.name} is {dataset.nbytes} bytes, of which {stored} are there."
        )
    return np.memmap(dataset.file.filename, dataset.dtype, "r", offset, dataset.shape)


def names_in(group: h5py.Group, attribute: str) -> list[str]:
    """A list of names kept as an attribute; long lists are kept in numbered parts."""
    if attribute in group.attrs:
        return [_text(name) for name in group.attrs[attribute]]
    names, part = [], 0
    while f"{attribute}{part}" in group.attrs:
        names += [_text(name) for name in group.attrs[f"{attribute}{part}"]]
        part += 1
    return names


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)


def _json(content: bytes, path: Path, what: str) -> dict[str, Any]:
    try:
        document = json.loads(content)
    except (ValueError, RecursionError) as fault:
        raise SourceError(f"{path} is damaged: {what} is not JSON ({fault}); save the model again.") from fault
    if not isinstance(document, dict):
        raise SourceError(f"{path} is damaged: {what} describes no model; save the model again.")
    return document
