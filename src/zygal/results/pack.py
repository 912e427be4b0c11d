"""The JSON result of zygal pack."""

from __future__ import annotations

from typing import Annotated, TypedDict


class PackFiles(TypedDict):
    sha256: str
    bytes: int


class PackSignoff(TypedDict):
    plan: str
    title: str
    signed_at: str
    result_sha256: str
    artifact_sha256: str
    signed_off: bool


class PackModels(TypedDict):
    name: str
    file: str
    sha256: str
    references: Annotated[int, "number of reference images"]


class PackCheck(TypedDict):
    faults: Annotated[list[str], "files that are not as the manifest says"]
    not_checked: list[str]
    runner_said: list[str]


class Pack(TypedDict):
    bundle: str
    bundle_sha256: str
    bundle_bytes: int
    files: Annotated[dict[str, PackFiles], "by their names in the bundle"]
    signoff: PackSignoff | None
    models: Annotated[list[PackModels], "what was packed; empty with --check"]
    runners: Annotated[bool | None, "whether runners were packed; null with --check"]
    check: PackCheck | None
