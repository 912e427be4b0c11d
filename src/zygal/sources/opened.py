"""The one place where a source that a user names becomes a file, whether it is a file or a function that builds a
model."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal.errors import SourceError, ZygalError
from zygal.files.families import family_named, is_shard
from zygal.files.opening import sha256_of
from zygal.files.recognition import family_of, files_of
from zygal.sources.live import DEFAULT_IMAGE_SHAPE, LiveModel, build, build_folder, is_live, saved
from zygal.sources.model_folder import folder_at
from zygal.sources.user_code import split_place


@dataclass(frozen=True)
class SourceFile:
    """path: the file to read or run. name: what the user called it. files: what it depends on. live: what
    FILE.py:FUNCTION returned. notes: sentences that the user should read. hashed: those of the files that tell what is
    in all of them. weights: the file of the weights, where it was named."""

    path: Path
    name: str
    files: tuple[str, ...]
    live: LiveModel | None = None
    notes: tuple[str, ...] = ()
    hashed: tuple[str, ...] = ()
    weights: Path | None = None

    @classmethod
    def of(cls, source: str | Path | SourceFile, weights: str | Path | None = None) -> SourceFile:
        """A trained model's file named by its path, or its folder with all its files. weights: of a graph alone."""
        if isinstance(source, SourceFile):
            return source
        if weights is not None:
            return cls(Path(source), str(source), (str(source), str(weights)), weights=Path(weights))
        files = files_of(source)
        return cls(Path(source), str(source), files, hashed=tuple(each for each in files if not is_shard(each)))

    @property
    def estimator(self) -> Any:
        """The fitted estimator behind the network, or None."""
        return self.live and self.live.estimator

    def columns_wanted(self, classes: int | None) -> int | None:
        """How many columns the output to take has, if it is known: one for each feature that the estimator takes, else
        one a class."""
        return classes if self.estimator is None else getattr(self.estimator, "n_features_in_", None)

    @property
    def sha256(self) -> str:
        """Of the file; of FILE.py:FUNCTION that of the hashes of the Python file and the weights, since no two captures
        are the same bytes; of a folder that of the hashes of its graph and its table of variables, which holds a
        checksum of each one's bytes. Reads the files. Raises FileError."""
        hashes = [sha256_of(file) for file in self.hashed or self.files]
        return hashes[0] if len(hashes) == 1 else hashlib.sha256("".join(hashes).encode()).hexdigest()


@contextmanager
def source_file(
    source: str | Path,
    weights: str | Path | None = None,
    image_shape: tuple[int, ...] | None = None,
    option: str = "SOURCE",
    given: Mapping[str, Any] | None = None,
) -> Iterator[SourceFile]:
    """The file of a source. FILE.py:FUNCTION is run, and what it builds is saved as a temporary file, removed
    afterwards.

    weights, image_shape: for FILE.py:FUNCTION; the shape [C, H, W] of one image's tensor is 3, 224, 224 unless given.
    option: how the user named the source, for messages. given: options that the user gave; those that the source's
    family does not honour are refused. Raises FileError, SourceError, or EngineError if a framework is missing.
    """
    if not is_live(source):
        family = family_of(source)
        if weights and not family.takes_weights:
            raise SourceError(
                f"--weights can only be given if {option} is FILE.py:FUNCTION; {source} is a file that holds "
                f"its own weights."
            )
        if any((given or {}).values()):
            family.refuse_options(str(source), given)
        yield SourceFile.of(source, weights)
        return
    folder = folder_at(source)
    if folder is not None and weights:
        raise SourceError(f"--weights does not apply to {source}: the folder holds its own weights; leave it out.")
    live = build_folder(folder) if folder is not None else build(str(source), weights)
    family = family_named(live.framework)
    # What is captured here is captured on images of the shape that is given.
    family.refuse_options(str(source), {name: value for name, value in (given or {}).items() if name != "--shape"})
    if folder is not None:
        files, notes, image_shape = folder.files, list(folder.notes), image_shape or folder.image_shape
    else:
        file, function = split_place(str(source), SourceError)
        files, notes = (file, *([str(weights)] if weights else [])), []
        if weights is None:
            notes.append(
                f"--weights is not given, so the weights are those that {function} made: random, unless it loads "
                f"trained ones"
            )
    if image_shape is None and family.parts == "operator":
        guessed = ",".join(map(str, DEFAULT_IMAGE_SHAPE))
        notes.append(
            f"the shape of one image's tensor was guessed as {guessed}; give --shape C,H,W if the model is "
            f"trained on another"
        )
    with saved(live, str(source), image_shape) as path:
        try:
            yield SourceFile(path, str(source), files, live, tuple(notes))
        except ZygalError as fault:
            # The user knows the source by its name, not by the file that it was saved to.
            fault.args = tuple(
                each.replace(str(path), str(source)) if isinstance(each, str) else each for each in fault.args
            )
            raise
