"""A bundle checked: its bytes against its manifest, its artifact against the sign-off, its runner on its own images."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal.bundle.archive import Bundle
from zygal.bundle.contents import MOBILE_RUNNER, PYTHON_RUNNER, runner
from zygal.documents import listed, mapping, parse_json, rebuilt, text
from zygal.errors import BundleError
from zygal.files import scratch_folder
from zygal.outcome import Gate

LONGEST_SECONDS = 600


@dataclass(frozen=True)
class Checked:
    """gates: what was checked. said: what the bundled runner printed. not_checked: sentences. faults: files that are not as the manifest
    says. artifacts: their hashes, by name."""

    gates: tuple[Gate, ...]
    said: tuple[str, ...]
    not_checked: tuple[str, ...]
    faults: tuple[str, ...]
    artifacts: dict[str, str]
    manifest: Mapping[str, Any]


def check_bundle(path: str | Path, signed: Mapping[str, Any] | None = None, run_code: bool = False) -> Checked:
    """signed: the result of zygal signoff that the bundle is held against, instead of what its own manifest says. run_code: run the bundled runner
    even if it is not the one that this release writes. Raises FileError or BundleError."""
    with Bundle(path) as bundle:
        faults = bundle.faults()
        total = len(bundle.manifest["files"])
        gates = [Gate("files", "files that are not as the manifest says", len(faults), 0, f"of {total} files")]
        if faults:
            skipped = ("sign-off and runner: not checked, because files are not as the manifest says",)
            return Checked(tuple(gates), (), skipped, tuple(faults), {}, bundle.manifest)
        artifacts = {file: bundle.manifest["files"][file]["sha256"] for file in _artifacts(bundle)}
        not_checked = []
        hashes, where = _signed_hashes(bundle.manifest["signoff"], signed)
        if hashes is None:
            not_checked.append("sign-off: the bundle was packed without one, and --signoff is not given")
        else:
            other = sum(sha256 not in artifacts.values() for sha256 in hashes)
            gates.append(Gate("signoff", f"signed-off artifacts that are not in the bundle byte for byte ({where})", other, 0, f"of {len(hashes)}"))
        said: tuple[str, ...] = ()
        runners = [name for name in (PYTHON_RUNNER, MOBILE_RUNNER) if name in bundle.manifest["files"]]
        foreign = [name for name in runners if bundle.read(name) != runner(name)]
        if not runners:
            not_checked.append("runner: the bundle was packed without runners")
        elif foreign and not run_code:
            why = f"not run: its {foreign[0]} is not the one that this release of Zygal writes; add --run-code if you trust the bundle"
            gates.append(Gate("runner", f"exit code of the bundle's own check, {foreign[0]} --check", None, 0, "", why))
        else:
            needed = {MOBILE_RUNNER if file.endswith(".tflite") else PYTHON_RUNNER for file in artifacts}
            for name in (each for each in runners if each in needed):
                code, lines = _run(bundle, name)
                said += lines
                gates.append(Gate("runner", f"exit code of the bundle's own check, {name} --check", code, 0, ""))
        return Checked(tuple(gates), said, tuple(not_checked), (), artifacts, bundle.manifest)


def _artifacts(bundle: Bundle) -> list[str]:
    """The names of the artifacts. Raises BundleError."""
    if "model.json" not in bundle.manifest["files"]:
        raise BundleError(f"{bundle.path} holds no model.json, so it is not a whole bundle; pack it again.")
    where = f"{bundle.path}: model.json"
    document = parse_json(bundle.read("model.json"), where, BundleError).get("models")
    files = rebuilt(document, listed(lambda value: text(mapping(lambda inner: inner)(value).get("file"))), where, BundleError)
    for file in files:
        if file not in bundle.manifest["files"]:
            raise BundleError(f"{where} names the artifact {file!r}, which is not in the bundle; pack it again.")
    return files


def _signed_hashes(own: Mapping[str, Any] | None, given: Mapping[str, Any] | None) -> tuple[list[str] | None, str]:
    if given is not None:
        return [given["artifact"]["sha256"]], "by --signoff"
    return (None, "") if own is None else ([own["artifact_sha256"]], "by its own manifest")


def _run(bundle: Bundle, program: str) -> tuple[int, tuple[str, ...]]:
    """The exit code and the lines of the bundled check, in a folder and an environment of its own: no variables, no user's packages."""
    with scratch_folder() as folder:
        bundle.unpack(folder)
        kept = {name: os.environ[name] for name in ("PATH", "SYSTEMROOT") if name in os.environ}
        command = [sys.executable, "-E", "-s", "-B", program, "--check"]
        try:
            done = subprocess.run(command, cwd=folder, env=kept, capture_output=True, text=True, errors="replace", timeout=LONGEST_SECONDS, check=False)
        except subprocess.TimeoutExpired:
            return -1, (f"the check took more than {LONGEST_SECONDS} s and was ended",)
        lines = done.stdout.splitlines() + ([] if done.returncode in (0, 1) and done.stdout else done.stderr.splitlines()[-3:])
        return done.returncode, tuple(lines)
