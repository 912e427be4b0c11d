"""Bundles as zip archives: written so that the same content gives the same bytes, read without trust."""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Mapping
from pathlib import Path, PurePosixPath
from typing import Any

from zygal import __version__
from zygal.errors import BundleError
from zygal.files.documents import either, mapping, maybe, parse_json, rebuilt, record, text, truth, whole
from zygal.files.opening import open_file
from zygal.files.writing import whole_file

KIND, VERSION = "zygal.bundle", 1
MANIFEST = "MANIFEST.json"
LARGEST_MANIFEST, LARGEST_TEXT = 10_000_000, 200_000_000
PIECE = 1 << 20
_EARLIEST = (1980, 1, 1, 0, 0, 0)
"""The date of every member: a bundle holds no clock."""
Content = Mapping[str, "bytes | Path"]


def write_bundle(path: str | Path, content: Content, signoff: Mapping[str, Any] | None) -> dict[str, Any]:
    """Writes members in the order of their names behind the manifest, uncompressed, and returns the manifest. Raises
    OutputError."""
    files = {name: _described(content[name]) for name in sorted(content)}
    manifest = {"kind": KIND, "version": VERSION, "zygal_version": __version__, "signoff": signoff, "files": files}
    with whole_file(path) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as archive:
        _add(archive, MANIFEST, (json.dumps(manifest, indent=1, ensure_ascii=False) + "\n").encode())
        for name in sorted(content):
            _add(archive, name, content[name])
    return manifest


def _described(data: bytes | Path) -> dict[str, Any]:
    digest, size = hashlib.sha256(), 0
    for piece in _pieces(data):
        digest.update(piece)
        size += len(piece)
    return {"sha256": digest.hexdigest(), "bytes": size}


def _pieces(data: bytes | Path):
    if isinstance(data, bytes):
        yield data
        return
    with open_file(data) as file:
        while piece := file.read(PIECE):
            yield piece


def _add(archive: zipfile.ZipFile, name: str, data: bytes | Path) -> None:
    member = zipfile.ZipInfo(name, _EARLIEST)
    # As from a system where everybody may read it; otherwise the bytes would depend on where it is written.
    member.create_system, member.external_attr = 3, 0o100644 << 16
    large = not isinstance(data, bytes) and data.stat().st_size > 1 << 31
    with archive.open(member, "w", force_zip64=large) as file:
        for piece in _pieces(data):
            file.write(piece)


_RULE = record(
    {
        "kind": either(KIND),
        "version": whole(),
        "zygal_version": text,
        "signoff": maybe(
            record(
                {
                    "plan": text,
                    "title": text,
                    "signed_at": text,
                    "result_sha256": text,
                    "artifact_sha256": text,
                    "signed_off": truth,
                }
            )
        ),
        "files": mapping(record({"sha256": text, "bytes": whole(0)})),
    }
)


class Bundle:
    """An opened bundle. Raises FileError or BundleError where it is none, or is damaged."""

    def __init__(self, path: str | Path):
        self.path = path
        self._file = open_file(path)
        try:
            self._archive = zipfile.ZipFile(self._file)
            names = self._archive.namelist()
            if MANIFEST not in names:
                raise BundleError(f"{path} is a zip archive without {MANIFEST}, so it is not a bundle of zygal pack.")
            self.manifest = self._manifest()
        except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError, EOFError) as fault:
            self._file.close()
            raise BundleError(f"{path} is not a whole zip archive ({fault}); get it again.") from fault
        except BaseException:
            self._file.close()
            raise
        # What is stored as it is cannot become larger than the archive.
        if len(set(names)) != len(names) or any(
            member.compress_type != zipfile.ZIP_STORED for member in self._archive.infolist()
        ):
            self._file.close()
            raise BundleError(f"{path} holds compressed files, or a name twice; it was not written by zygal pack.")
        self.names = [name for name in names if name != MANIFEST]

    def __enter__(self) -> Bundle:
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def _manifest(self) -> dict[str, Any]:
        if self._archive.getinfo(MANIFEST).file_size > LARGEST_MANIFEST:
            raise BundleError(f"{self.path}: {MANIFEST} is too large; the bundle is damaged.")
        content = parse_json(self._archive.read(MANIFEST), f"{self.path}: {MANIFEST}", BundleError)
        if content.get("kind") == KIND and content.get("version") != VERSION:
            raise BundleError(
                f"{self.path} has version {content.get('version')!r}; this release reads version {VERSION}."
            )
        manifest = rebuilt(content, _RULE, f"{self.path}: {MANIFEST}", BundleError)
        for name in manifest["files"]:
            parts = PurePosixPath(name)
            if parts.is_absolute() or ".." in parts.parts or "\\" in name or ":" in name or name != str(parts):
                raise BundleError(f"{self.path}: {MANIFEST} names {name!r}, which leads out of the bundle.")
        return manifest

    def faults(self) -> list[str]:
        """What is not as the manifest says: files that are missing, of other bytes, or not named."""
        listed = self.manifest["files"]
        found = [f"{name} is missing" for name in listed if name not in self.names]
        found += [f"{name} is not named in {MANIFEST}" for name in self.names if name not in listed]
        return found + [f"{name} has other bytes" for name in self.names if name in listed and not self._is_whole(name)]

    def _is_whole(self, name: str) -> bool:
        wanted, digest = self.manifest["files"][name], hashlib.sha256()
        if self._archive.getinfo(name).file_size != wanted["bytes"]:
            return False
        try:
            with self._archive.open(name) as file:
                while piece := file.read(PIECE):
                    digest.update(piece)
        except (zipfile.BadZipFile, OSError, ValueError, NotImplementedError, EOFError):
            return False
        return digest.hexdigest() == wanted["sha256"]

    def read(self, name: str) -> bytes:
        """A small member that was found whole."""
        if self._archive.getinfo(name).file_size > LARGEST_TEXT:
            raise BundleError(f"{self.path}: {name} is too large; the bundle is damaged.")
        return self._archive.read(name)

    def unpack(self, folder: Path) -> None:
        """All members that the manifest names, into a folder. Only of a bundle without faults."""
        for name in self.manifest["files"]:
            target = folder / name
            target.parent.mkdir(parents=True, exist_ok=True)
            with self._archive.open(name) as file, target.open("wb") as into:
                while piece := file.read(PIECE):
                    into.write(piece)
