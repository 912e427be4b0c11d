"""The one place where a source that a user names becomes a file, whether it is a file or a function that builds a model."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from zygal.errors import SourceError
from zygal.files import sha256_of, split_place
from zygal.sources.pytorch.live import captured, is_live

DEFAULT_IMAGE_SHAPE = (3, 224, 224)


@dataclass(frozen=True)
class SourceFile:
    """path: the file to read or run. name: what the user called it. files: what it depends on."""

    path: Path
    name: str
    files: tuple[str, ...]

    @property
    def sha256(self) -> str:
        """Of the file; of FILE.py:FUNCTION those of the Python file and the weights, joined by "+", since no two captures are
        the same bytes. Reads the files. Raises FileError."""
        return "+".join(map(sha256_of, self.files))


@contextmanager
def source_file(
    source: str | Path, weights: str | Path | None = None, image_shape: tuple[int, ...] | None = None,
    option: str = "SOURCE",
) -> Iterator[SourceFile]:
    """The file of a source. FILE.py:FUNCTION is run and captured into a temporary file, which is removed afterwards.

    weights, image_shape: for FILE.py:FUNCTION; the shape [C, H, W] of one image's tensor is 3, 224, 224 unless given.
    option: how the user named the source, for messages. Raises FileError, SourceError, or EngineError if PyTorch is missing.
    """
    if not is_live(source):
        if weights:
            raise SourceError(
                f"--weights can only be given if {option} is FILE.py:FUNCTION; {source} is a file that holds its own weights."
            )
        yield SourceFile(Path(source), str(source), (str(source),))
        return
    files = (split_place(str(source), SourceError)[0], *([str(weights)] if weights else []))
    with captured(str(source), weights, tuple(image_shape or DEFAULT_IMAGE_SHAPE)) as path:
        yield SourceFile(path, str(source), files)
