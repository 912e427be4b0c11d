"""Reference images: which files of a folder are images, and what their bytes are."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

from zygal.errors import FileError
from zygal.files import sha256_of

SUFFIXES = frozenset((
    ".bmp", ".gif", ".jfif", ".jpe", ".jpeg", ".jpg", ".pbm", ".pgm", ".png", ".pnm", ".ppm", ".tga", ".tif",
    ".tiff", ".webp",
))  # fmt: skip


@dataclass(frozen=True)
class ImageFile:
    """An image of a folder: its path below the folder, with forward slashes, and the SHA-256 of its bytes."""

    name: str
    sha256: str


def list_images(folder: str | Path) -> list[str]:
    """The names of the image files in a folder and the folders below it, in a fixed order.

    Hidden files are passed over. Raises FileError if there are none.
    """
    folder = Path(folder)
    if not folder.is_dir():
        what = "is a file, but a folder of images is needed" if folder.exists() else "does not exist"
        raise FileError(f"{folder} {what}; check the path.")
    if not os.access(folder, os.R_OK | os.X_OK):
        raise FileError(f"{folder} cannot be read: permission denied.")
    found = sorted(
        path.relative_to(folder).as_posix()
        for path in folder.rglob("*")
        if path.suffix.lower() in SUFFIXES and not path.name.startswith(".") and path.is_file()
    )
    if not found:
        raise FileError(f"{folder} holds no images (files ending in {', '.join(sorted(SUFFIXES))}); check the path.")
    return found


def hash_image(folder: str | Path, name: str) -> ImageFile:
    return ImageFile(name, sha256_of(Path(folder) / name))
