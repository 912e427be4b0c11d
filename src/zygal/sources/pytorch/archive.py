"""The container of a captured program: a zip archive of one JSON graph and tensors.

Layout, as the framework's public `torch.export.save` writes it since release 2.8: `NAME/models/model.json` is the
graph; `NAME/data/weights/` and `NAME/data/constants/` hold one raw little-endian file a tensor and a JSON file each
that gives their dtypes, sizes, strides and offsets. Before 2.9 they held a pickled dictionary, and before 2.8 graph
and dictionaries lay at the top of the archive. Nothing in it is unpickled: pickles are read as data.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

import numpy as np

from zygal.errors import SourceError, shown
from zygal.files import kinds
from zygal.files.documents import parse_json, rebuilt
from zygal.files.mapped import MappedZip, open_mapped
from zygal.files.pickles import Ordered
from zygal.files.recognition import require_kind
from zygal.sources.pytorch import schema
from zygal.sources.pytorch.pickled import saved_in
from zygal.sources.pytorch.releases import RELEASES, in_todays_form, release_of, schema_number
from zygal.sources.pytorch.tensors import RepeatedBytes, StoredTensor

STRIDED = 7
"""The framework's number for the layout of an ordinary tensor."""
JSON_LIMIT_BYTES = 256_000_000


class ProgramArchive:
    """An open archive. Tensors come as read-only views of the memory-mapped file."""

    def __init__(self, path: Path, archive: MappedZip):
        self.path = path
        self._zip = archive
        self.root, graph = _place_of_graph(path, archive.names)
        self.model_name = Path(graph).stem
        where = f"the graph of {path}"
        document = parse_json(bytes(self._zip.member_bytes(graph, JSON_LIMIT_BYTES)), where, SourceError)
        major, minor = schema_number(document, str(path))
        try:
            document = in_todays_form(document, major, minor)
            self.release = release_of(document, major)
        except (KeyError, TypeError, ValueError, AttributeError, RecursionError) as fault:
            raise SourceError(
                f"{where} does not follow schema {major} of PyTorch {RELEASES[major]} ({type(fault).__name__}: "
                f"{shown(str(fault))}); it is damaged."
            ) from fault
        self.document = rebuilt(document, schema.PROGRAM, where, SourceError)
        self._pickled: dict[str, MappedZip] = {}
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
            names = [form.format(root=self.root, model=self.model_name) for form in PICKLED[group]]
            found = next((name for name in names if self._zip.size_of(name)), None)
            return {} if found is None else self._read_pickled(found)
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

    def _read_pickled(self, member: str) -> dict[str, StoredTensor]:
        """The tensors of a member that is an archive of a pickled dictionary itself, read as data."""
        inner = self._zip.inner(member)
        saved = saved_in(inner)
        others = [name for name, each in saved.content.items() if not isinstance(each, StoredTensor)]
        if type(saved.content) not in (dict, Ordered) or others:
            raise SourceError(f"{self.path} keeps {shown(others or member)}, which is no tensor; capture it again.")
        self._pickled[member] = inner
        return {name: replace(each, member=f"{member}!{each.member}") for name, each in saved.content.items()}

    def _check_size(self, name: str, stored: StoredTensor) -> None:
        """Raises SourceError unless the tensor's member holds all of its elements."""
        size = self._zip.size_of(stored.member)
        if size is None:
            raise SourceError(f"{self.path} is damaged: the tensor {shown(name)} has no member {shown(stored.member)}.")
        self._repeated.check(name, stored, size)

    def member_bytes(self, name: str, limit_bytes: int | None = None) -> np.ndarray:
        """The bytes of a member, or of one inside of a member, as `stored_tensors` names them; see `MappedZip`."""
        outer, inside, inner = name.partition("!")
        return self._pickled[outer].member_bytes(inner) if inside else self._zip.member_bytes(name, limit_bytes)


FLAT = "serialized_exported_program"
PICKLED = {
    "weights": ("{root}/data/weights/{model}.pt", "serialized_state_dict.pt", "serialized_state_dict.json"),
    "constants": ("{root}/data/constants/{model}.pt", "serialized_constants.pt", "serialized_constants.json"),
}
"""Where releases before 2.9 put a pickled dictionary of tensors; two of them called such a file JSON."""


def _place_of_graph(path: Path, names: list[str]) -> tuple[str, str]:
    """The folder of all members, and the member that holds the graph: in an archive that is flat (before release 2.8),
    or one of folders. Raises SourceError."""
    if f"{FLAT}.json" in names:
        return "", f"{FLAT}.json"
    graphs = [name for name in names if "/models/" in name and name.endswith(".json")]
    if len(graphs) != 1:
        raise SourceError(
            f"{path} holds {len(graphs)} captured programs where one is expected; "
            "it was not written by torch.export.save, or holds more than a model."
        )
    return graphs[0].partition("/models/")[0], graphs[0]


@contextmanager
def open_program(path: str | Path) -> Iterator[ProgramArchive]:
    """The archive of a captured program. Raises FileError or SourceError."""
    path = require_kind(path, kinds.PROGRAM)
    with open_mapped(path, kinds.PROGRAM) as archive:
        yield ProgramArchive(path, archive)
