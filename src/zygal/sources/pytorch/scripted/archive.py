"""The container of a scripted or traced model.

A zip archive, as `torch.jit.save` writes it: `code/` holds the model as text, `data.pkl` the tree of its modules with
their attributes, `constants.pkl` what the code calls CONSTANTS, and `data/` and `constants/` a member a storage.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import SourceError
from zygal.files import kinds
from zygal.files.mapped import MappedZip, open_mapped
from zygal.files.pickles import Record
from zygal.files.recognition import require_kind
from zygal.sources.pytorch.pickled import only_folder, saved_in
from zygal.sources.pytorch.scripted.code import Code, read_code


class ScriptedArchive:
    """An open archive: its modules, code and constants.

    in_training: the modules that were saved in training mode, by identity; each is read as it is in evaluation mode.
    version: of the container.
    """

    def __init__(self, path: Path, archive: MappedZip):
        self.path, self._zip = path, archive
        self._checked: dict[str, np.ndarray] = {}
        root = only_folder(archive)
        if archive.size_of(f"{root}/data.pkl") is None:
            raise SourceError(f"{path} is damaged: it has no member data.pkl; save the model again.")
        saved = saved_in(archive)
        if not isinstance(saved.content, Record):
            raise SourceError(f"{path} holds no module; save a whole model with torch.jit.save.")
        self.model: Record = saved.content
        self.tensors = saved.tensors
        self.constants: dict[str, Any] = {}
        if archive.size_of(f"{root}/constants.pkl") is not None:
            constants = saved_in(archive, "constants.pkl", "constants")
            self.tensors = self.tensors | {f"CONSTANTS.{name}": each for name, each in constants.tensors.items()}
            values = constants.content if isinstance(constants.content, (tuple, list)) else ()
            self.constants = {f"c{place}": value for place, value in enumerate(values)}
        self.code: Code = read_code(archive, root)
        self.version = _version(archive, root)
        self.in_training: frozenset[int] = _into_evaluation(self.model)

    def member_bytes(self, member: str) -> np.ndarray:
        """The bytes of a storage, uint8, checked against its checksum once. Raises SourceError."""
        if member not in self._checked:
            self._checked[member] = self._zip.member_bytes(member)
        return self._checked[member]


def _version(archive: MappedZip, root: str) -> str:
    for name in (f"{root}/version", f"{root}/.data/version"):
        if archive.size_of(name) is not None:
            return bytes(archive.member_bytes(name, 100)).decode("ascii", "replace").strip()
    return "unknown"


def _into_evaluation(model: Record) -> frozenset[int]:
    """Sets all modules to evaluation mode; the identities of those that were not."""
    found, left, seen = set(), [model], set()
    while left:
        record = left.pop()
        if id(record) in seen:
            continue
        seen.add(id(record))
        state = record.state if isinstance(record.state, dict) else {}
        if state.get("training") is True:
            found.add(id(record))
            state["training"] = False
        left.extend(each for each in state.values() if isinstance(each, Record))
    return frozenset(found)


@contextmanager
def open_scripted(path: str | Path) -> Iterator[ScriptedArchive]:
    """A scripted or traced archive. Raises FileError or SourceError."""
    path = require_kind(path, kinds.TORCH_SCRIPT)
    with open_mapped(path, kinds.TORCH_SCRIPT) as archive:
        yield ScriptedArchive(path, archive)
