"""The container of a captured program: a zip archive of one JSON graph and raw tensors.

Layout, as the framework's public `torch.export.save` writes it: `NAME/models/model.json` is the
graph; `NAME/data/weights/` and `NAME/data/constants/` hold one raw little-endian file a tensor and
a JSON file each that gives their dtypes, sizes, strides and offsets. Nothing in it is unpickled.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files import kinds
from zygal.files.documents import parse_json, rebuilt
from zygal.files.mapped import MappedZip, open_mapped
from zygal.files.recognition import require_kind
from zygal.sources.pytorch import schema
from zygal.sources.pytorch.tensors import RepeatedBytes, StoredTensor

SUPPORTED_SCHEMA = 8
STRIDED = 7
"""The framework's number for the layout of an ordinary tensor."""
JSON_LIMIT_BYTES = 256_000_000


class ProgramArchive:
    """An open archive. Tensors come as read-only views of the memory-mapped file."""

    def __init__(self, path: Path, archive: MappedZip):
        self.path = path
        self._zip = archive
        graphs = [n for n in archive.names if "/models/" in n and n.endswith(".json")]
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
        self._repeated = RepeatedBytes(path)
        self._groups: dict[str, dict[str, StoredTensor]] = {}

    def stored_tensors(self, group: str) -> dict[str, StoredTensor]:
        """The tensors of the group "weights" or "constants", by their names in the training code. Raises
        SourceError."""
        if group not in self._groups:
            self._groups[group] = self._read_group(group)
        return self._groups[group]

    def _read_group(self, group: str) -> dict[str, StoredTensor]:
        config_name = f"{self.root}/data/{group}/{self.model_name}_{group}_config.json"
        if self._zip.size_of(config_name) is None:
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
        size = self._zip.size_of(stored.member)
        if size is None:
            raise SourceError(f"{self.path} is damaged: the tensor {shown(name)} has no member {shown(stored.member)}.")
        self._repeated.check(name, stored, size)

    def member_bytes(self, name: str, limit_bytes: int | None = None) -> np.ndarray:
        """The bytes of a member; see `MappedZip.member_bytes`."""
        return self._zip.member_bytes(name, limit_bytes)

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
    with open_mapped(path, kinds.PROGRAM) as archive:
        yield ProgramArchive(path, archive)
