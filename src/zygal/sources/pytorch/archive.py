"""The container of a captured program: a zip archive of one JSON graph and raw tensors.

Layout, as the framework's public `torch.export.save` writes it: `NAME/models/model.json` is the
graph; `NAME/data/weights/` and `NAME/data/constants/` hold one raw little-endian file a tensor and
a JSON file each that gives their dtypes, sizes, strides and offsets. Nothing in it is unpickled.
"""

from __future__ import annotations

import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from math import prod
from pathlib import Path

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files import kinds
from zygal.files.archives import PLAUSIBLE_RATIO, open_zip, zip_faults
from zygal.files.documents import parse_json, rebuilt
from zygal.files.recognition import require_kind
from zygal.sources.pytorch import schema

SUPPORTED_SCHEMA = 8
MOST_REPEATED_BYTES = 64_000_000
STRIDED = 7
"""The framework's number for the layout of an ordinary tensor."""
WIDTHS = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 2, 7: 4, 8: 8, 12: 1, 13: 2}
"""Bytes an element, by the framework's numbers for dtypes."""
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
    trained: bool = False
    requires_grad: bool = False

    def fault(self, stored_bytes: int) -> str | None:
        """What is wrong with it where its member has `held` bytes, or None.

        The framework stores the whole memory that a tensor lies in, so a tensor that is a part of a larger one leaves
        some of it unread; none may read more than there is.
        """
        width = WIDTHS.get(self.scalar_type)
        if width is None:
            return f"has the dtype number {self.scalar_type}, which Zygal does not read"
        if len(self.sizes) != len(self.strides) or min((*self.sizes, *self.strides, self.offset, 0)) < 0:
            return "has sizes or strides that do not fit each other"
        if stored_bytes % width:
            return f"has {stored_bytes} bytes, which are no whole number of elements"
        if 0 in self.sizes:
            return None
        needed = (self.offset + sum((size - 1) * step for size, step in zip(self.sizes, self.strides)) + 1) * width
        return f"takes {needed} bytes, but {stored_bytes} are stored" if needed > stored_bytes else None

    def repeated(self, stored_bytes: int) -> int:
        """By how many bytes it is larger than its member, because its elements share memory (strides of 0)."""
        return max(0, prod(self.sizes) * WIDTHS[self.scalar_type] - stored_bytes)


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
        document = parse_json(
            bytes(self.member_bytes(graphs[0], JSON_LIMIT_BYTES)), f"the graph of {path}", SourceError
        )
        self._check_version(document)
        self.document = rebuilt(document, schema.PROGRAM, f"the graph of {path}", SourceError)
        self._repeated_bytes = 0
        self._groups: dict[str, dict[str, StoredTensor]] = {}

    def stored_tensors(self, group: str) -> dict[str, StoredTensor]:
        """The tensors of the group "weights" or "constants", by their names in the training code. Raises
        SourceError."""
        if group not in self._groups:
            self._groups[group] = self._read_group(group)
        return self._groups[group]

    def _read_group(self, group: str) -> dict[str, StoredTensor]:
        config_name = f"{self.root}/data/{group}/{self.model_name}_{group}_config.json"
        if config_name not in self._archive.NameToInfo:
            return {}
        location = f"the list of {group} in {self.path}"
        document = parse_json(bytes(self.member_bytes(config_name, JSON_LIMIT_BYTES)), location, SourceError)
        # What was pickled needs no further look; it is refused by its name.
        found = {}
        for name, entry in rebuilt(document, schema.TENSORS, location, SourceError)["config"].items():
            meta = entry["tensor_meta"]
            if entry["use_pickle"] or not meta:
                raise SourceError(
                    f"{self.path} keeps {name} as a Python object, which is never loaded; "
                    "use plain tensors in the model and capture it again."
                )
            if meta["layout"] != STRIDED:
                raise SourceError(f"{self.path} keeps {name} as a sparse tensor; make it dense and capture again.")
            if any("as_int" not in size for size in (*meta["sizes"], *meta["strides"], meta["storage_offset"])):
                raise SourceError(f"{self.path} is damaged: the tensor {name} has a size that is no number.")
            found[name] = StoredTensor(
                member=f"{self.root}/data/{group}/{entry['path_name']}",
                scalar_type=meta["dtype"],
                sizes=tuple(size["as_int"] for size in meta["sizes"]),
                strides=tuple(size["as_int"] for size in meta["strides"]),
                offset=meta["storage_offset"]["as_int"],
                trained=entry["is_param"],
                requires_grad=meta["requires_grad"],
            )
            self._check_size(name, found[name])
        return found

    def _check_size(self, name: str, stored: StoredTensor) -> None:
        """Raises SourceError unless the tensor's member holds all of its elements."""
        info = self._archive.NameToInfo.get(stored.member)
        if info is None:
            raise SourceError(f"{self.path} is damaged: the tensor {shown(name)} has no member {shown(stored.member)}.")
        fault = stored.fault(info.file_size)
        if fault:
            raise SourceError(f"{self.path} is damaged: the tensor {shown(name)} {fault}; capture the model again.")
        # A file of a few bytes could claim any size with them.
        self._repeated_bytes += stored.repeated(info.file_size)
        if self._repeated_bytes > MOST_REPEATED_BYTES:
            raise SourceError(
                f"{self.path} is damaged or malicious: the tensor {shown(name)} repeats its elements to "
                f"{prod(stored.sizes)} numbers, of which {info.file_size} bytes are stored."
            )

    def member_bytes(self, name: str, limit_bytes: int | None = None) -> np.ndarray:
        """The bytes of a member, checked against its CRC: a view of the file where it is stored as it is."""
        info = self._archive.NameToInfo.get(name)
        if info is None:
            raise SourceError(f"{self.path} is damaged: it has no member {shown(name)}.")
        if limit_bytes is not None and info.file_size > limit_bytes:
            raise SourceError(f"{self.path} is damaged: {shown(name)} claims {info.file_size} bytes.")
        if info.compress_type != zipfile.ZIP_STORED:
            # The framework stores weights as they are; who packs them later gains little, and a claim of more is not
            # believed.
            if info.file_size > PLAUSIBLE_RATIO * max(info.compress_size, 4096):
                raise SourceError(f"{self.path} is damaged: {shown(name)} claims more bytes than it can hold.")
            with zip_faults(self.path, kinds.PROGRAM, SourceError):
                return np.frombuffer(self._archive.read(info), np.uint8)
        content = self._stored_bytes(info)
        if zlib.crc32(content) != info.CRC:
            raise SourceError(
                f"{self.path} is damaged: the bytes of {shown(name)} do not match their checksum; copy the file again."
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
            raise SourceError(f"{self.path} is truncated: {info.filename} ends after the end of the file.")
        return content

    def _check_version(self, document: dict) -> None:
        version = document.get("schema_version")
        major = version.get("major") if isinstance(version, dict) else None
        if major != SUPPORTED_SCHEMA:
            writer = shown(document.get("torch_version") or "an unknown release").strip("'")
            raise SourceError(
                f"{self.path} was written by PyTorch {writer} in schema {shown(major)}, but schema {SUPPORTED_SCHEMA} "
                "(PyTorch 2.13 and 2.14) is what this release reads; load it in that release and save it in 2.13."
            )


@contextmanager
def open_program(path: str | Path) -> Iterator[ProgramArchive]:
    """The archive of a captured program. Raises FileError or SourceError."""
    path = require_kind(path, kinds.PROGRAM)
    with open_zip(path, kinds.PROGRAM, SourceError) as archive:
        yield ProgramArchive(path, archive)
