"""Reading and writing files so that a fault is one sentence and no output is left half-written."""

from __future__ import annotations

import hashlib
import importlib.util
import os
import sys
import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from zygal.errors import FileError, OutputError, ZygalError


@contextmanager
def whole_file(path: str | os.PathLike) -> Iterator[BinaryIO]:
    """A binary file for writing that appears at `path` complete or not at all.

    It is written under a temporary name in the same folder and renamed at the end; whatever ends
    the block early, an interrupt included, removes it. Raises OutputError.
    """
    path = Path(path)
    if path.is_dir():
        raise OutputError(f"{path} is a folder; give the name of a file to write.")
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".part", dir=path.parent)
    except OSError as fault:
        raise write_failure(path, fault) from fault
    try:
        with os.fdopen(handle, "wb") as file:
            yield file
        os.chmod(name, 0o666 & ~_creation_mask())
        os.replace(name, path)
    except OSError as fault:
        raise write_failure(path, fault) from fault
    finally:
        # After the rename the temporary name is gone already.
        Path(name).unlink(missing_ok=True)


def write_text(path: str | os.PathLike, text: str) -> None:
    """Writes a UTF-8 text whole or not at all. Raises OutputError."""
    with whole_file(path) as file:
        file.write(text.encode())


def check_writable(path: str | os.PathLike) -> None:
    """Raises OutputError if `path` cannot be written, before any work is spent on its content."""
    path = Path(path)
    if path.is_dir():
        raise OutputError(f"{path} is a folder; give the name of a file to write.")
    if not path.parent.is_dir():
        raise OutputError(f"{path} cannot be written: the folder {path.parent} does not exist; create it first.")
    try:
        handle, name = tempfile.mkstemp(dir=path.parent)
    except OSError as fault:
        raise write_failure(path, fault) from fault
    os.close(handle)
    os.unlink(name)


def make_folder(path: str | os.PathLike) -> None:
    """A folder for output, if it is not there yet. Raises OutputError."""
    path = Path(path)
    if path.exists() and not path.is_dir():
        raise OutputError(f"{path} is a file; name a folder.")
    try:
        path.mkdir(parents=True, exist_ok=True)
    except OSError as fault:
        raise OutputError(f"{path} cannot be made a folder ({_reason(fault)}).") from fault


def existing_file(path: str | os.PathLike) -> Path:
    """`path`, if it is a file that can be opened; else raises FileError."""
    path = Path(path)
    if path.is_dir():
        raise FileError(f"{path} is a folder; a file is needed here.")
    try:
        with path.open("rb"):
            return path
    except OSError as fault:
        raise FileError(f"{path} cannot be read: {_reason(fault)}; check the path.") from fault


def read_text(path: str | os.PathLike, what: str, limit_bytes: int = 16_000_000) -> str:
    """The UTF-8 text of a small file; `what` names its role in the message of a FileError."""
    path = existing_file(path)
    if path.stat().st_size > limit_bytes:
        raise FileError(f"{path} is larger than {limit_bytes // 1_000_000} MB, too large for {what}.")
    try:
        return path.read_bytes().decode("utf-8-sig")
    except UnicodeDecodeError as fault:
        raise FileError(f"{path} is not text in UTF-8, so it is not {what} (byte {fault.start}).") from fault
    except OSError as fault:
        raise FileError(f"{path} cannot be read: {_reason(fault)}.") from fault


def sha256_of(path: str | os.PathLike) -> str:
    """The SHA-256 of a file's bytes, in hexadecimal."""
    digest = hashlib.sha256()
    try:
        with open(path, "rb") as file:
            while piece := file.read(1 << 20):
                digest.update(piece)
    except OSError as fault:
        raise FileError(f"{path} cannot be read: {_reason(fault)}; check the path.") from fault
    return digest.hexdigest()


@contextmanager
def open_zip(path: str | os.PathLike, what: str, error: type[ZygalError]) -> Iterator[zipfile.ZipFile]:
    """A zip archive for reading. Raises FileError, or `error` where its structure is damaged."""
    path = existing_file(path)
    with zip_faults(path, what, error):
        archive = zipfile.ZipFile(path)
    with archive:
        yield archive


@contextmanager
def zip_faults(path: str | os.PathLike, what: str, error: type[ZygalError]) -> Iterator[None]:
    """Around the reading of an archive: what zipfile raises on damage comes as `error`."""
    try:
        yield
    except zipfile.BadZipFile as fault:
        raise error(
            f"{path} is not {what}, or it is truncated or damaged ({fault}); copy it again from where it was made."
        ) from fault
    except (NotImplementedError, RuntimeError, EOFError, ValueError, OSError, zlib.error) as fault:
        # Encrypted members, unknown compression, broken offsets and broken streams.
        raise error(f"{path} is damaged ({fault}); copy it again from where it was made.") from fault


def split_place(place: str, error: type[ZygalError]) -> tuple[str, str]:
    """FILE.py:FUNCTION as its two parts. Raises `error`."""
    file, _, name = place.rpartition(":")
    if not file or not name.isidentifier():
        raise error(f"{place} is not FILE.py:FUNCTION; name the file and the function in it, as in prepare.py:load.")
    return file, name


def load_function(place: str, error: type[ZygalError]) -> Callable:
    """The function that FILE.py:FUNCTION names. The file is run. Raises FileError or `error`."""
    file, name = split_place(place, error)
    path = existing_file(file)
    spec = importlib.util.spec_from_file_location(path.stem, path)
    if spec is None or spec.loader is None:
        raise error(f"{path} is not a Python file; name one that ends in .py.")
    module = importlib.util.module_from_spec(spec)
    sys.path.insert(0, str(path.parent.resolve()))
    # Classes defined in the file must be found again by its name.
    sys.modules.setdefault(path.stem, module)
    try:
        spec.loader.exec_module(module)
    except Exception as fault:
        raise error(f"{path} cannot be imported: {type(fault).__name__}: {fault}.") from fault
    finally:
        sys.path.pop(0)
    function = getattr(module, name, None)
    if not callable(function):
        raise error(f"{path} has no function {name}; check the name behind the colon.")
    return function


def write_failure(path: str | os.PathLike, fault: OSError) -> OutputError:
    """What to raise where the system does not let `path` be written."""
    return OutputError(f"{path} cannot be written: {_reason(fault)}; choose another place for it.")


def _reason(fault: OSError) -> str:
    return (fault.strerror or str(fault)).lower()


def _creation_mask() -> int:
    mask = os.umask(0)
    os.umask(mask)
    return mask
