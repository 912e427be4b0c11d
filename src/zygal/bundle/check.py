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
from zygal.bundle.contents import MOBILE_RUNNER, PYTHON_RUNNER, SCRIPT_RUNNERS, runner
from zygal.errors import BundleError
from zygal.files.documents import listed, mapping, parse_json, rebuilt, text
from zygal.files.writing import scratch_folder
from zygal.outcome import Gate

LONGEST_SECONDS = 600
FIXED_FILES = ("classifier.json", "README.md", "other_languages.md", "page.html")
PROGRAM_ENDINGS = (".py", ".pyc", ".pyd", ".so", ".pth", ".js", ".mjs", ".zip", ".egg")
_ISOLATED = """\
import importlib.util, os, runpy, sys
program = sys.argv[1]
sys.argv = sys.argv[1:]
if program != "classify.py" and os.path.exists("classify.py"):
    spec = importlib.util.spec_from_file_location("classify", os.path.abspath("classify.py"))
    sys.modules["classify"] = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(sys.modules["classify"])
runpy.run_path(os.path.abspath(program), run_name="__main__")
"""
"""Runs a bundled program without its folder on the path, so that no file of the bundle is imported in place of a
library."""


@dataclass(frozen=True)
class Checked:
    """gates: what was checked. said: what the bundled runner printed. not_checked: sentences. faults: files that are
    not as the manifest says. artifacts: their hashes, by name."""

    gates: tuple[Gate, ...]
    said: tuple[str, ...]
    not_checked: tuple[str, ...]
    faults: tuple[str, ...]
    artifacts: dict[str, str]
    manifest: Mapping[str, Any]


def check_bundle(path: str | Path, signed: Mapping[str, Any] | None = None, run_code: bool = False) -> Checked:
    """signed: the result of zygal signoff that the bundle is held against, instead of what its own manifest says.
    run_code: run the bundled runner even if it is not the one that this release writes. Raises FileError or
    BundleError."""
    with Bundle(path) as bundle:
        faults = bundle.faults() or _unexpected(bundle)
        total = len(bundle.manifest["files"])
        gates = [Gate("files", "files that are not as the manifest says", len(faults), 0, f"of {total} files")]
        if faults:
            skipped = ("sign-off and runner: not checked, because files are not as the manifest says",)
            return Checked(tuple(gates), (), skipped, tuple(faults), {}, bundle.manifest)
        artifacts = {file: bundle.manifest["files"][file]["sha256"] for file in _artifacts(bundle)}
        not_checked = []
        gates += _signoff_gates(bundle.manifest["signoff"], signed, artifacts)
        unsigned = [
            file for file, sha256 in artifacts.items() if sha256 != _signed_hash(bundle.manifest["signoff"], signed)
        ]
        if signed is None and bundle.manifest["signoff"] is None:
            not_checked.append("sign-off: the bundle was packed without one, and --signoff is not given")
        else:
            not_checked += [
                f"sign-off of {file}: not checked, because it is not the artifact that was signed off"
                for file in unsigned
            ]
        said: tuple[str, ...] = ()
        runners = [name for name in (PYTHON_RUNNER, MOBILE_RUNNER) if name in bundle.manifest["files"]]
        foreign = [name for name in runners if bundle.read(name) != runner(name)]
        if not runners:
            not_checked.append("runner: the bundle was packed without runners")
        elif foreign and not run_code:
            why = (
                f"not run: its {foreign[0]} is not the one that this release of Zygal writes; add --run-code if you "
                f"trust the bundle"
            )
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
    if "classifier.json" not in bundle.manifest["files"]:
        raise BundleError(f"{bundle.path} holds no classifier.json, so it is not a whole bundle; pack it again.")
    where = f"{bundle.path}: classifier.json"
    document = parse_json(bundle.read("classifier.json"), where, BundleError).get("models")
    files = rebuilt(
        document, listed(lambda value: text(mapping(lambda inner: inner)(value).get("file"))), where, BundleError
    )
    for file in files:
        if file not in bundle.manifest["files"]:
            raise BundleError(f"{where} names the artifact {file!r}, which is not in the bundle; pack it again.")
    return files


def _unexpected(bundle: Bundle) -> list[str]:
    """Files that no bundle has, though the manifest names them: a program among them could be run in place of a
    library."""
    document = (
        parse_json(bundle.read("classifier.json"), f"{bundle.path}: classifier.json", BundleError)
        if "classifier.json" in bundle.manifest["files"]
        else {}
    )
    expected = {*FIXED_FILES, PYTHON_RUNNER, MOBILE_RUNNER, *SCRIPT_RUNNERS}
    for file in _artifacts(bundle):
        folder = file.rpartition("/")[0]
        expected |= {file, f"{folder}/labels.txt", f"{folder}/inlet.toml"}
    references = [
        each for model in document["models"] for each in model.get("references") or () if isinstance(each, dict)
    ]
    expected |= {
        each["image"]
        for each in references
        if isinstance(each.get("image"), str) and not each["image"].endswith(PROGRAM_ENDINGS)
    }
    return [f"{name} is not a file that a bundle has" for name in bundle.manifest["files"] if name not in expected]


def _signed_hash(own: Mapping[str, Any] | None, given: Mapping[str, Any] | None) -> str | None:
    """Of the artifact that was signed off: by the given sign-off, else by the bundle's own account."""
    if given is not None:
        return given["artifact"]["sha256"]
    return own and own["artifact_sha256"]


def _signoff_gates(
    own: Mapping[str, Any] | None, given: Mapping[str, Any] | None, artifacts: Mapping[str, str]
) -> list[Gate]:
    wanted = _signed_hash(own, given)
    if wanted is None:
        return []
    where = "--signoff" if given is not None else "its own manifest"
    condition = f"signed-off artifacts that are not in the bundle byte for byte (by {where})"
    if not (given if given is not None else own)["signed_off"]:
        return [Gate("signoff", condition, None, 0, "of 1", f"{where} says that the artifact was not signed off")]
    return [Gate("signoff", condition, int(wanted not in artifacts.values()), 0, "of 1")]


def _run(bundle: Bundle, program: str) -> tuple[int, tuple[str, ...]]:
    """The exit code and the lines of the bundled check, in a folder and an environment of its own: no variables, no
    user's packages."""
    with scratch_folder() as folder:
        bundle.unpack(folder)
        kept = {name: os.environ[name] for name in ("PATH", "SYSTEMROOT") if name in os.environ}
        command = [sys.executable, "-I", "-B", "-c", _ISOLATED, program, "--check"]
        try:
            done = subprocess.run(
                command,
                cwd=folder,
                env=kept,
                capture_output=True,
                text=True,
                errors="replace",
                timeout=LONGEST_SECONDS,
                check=False,
            )
        except subprocess.TimeoutExpired:
            return -1, (f"the check took more than {LONGEST_SECONDS} s and was ended",)
        lines = done.stdout.splitlines() + (
            [] if done.returncode in (0, 1) and done.stdout else done.stderr.splitlines()[-3:]
        )
        return done.returncode, tuple(lines)
