"""The two files that Keras writes, opened without it: the .keras archive and the whole-model HDF5 file."""

from __future__ import annotations

import os
import re
import shutil
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from math import prod
from pathlib import Path
from typing import Any

import h5py
import numpy as np

from zygal.errors import FileError, SourceError, shown
from zygal.files import kinds
from zygal.files.archives import PLAUSIBLE_RATIO, open_zip, read_member, zip_faults
from zygal.files.documents import parse_json
from zygal.files.opening import existing_file
from zygal.files.recognition import kind_of
from zygal.files.web_weights import read_web_model
from zygal.files.writing import scratch_folder
from zygal.sources.keras.heaps import check_heaps

LARGEST_CONFIGURATION_BYTES = 16_000_000
LARGEST_METADATA_BYTES = 1_000_000


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
    notes: tuple[str, ...] = ()


@contextmanager
def open_keras(path: str | Path) -> Iterator[KerasFile]:
    """Opens either container. Arrays read from it may be views of the open file. Raises FileError or SourceError."""
    kind = kind_of(path)
    if kind == kinds.KERAS_ARCHIVE:
        with _open_archive(Path(path)) as opened:
            yield opened
    elif kind == kinds.HDF5:
        with _open_hdf5(existing_file(path)) as opened:
            yield opened
    elif kind == kinds.WEB_LAYERS:
        with _open_web_layers(Path(path)) as opened:
            yield opened
    else:
        raise FileError(f"{path} is {kind}, but a Keras model is needed here; check the path.")


@contextmanager
def _open_archive(path: Path) -> Iterator[KerasFile]:
    what = "a .keras archive"
    with open_zip(path, what, SourceError) as archive, scratch_folder() as folder:
        configuration = _member(archive, "config.json", path, LARGEST_CONFIGURATION_BYTES)
        version = "3"
        if "metadata.json" in archive.NameToInfo:
            version = _version(
                _member(archive, "metadata.json", path, LARGEST_METADATA_BYTES).get("keras_version", "3")
            )
        copy = folder / "weights.h5"
        with zip_faults(path, what, SourceError), copy.open("wb") as file:
            info = archive.getinfo("model.weights.h5")
            # Numbers of a trained model pack little.
            if info.file_size > PLAUSIBLE_RATIO * max(info.compress_size, 4096):
                raise SourceError(f"{path} unpacks to an implausible size, so it is damaged or malicious.")
            with archive.open(info) as packed:
                shutil.copyfileobj(packed, file, 1 << 20)
        with _open_group(copy, path) as weights:
            yield KerasFile(path, configuration, version, "", weights, by_place=True)


def _member(archive: zipfile.ZipFile, name: str, path: Path, most: int) -> dict[str, Any]:
    return parse_json(read_member(archive, name, path, SourceError, most), f"{name} of {path}", SourceError)


def _version(value: Any) -> str:
    """A version as the files keep it; of anything else nothing is believed."""
    return value if isinstance(value, str) and re.fullmatch(r"[0-9][0-9A-Za-z.+-]{0,40}", value) else "3"


@contextmanager
def _open_hdf5(path: Path) -> Iterator[KerasFile]:
    with _open_group(path, path) as root:
        stated = text_attribute(root, "model_config", path)
        if not isinstance(stated, str) or stated in ("", "null"):
            raise SourceError(
                f"{path} {_what_instead(root)}; save the whole model with model.save('model.keras'), or give "
                "FILE.py:FUNCTION, which builds the model, with --weights and this file."
            )
        configuration = parse_json(stated, f"the model_config of {path}", SourceError)
        weights = child(root, "model_weights", path)
        if not isinstance(weights, h5py.Group):
            raise SourceError(f"{path} is damaged: it has no group model_weights; save the model again.")
        version, backend = (
            text_attribute(root, name, path) or text_attribute(weights, name, path) or default
            for name, default in (("keras_version", "1"), ("backend", "theano"))
        )
        if not isinstance(version, str) or not isinstance(backend, str):
            raise SourceError(f"{path} is damaged: it names several versions of Keras; save the model again.")
        yield KerasFile(path, configuration, version, backend, weights, by_place=False)


@contextmanager
def _open_web_layers(path: Path) -> Iterator[KerasFile]:
    """A web model of layers: its configuration is that of an HDF5 file, and its weights are put into the same form."""
    web = read_web_model(path)
    configuration = web.topology.get("model_config", web.topology)
    stated = web.topology.get("keras_version") or (
        configuration.get("keras_version") if isinstance(configuration, dict) else None
    )
    if not isinstance(configuration, dict):
        raise SourceError(f"{path} does not follow its schema: its model_config is no object.")
    # A version that is no Keras release belongs to a writer that follows the second age.
    version = stated if isinstance(stated, str) and re.match(r"[0-9]", stated) else "2"
    with scratch_folder() as folder:
        copy = folder / "weights.h5"
        with h5py.File(copy, "w") as file:
            _write_by_layers(file, configuration, web.arrays, path)
        with _open_group(copy, path) as weights:
            yield KerasFile(path, configuration, version, "tensorflow", weights, by_place=False, notes=web.notes)


