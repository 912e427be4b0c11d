"""The files that a plan names, with the SHA-256 of their bytes: what was checked, and what a kept result belongs to."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from zygal.artifact.formats import artifact_files
from zygal.errors import PlanError
from zygal.files.opening import files_below, sha256_of, sha256_of_all
from zygal.signoff.plan import Plan


@dataclass(frozen=True)
class Input:
    """sha256: of a file's bytes; of several files, of their names and hashes. files: how many they are."""

    role: str
    path: str
    sha256: str
    files: int
    size_bytes: int


def input_at(role: str, path: str) -> Input:
    """A file, a folder with all below it, or a CSV with the images that it lists. Raises FileError or PlanError."""
    file = path.rpartition(":")[0] if ".py:" in path else path
    if not os.path.exists(file):
        raise PlanError(f"{role} {path} does not exist; correct the path in the plan.")
    if os.path.isdir(file):
        return _several(role, path, files_below(file), file)
    if role == "accuracy.compare" and _is_artifact(file):
        return artifact_at(role, path)
    if role == "data.labelled":
        from zygal.prediction.labelled import read_labelled

        listed = (image.path for image in read_labelled(file, True))
        return _several(role, path, [file, *listed], os.path.dirname(file) or ".")
    return Input(role, path, sha256_of(file), 1, os.path.getsize(file))


def _is_artifact(path: str) -> bool:
    from zygal.artifact.formats import FORMATS
    from zygal.files.recognition import kind_of

    return kind_of(path) in [each.kind for each in FORMATS]


def artifact_at(role: str, path: str) -> Input:
    """An artifact with all files that it consists of. Raises FileError or ArtifactError."""
    files = artifact_files(path)
    return Input(role, path, sha256_of_all(files), len(files), sum(os.path.getsize(each) for each in files))


def _several(role: str, path: str, files: Iterable[str], folder: str) -> Input:
    digest, count, size = hashlib.sha256(), 0, 0
    for file in files:
        # An image that is not there is reported, with its reason, by the command that reads it.
        there = os.path.isfile(file)
        content = sha256_of(file) if there else "missing"
        digest.update(f"{content} {os.path.relpath(file, folder)}\n".encode("utf-8", "surrogateescape"))
        count, size = count + 1, size + (os.path.getsize(file) if there else 0)
    return Input(role, path, digest.hexdigest(), count, size)


def inputs_of(plan: Plan) -> dict[str, Input]:
    """Every input that the plan names, by its role, such as "data.witness"; the artifacts that it makes are not among
    them."""
    named = {
        "model.source": plan.model.source,
        "model.weights": plan.model.weights,
        "model.inlet": plan.model.inlet,
        "model.labels": plan.model.labels,
        "data.witness": plan.data.witness,
        "data.reference": plan.data.reference,
        "data.labelled": plan.data.labelled,
        "data.training": plan.data.training,
        "speed.earlier": plan.speed and plan.speed.earlier,
        "shrink.images": plan.shrink and plan.shrink.images,
        "accuracy.compare": None if plan.accuracy.compare in ("source", "float") else plan.accuracy.compare,
    }
    return {role: input_at(role, path) for role, path in named.items() if path}


def hashes_of(inputs: Mapping[str, Input], *roles: str) -> dict[str, str]:
    """Of those roles that the plan names."""
    return {role: inputs[role].sha256 for role in roles if role in inputs}
