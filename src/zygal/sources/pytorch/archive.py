"""The container of a captured program: a zip archive of one JSON graph and raw tensors.

Layout, as the framework's public `torch.export.save` writes it: `NAME/models/model.json` is the
graph; `NAME/data/weights/` and `NAME/data/constants/` hold one raw little-endian file a tensor and
a JSON file each that gives their dtypes, sizes, strides and offsets. Nothing in it is unpickled.
"""

from __future__ import annotations

import json
import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zygal import kinds
from zygal.errors import SourceError
from zygal.files import open_zip, zip_faults

SUPPORTED_SCHEMA = 8
JSON_LIMIT_BYTES = 256_000_000
_LOCAL_HEADER = struct.Struct("<4s5H3I2H")


@dataclass(frozen=True)
class StoredTensor:
    """Where a tensor lies in the archive and how its bytes are to be read."""

    member: str
    scalar_type: int
    sizes: tuple[int, ...]
    strides: tuple[int, ...]
    offset: int


class ProgramArchive:
    """An open archive. Tensors come as read-only views of the memory-mapped file."""

    def __init__(self, path: Path, archive: zipfile.ZipFile):
        self.path = path
        self._archive = archive
        self._bytes = np.memmap(path, np.uint8, "r")
        graphs = [n for n in archive.namelist() if "/models/" in n and n.endswith(".json")]
        if len(graphs) != 1:
            raise SourceError(
                f"{path} holds {len(graphs)} captured programs where one is expected; "
                "it was not written by torch.export.save, or holds more than a model."
            )
        self.root = graphs[0].partition("/models/")[0]
        self.model_name = Path(graphs[0]).stem
        self.document = self.read_json(graphs[0])
        self._check_version()

    def read_json(self, name: str) -> dict[str, Any]:
        content = bytes(self.member_bytes(name, JSON_LIMIT_BYTES))
        try:
            document = json.loads(content)
        except (ValueError, RecursionError) as fault:
            raise SourceError(f"{self.path} is damaged: {name} is not JSON ({fault}).") from fault
        if not isinstance(document, dict):
            raise SourceError(f"{self.path} is damaged: {name} is not a JSON object.")
        return document

    def stored_tensors(self, group: str) -> dict[str, StoredTensor]:
        """The tensors of the group "weights" or "constants", by their names in the training code."""
        config_name = f"{self.root}/data/{group}/{self.model_name}_{group}_config.json"
        if config_name not in self._archive.NameToInfo:
            return {}
        found = {}
        for name, entry in self.read_json(config_name)["config"].items():
            if entry["use_pickle"] or not entry.get("tensor_meta"):
                raise SourceError(
                    f"{self.path} keeps {name} as a Python object, which is never loaded; "
                    "use plain tensors in the model and capture it again."
                )
            meta = entry["tensor_meta"]
            if meta["layout"] != 7:
                raise SourceError(f"{self.path} keeps {name} as a sparse tensor; make it dense and capture again.")
            member = f"{self.root}/data/{group}/{entry['path_name']}"
            numbers = [tuple(int(size["as_int"]) for size in meta[key]) for key in ("sizes", "strides")]
            found[name] = StoredTensor(member, meta["dtype"], *numbers, int(meta["storage_offset"]["as_int"]))
        return found

    def member_bytes(self, name: str, limit_bytes: int | None = None) -> np.ndarray:
        """The bytes of a member, checked against its CRC: a view of the file where it is stored as it is."""
        try:
            info = self._archive.getinfo(name)
        except KeyError:
            raise SourceError(f"{self.path} is damaged: it has no member {name}.") from None
        if limit_bytes is not None and info.file_size > limit_bytes:
            raise SourceError(f"{self.path} is damaged: {name} claims {info.file_size} bytes.")
        if info.compress_type != zipfile.ZIP_STORED:
            # A deflated byte gives at most 1032; a larger claim is not believed.
            if info.file_size > 1032 * info.compress_size + 64:
                raise SourceError(f"{self.path} is damaged: {name} claims more bytes than it can hold.")
            with zip_faults(self.path, kinds.PROGRAM, SourceError):
                return np.frombuffer(self._archive.read(info), np.uint8)
        content = self._stored_bytes(info)
        if zlib.crc32(content) != info.CRC:
            raise SourceError(
                f"{self.path} is damaged: the bytes of {name} do not match their checksum; copy the file again."
            )
        return content

    def _stored_bytes(self, info: zipfile.ZipInfo) -> np.ndarray:
        header = bytes(self._bytes[info.header_offset : info.header_offset + _LOCAL_HEADER.size])
        if len(header) < _LOCAL_HEADER.size or header[:4] != b"PK\x03\x04":
            raise SourceError(f"{self.path} is damaged: the header of {info.filename} is not where it should be.")
        name_size, extra_size = _LOCAL_HEADER.unpack(header)[-2:]
        start = info.header_offset + _LOCAL_HEADER.size + name_size + extra_size
        content = self._bytes[start : start + info.file_size]
        if content.size != info.file_size:
            raise SourceError(f"{self.path} is truncated: {info.filename} ends behind the end of the file.")
        return content

    def _check_version(self) -> None:
        version = self.document.get("schema_version")
        major = version.get("major") if isinstance(version, dict) else None
        if major != SUPPORTED_SCHEMA:
            writer = self.document.get("torch_version") or "an unknown release"
            raise SourceError(
                f"{self.path} was written by PyTorch {writer} in schema {major}, but schema {SUPPORTED_SCHEMA} "
                "(PyTorch 2.13 and its neighbours) is what Zygal reads; load it in that release and save it in 2.13."
            )


@contextmanager
def open_program(path: str | Path) -> Iterator[ProgramArchive]:
    """The archive of a captured program. Raises FileError or SourceError."""
    path = kinds.require_kind(path, kinds.PROGRAM)
    with open_zip(path, kinds.PROGRAM, SourceError) as archive:
        yield ProgramArchive(path, archive)