def _write_by_layers(file: h5py.File, configuration: dict[str, Any], arrays: dict[str, np.ndarray], path: Path) -> None:
    """Each array into the group of the layer of the outermost model that holds it."""
    holders = _holders(configuration, path)
    listed: dict[str, list[str]] = {}
    for name, array in arrays.items():
        owner = next((holders[part] for part in name.split("/")[:-1] if part in holders), None)
        if owner is None:
            raise SourceError(
                f"{path} holds weights {shown(name)}, which belong to none of its layers; save the model again."
            )
        file.create_dataset(f"{owner}/{name}", data=array)
        listed.setdefault(owner, []).append(name)
    for owner, names in listed.items():
        file[owner].attrs["weight_names"] = [name.encode() for name in names]


def _holders(configuration: dict[str, Any], path: Path) -> dict[str, str]:
    """For the name of every layer the layer of the outermost model that it is, or that it lies in."""
    made: dict[str, str] = {}

    def note(entries: Any, owner: str | None, depth: int) -> None:
        if depth > 40 or not isinstance(entries, list):
            raise SourceError(f"{path} does not follow its schema: its layers are no list, or nested too deep.")
        for entry in entries:
            config = entry.get("config") if isinstance(entry, dict) else None
            name = (entry.get("name") or (config or {}).get("name")) if isinstance(config, dict) else None
            if isinstance(name, str):
                made.setdefault(name, owner or name)
                if "layers" in config:
                    note(config["layers"], owner or name, depth + 1)

    config = configuration.get("config")
    note(config if isinstance(config, list) else (config or {}).get("layers"), None, 0)
    return made


def _what_instead(root: h5py.Group) -> str:
    if "layer_names" in root.attrs or any(name in root for name in ("layers", "_layer_checkpoint_dependencies")):
        return "holds weights alone, without the configuration that says which layers they belong to"
    if "model_weights" in root:
        return "was saved without a configuration, as models are that are written as a class of their own"
    return "is an HDF5 file, but not one that Keras wrote"


@contextmanager
def _open_group(file: Path, path: Path) -> Iterator[h5py.File]:
    check_heaps(file, path)
    try:
        opened = h5py.File(file, "r")
    except (OSError, RuntimeError, ValueError, KeyError) as fault:
        first = str(fault).splitlines()[0] if str(fault) else type(fault).__name__
        raise SourceError(f"{path} is truncated or damaged ({first}); copy it again from its source.") from fault
    with opened:
        try:
            yield opened
        except (OSError, RuntimeError, KeyError, ValueError, TypeError, UnicodeError, MemoryError) as fault:
            # What h5py raises on damage inside; Zygal's own errors pass.
            first = str(fault).splitlines()[0] if str(fault) else type(fault).__name__
            raise SourceError(f"{path} is damaged or inconsistent ({type(fault).__name__}: {first}).") from fault


def child(group: h5py.Group, name_path: str, path: Path) -> h5py.Group | h5py.Dataset | None:
    """The object at a path of names (a/b/c) inside a group, or None. Raises SourceError on links that leave the
    file."""
    for name in name_path.split("/"):
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
    if dataset.dtype.kind not in "fiub" or dataset.dtype.itemsize > 8 or dataset.shape is None:
        raise SourceError(f"{path} keeps {dataset.name} as {dataset.dtype}, which is not a dtype of weights.")
    stored = dataset.id.get_storage_size()
    available = os.path.getsize(dataset.file.filename)
    if dataset.size and (stored == 0 or stored > available or dataset.nbytes > PLAUSIBLE_RATIO * max(stored, 4096)):
        raise SourceError(f"{path} says that {dataset.name} is {list(dataset.shape)}, but holds {stored} bytes of it.")
    offset = dataset.id.get_offset()
    if offset is None or dataset.chunks is not None or not dataset.size:
        return dataset[()]
    if stored != dataset.nbytes:
        raise SourceError(
            f"{path} is truncated: {dataset.name} is {dataset.nbytes} bytes, of which {stored} are there."
        )
    return np.memmap(dataset.file.filename, dataset.dtype, "r", offset, dataset.shape)


def text_attribute(group: h5py.Group, name: str, path: Path) -> str | list[str] | None:
    """A text, or a list of texts, kept as an attribute; None if there is none. Raises SourceError."""
    if name not in group.attrs:
        return None
    available = group.attrs.get_id(name)
    claimed = available.dtype.itemsize * prod(
        available.shape or (1,)
    )  # Texts of any length lie elsewhere in the file, as they are.
    if claimed > LARGEST_CONFIGURATION_BYTES or available.dtype.kind not in "SOU":
        if available.dtype.kind == "f" and 0 in available.shape:
            return []  # A layer without arrays: an empty list has no dtype of its own.
        raise SourceError(f"{path} is damaged: its attribute {shown(name)} is not text; save the model again.")
    value = group.attrs[name]
    if isinstance(value, (str, bytes)):
        return _text(value)
    return [_text(each) for each in np.asarray(value).reshape(-1)]


def names_in(group: h5py.Group, attribute: str, path: Path) -> list[str]:
    """A list of names kept as an attribute; long lists are kept in numbered parts. Raises SourceError."""
    names, part = text_attribute(group, attribute, path), 0
    while names is None or part:
        more = text_attribute(group, f"{attribute}{part}", path)
        if more is None:
            break
        names, part = [*(names or []), *([more] if isinstance(more, str) else more)], part + 1
    return [names] if isinstance(names, str) else names or []


def _text(value: Any) -> str:
    return value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
