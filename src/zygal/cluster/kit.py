"""What a worker needs for a run: the work, and the files of the artifacts that it opens.

Work travels as a pickle in which each artifact's path is a reference; a worker puts the path of its own copy in its
place. Pickles come from the command that the user runs, over the engine's connections, and from nowhere else.
"""

from __future__ import annotations

import hashlib
import io
import os
import pickle
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal.files.opening import sha256_of
from zygal.prediction.blocks import Block


@dataclass(frozen=True)
class SentFile:
    """A file of an artifact. path: where the command sees it. name: what it is called in its folder."""

    path: str
    name: str
    sha256: str


@dataclass(frozen=True)
class SentArtifact:
    """files: the artifact first, then files with its weights beside it. key: a hash of them all."""

    files: tuple[SentFile, ...]

    @property
    def key(self) -> str:
        """What tells it from every other artifact: the hash of its files' names and hashes."""
        return hashlib.sha256("".join(f"{each.name}\n{each.sha256}\n" for each in self.files).encode()).hexdigest()


@dataclass(frozen=True)
class Kit:
    """base: the folder in which the command runs, where relative paths start."""

    work: bytes
    artifacts: tuple[SentArtifact, ...]
    base: str

    @property
    def key(self) -> str:
        """What tells it from every other kit."""
        return hashlib.sha256(self.work + self.base.encode("utf-8", "surrogateescape")).hexdigest()


def sent_artifact(path: Path) -> SentArtifact:
    """The files of an artifact and their hashes. Raises FileError or ArtifactError."""
    from zygal.artifact.formats import artifact_files

    return SentArtifact(tuple(SentFile(str(each), each.name, sha256_of(each)) for each in artifact_files(path)))


def pack_kit(work: Any, artifacts: Sequence[SentArtifact]) -> Kit:
    """The kit of work that opens these artifacts, each a Path inside it."""
    keys = {Path(each.files[0].path): each.key for each in artifacts}

    class Packer(pickle.Pickler):
        def persistent_id(self, value: Any) -> Any:
            return keys.get(value) if isinstance(value, Path) else None

    target = io.BytesIO()
    Packer(target, pickle.HIGHEST_PROTOCOL).dump(work)
    return Kit(target.getvalue(), tuple(artifacts), os.getcwd())


def pack_blocks(blocks: Sequence[Block]) -> bytes:
    """Blocks as they travel: names of files are much alike, and a scheduler keeps messages for a while."""
    return zlib.compress(pickle.dumps(list(blocks), pickle.HIGHEST_PROTOCOL), 1)


def unpack_blocks(packed: bytes) -> list[Block]:
    """The blocks that `pack_blocks` packed; they come from the coordinator alone."""
    return pickle.loads(zlib.decompress(packed))


def unpack_kit(work: bytes, paths: dict[str, Path]) -> Any:
    """The work, with the artifacts opened that lie at `paths`, by key."""

    class Unpacker(pickle.Unpickler):
        def persistent_load(self, key: Any) -> Path:
            return paths[key]

    return Unpacker(io.BytesIO(work)).load()
