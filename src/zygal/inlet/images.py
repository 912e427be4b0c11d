"""Reference images: which files of a folder are images, and what their bytes are."""

from __future__ import annotations

import os
import stat
import warnings
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from zygal.errors import FileError, ImageError, WitnessError, some_of
from zygal.files.locations import is_url, names_below
from zygal.files.opening import files_below, open_file, sha256_of

SUFFIXES = frozenset(
    (
        ".bmp",
        ".gif",
        ".jfif",
        ".jpe",
        ".jpeg",
        ".jpg",
        ".pbm",
        ".pgm",
        ".png",
        ".pnm",
        ".ppm",
        ".tga",
        ".tif",
        ".tiff",
        ".webp",
    )
)


@dataclass(frozen=True)
class ImageFile:
    """An image of a folder: its path below the folder, with forward slashes, and the SHA-256 of its bytes."""

    name: str
    sha256: str


def list_images(folder: str | Path) -> list[str]:
    """The names of the image files in a folder and the folders below it, in a fixed order; see `may_be_image`.

    Hidden files and folders are passed over, links to folders followed. Raises FileError if there are none.
    """
    if is_url(folder):
        raise FileError(
            f"{folder} is a URL, but a folder on this machine is needed; only classify, tally and bench "
            f"--cluster read images at URLs."
        )
    return _some(folder, _names_in(Path(folder)))


def images_below(location: str) -> list[str]:
    """The same of a folder or a URL. Raises FileError if there are none."""
    return _some(location, list(names_below(location, SUFFIXES)) if is_url(location) else _names_in(Path(location)))


def _some(folder: str | Path, found: list[str]) -> list[str]:
    if not found:
        raise FileError(
            f"{folder} holds no images (files whose name ends like an image's, or whose content is one); check "
            f"the path."
        )
    return found


def _names_in(folder: Path) -> list[str]:
    if not os.path.isdir(folder):
        what = "is a file, but a folder of images is needed" if os.path.exists(folder) else "does not exist"
        raise FileError(f"{folder} {what}; check the path.")
    return sorted(
        Path(os.path.relpath(path, folder)).as_posix()
        for path in files_below(folder)
        if os.path.isfile(path) and may_be_image(path)
    )


def may_be_image(path: str) -> bool:
    """Whether a file's name ends like an image's, or its content is one's. What cannot be opened may be one."""
    if os.path.splitext(path)[1].lower() in SUFFIXES:
        return True
    from PIL import Image, UnidentifiedImageError

    try:
        with warnings.catch_warnings():
            # How large it is matters when it is read.
            warnings.simplefilter("ignore")
            with open_file(path) as file, Image.open(file):
                return True
    except (UnidentifiedImageError, SyntaxError, ValueError, EOFError):
        return False
    except FileError:
        return not os.path.exists(path) or stat.S_ISREG(os.stat(path).st_mode)
    except Exception:  # A decoder that recognised its format and failed on the rest.
        return True


def hash_image(folder: str | Path, name: str) -> ImageFile:
    """An image of a folder with the hash of its bytes. Raises FileError."""
    return ImageFile(name, sha256_of(Path(folder) / name))


def check_images(recorded: Sequence[ImageFile], folder: str | Path) -> list[str]:
    """Notes about the folder. Raises WitnessError if recorded images are missing, renamed, or changed and still
    decode."""
    present = set(list_images(folder))
    names = {image.name for image in recorded}
    missing = [image for image in recorded if not os.path.isfile(Path(folder) / image.name)]
    extra = sorted(present - names)
    if missing:
        raise WitnessError(_missing(missing, len(recorded), folder, extra))
    changed = [
        image.name
        for image in recorded
        if hash_image(folder, image.name).sha256 != image.sha256 and _decodes(Path(folder) / image.name)
    ]
    if changed:
        raise WitnessError(
            f"{len(changed)} of the {len(recorded)} images in {folder} are not those that were recorded "
            f"(other bytes: {some_of(changed)}); give the folder that the witness was made from, or record it again."
        )
    return (
        [f"{len(extra)} image{'s' * (len(extra) > 1)} in {folder} not in the witness: {some_of(extra)}"]
        if extra
        else []
    )


def _missing(missing: list[ImageFile], total: int, folder: str | Path, extra: list[str]) -> str:
    """Says which images are gone, and which of them are there under another name."""
    names = {hash_image(folder, name).sha256: name for name in extra}
    renamed = [f"{image.name} is now {names[image.sha256]}" for image in missing if image.sha256 in names]
    if renamed:
        return (
            f"{len(renamed)} of the {total} recorded images are in {folder} under other names ({some_of(renamed)}); "
            "rename them back, or record the witness again."
        )
    return (
        f"{len(missing)} of the {total} recorded images are not in {folder} "
        f"({some_of([each.name for each in missing])}); give the folder that the witness was made from."
    )


def _decodes(path: Path) -> bool:
    from zygal.inlet.decode import open_image

    try:
        open_image(path)
    except ImageError:
        return False
    return True
