"""Results of steps on disk: what is unchanged is not computed again, and an interrupted run goes on where it was."""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
import os
import platform
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timezone
from pathlib import Path
from typing import Any

import zygal
from zygal import __version__
from zygal.errors import FileError, OutputError, ZygalError
from zygal.files.documents import either, json_value, mapping, number, rebuilt, record, text
from zygal.files.opening import read_bytes, sha256_of_all
from zygal.files.writing import make_folder, write_text
from zygal.machine.libraries import installed_version
from zygal.machine.processor import cpuinfo
from zygal.machine.state import is_sealed, own_key, seal, state_folder
from zygal.outcome import Outcome

LARGEST_BYTES = 200_000_000
KIND = "zygal.signoff.step"
LIBRARIES = ("onnxruntime", "ai-edge-litert", "onnx", "numpy", "pillow", "torch", "keras", "tensorflow-cpu")


@dataclass(frozen=True)
class Result:
    """What a step found. document: of the command that made it. pictures: bytes of PNG, JPEG or SVG files by name."""

    document: dict[str, Any]
    pictures: Mapping[str, bytes] = field(default_factory=dict)


def result_of(outcome: Outcome, pictures: Mapping[str, bytes] | None = None) -> Result:
    """What a command found, as it is kept."""
    return Result(json_value(outcome.document()), pictures or {})


@dataclass(frozen=True)
class Step:
    """A step that was done. seconds: it took when it was computed. measured_at: then, in UTC. reused: in an earlier
    run."""

    name: str
    result: Result
    seconds: float
    measured_at: str
    reused: bool

    @property
    def document(self) -> dict[str, Any]:
        """The JSON result of the command that measured."""
        return self.result.document


def library_versions() -> dict[str, str]:
    """Of everything that can change a result, as far as it is installed."""
    found = {
        "zygal": __version__,
        "python": platform.python_version(),
        **{name: installed_version(name) for name in LIBRARIES},
    }
    return {name: number for name, number in found.items() if number is not None}


def own_code() -> str:
    """The hash of this program's own code: between two releases it changes while its version stays."""
    return sha256_of_all(sorted(Path(zygal.__file__).parent.rglob("*.py")))


class Keeper:
    """Keeps the results of a plan's steps in a folder. fresh: nothing kept is used. notes: sentences on kept results
    that were not used.

    A kept result counts as measured only if this user measured it: each is sealed with the user's own key. One that was
    changed, or comes from another user or machine, is measured again."""

    def __init__(self, folder: Path, fresh: bool = False):
        self.folder, self.fresh = folder, fresh
        self.about = {
            "versions": library_versions(),
            "code": own_code(),
            "processor": cpuinfo("model name") or platform.machine(),
        }
        self.notes: list[str] = []
        self._key = own_key()
        if self._key is None:
            self.notes.append(
                f"nothing is kept for the next run, because there is no key of this user's own in "
                f"{state_folder()} (a file of mode 600)"
            )
        if os.path.islink(folder):
            raise OutputError(f"{folder} is a symbolic link; nothing is written through links. Remove it.")
        make_folder(folder)

    def take(self, name: str, about: Mapping[str, Any], make: Callable[[], Result], reuse: bool = True) -> Step:
        """The kept result of a step if it was made from the same things, else a new one, which is kept.

        about: everything that the result depends on, besides versions and processor. reuse: False computes it in any
        case.
        """
        identity = json.dumps(json_value({"step": name, **self.about, "about": about}), sort_keys=True)
        key = hashlib.sha256(identity.encode()).hexdigest()
        kept = None if self.fresh or not reuse else self._read(name, key)
        if kept is not None:
            return kept
        started, moment = time.perf_counter(), datetime.now(timezone.utc)
        result = make()
        step = Step(name, result, time.perf_counter() - started, moment.isoformat(timespec="seconds"), False)
        self._write(step, key)
        return step

    def _path(self, name: str) -> Path:
        return self.folder / f"{name}.json"

    def _write(self, step: Step, key: str) -> None:
        pictures = {name: base64.b64encode(data).decode() for name, data in step.result.pictures.items()}
        content = {
            "kind": KIND,
            "key": key,
            "seconds": step.seconds,
            "measured_at": step.measured_at,
            "document": json_value(step.document),
            "pictures": pictures,
        }
        if self._key is not None:
            write_text(
                self._path(step.name),
                json.dumps({**content, "seal": seal(self._key, _canonical(content))}, ensure_ascii=False) + "\n",
            )

    def _read(self, name: str, key: str) -> Step | None:
        """What is kept under a key; None where there is nothing, or nothing that can be used, which is then computed
        again."""
        path = self._path(name)
        if self._key is None or not os.path.lexists(path):
            return None
        try:
            content = rebuilt(json.loads(read_bytes(path, "a kept result", LARGEST_BYTES)), _RULE, str(path), FileError)
            sealed = content.pop("seal")
            if not is_sealed(self._key, _canonical(content), sealed):
                return self._not_used(path, "it was not measured by this user, or was changed since")
            if content["key"] != key:
                return None
            pictures = {each: base64.b64decode(data, validate=True) for each, data in content["pictures"].items()}
        except (ZygalError, ValueError, RecursionError, MemoryError, binascii.Error):
            return self._not_used(path, "it is damaged")
        return Step(name, Result(content["document"], pictures), content["seconds"], content["measured_at"], True)

    def _not_used(self, path: Path, why: str) -> None:
        self.notes.append(f"{path} is not used, because {why}; measured again")


def _canonical(content: Mapping[str, Any]) -> bytes:
    """The bytes under the seal: the same for the same content."""
    return json.dumps(content, sort_keys=True, ensure_ascii=True).encode()


_RULE = record(
    {
        "seal": text,
        "kind": either(KIND),
        "key": text,
        "seconds": number,
        "measured_at": text,
        "document": mapping(lambda value: value),
        "pictures": mapping(lambda value: text(value, LARGEST_BYTES)),
    }
)
