"""zygal pack: one bundle of all that an application team needs, and its check."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.errors import BundleError, OutputError, some_of
from zygal.files.outputs import BUNDLE, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line
from zygal.outcome import Outcome
from zygal.request import Request, option, paths_read, refuse_given

if TYPE_CHECKING:
    from zygal.bundle.check import Checked

RESULT_FILE, PAGE_FILE = "result.json", "page.html"


@dataclass(frozen=True, kw_only=True)
class PackRequest(Request):
    """What zygal pack is asked for: to pack, or to check a bundle."""

    artifacts: tuple[str, ...] = option("the artifacts to pack", (), positional=True, nargs="*", metavar="ARTIFACT")
    output: str | None = option(
        "the bundle to write, a zip archive; the same inputs give the same bytes",
        None,
        short="o",
        metavar="BUNDLE",
        writes=True,
    )
    images: str | None = option(
        "folder of reference images; ten that differ most in kind are packed", None, metavar="DIR", reads=True
    )
    signoff: str | None = option(
        "what zygal signoff wrote (its folder or result.json): packs the page, or with --check, is what the bundle "
        "is held against",
        None,
        metavar="DIR",
        reads=True,
    )
    no_runners: bool = option(
        "leave out the programs in Python and JavaScript that run the artifact and check themselves", False
    )
    check: str | None = option(
        "check a bundle: hashes, sign-off, and its runner on its own images", None, metavar="BUNDLE"
    )
    run_code: bool = option(
        "with --check: run the bundled runner although this release of Zygal did not write it",
        False,
        configurable=False,
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(self.output, BUNDLE)] if self.output and not self.check else []


@dataclass(frozen=True, kw_only=True)
class PackOutcome(Outcome):
    """files: SHA-256 and size of each file of the bundle, by name. models: entries of classifier.json. checked: of a
    bundle that was checked."""

    kind: ClassVar[str] = "zygal.pack"

    request: PackRequest
    bundle: str
    bundle_sha256: str
    bundle_bytes: int
    files: dict[str, dict[str, Any]]
    models: tuple[dict[str, Any], ...] = ()
    signoff: dict[str, Any] | None = None
    checked: Checked | None = None

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        checked = self.checked
        return {
            "bundle": self.bundle,
            "bundle_sha256": self.bundle_sha256,
            "bundle_bytes": self.bundle_bytes,
            "files": self.files,
            "signoff": self.signoff,
            "models": [
                {
                    "name": each["name"],
                    "file": each["file"],
                    "sha256": each["sha256"],
                    "references": len(each["references"]),
                }
                for each in self.models
            ],
            "runners": not self.request.no_runners if checked is None else None,
            "check": checked
            and {
                "faults": list(checked.faults),
                "not_checked": list(checked.not_checked),
                "runner_said": list(checked.said),
            },
        }


def execute(request: PackRequest, listener: Listener = SILENT) -> PackOutcome:
    """Writes the bundle, or checks one. Raises ZygalError."""
    from zygal.evidence.signoff_result import read_signoff

    _check(request)
    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    result = _result_file(request.signoff) if request.signoff else None
    signed = read_signoff(result) if result else None
    if request.check:
        return _checked(request, signed, listener)
    return _packed(request, result, signed, listener)


def _check(request: PackRequest) -> None:
    if request.check:
        if request.artifacts:
            raise OutputError("ARTIFACT does not apply to --check; leave it out.")
        refuse_given(request, ("output", "images", "no_runners"), "--check", OutputError)
        return
    if not request.artifacts:
        raise BundleError(
            "name the artifacts to pack, or a bundle to check: zygal pack ARTIFACT -o BUNDLE.zip, or zygal pack "
            "--check BUNDLE.zip"
        )
    for name, why in (
        ("output", "the bundle to write"),
        ("images", "the folder of reference images, of which ten are packed"),
    ):
        if getattr(request, name) is None:
            raise BundleError(f"{'-o' if name == 'output' else '--images'} is missing: {why}.")
    if request.run_code:
        raise OutputError("--run-code applies to --check only; leave it out.")
    stems = [Path(each).stem for each in request.artifacts]
    twice = [stem for stem in stems if stems.count(stem) > 1]
    if twice:
        names = [each for each in request.artifacts if Path(each).stem == twice[0]]
        raise BundleError(
            f"{some_of(names)} would have the same folder {twice[0]} in the bundle; give them different names."
        )


def _result_file(given: str) -> Path:
    path = Path(given)
    return path / RESULT_FILE if path.is_dir() else path


def _packed(
    request: PackRequest, result: Path | None, signed: dict[str, Any] | None, listener: Listener
) -> PackOutcome:
    from zygal.bundle.abilities import cannot_do
    from zygal.bundle.archive import write_bundle
    from zygal.bundle.contents import contents_of
    from zygal.bundle.model import packed
    from zygal.files.opening import sha256_of

    models = []
    for index, path in enumerate(request.artifacts):
        listener.step("reference images", index / len(request.artifacts))
        models.append(packed(path, Path(path).stem, request.images))
    left_out = [
        f"{Path(each.document['file']).name} ({some_of(list(each.left_out))})" for each in models if each.left_out
    ]
    if left_out and not request.no_runners:
        in_graph = all(not cannot_do(each.inlet, True) for each in models)
        advice = "convert with --raw-pixels, which puts the preprocessing into the artifact, or " if in_graph else ""
        raise BundleError(f"the runners cannot do what {left_out[0]} needs; {advice}add --no-runners.")
    record = _record_of(signed, result, models) if signed and result else None
    page = result.with_name(PAGE_FILE) if result else None
    if page is not None and not page.is_file():
        raise BundleError(f"{page} does not exist; {result} stands beside its page when zygal signoff writes it.")
    listener.step("writing")
    manifest = write_bundle(request.output, contents_of(models, page, not request.no_runners, record), record)
    notes = (
        []
        if record
        else [
            "the bundle is packed without a sign-off; add --signoff DIR, the folder that zygal signoff wrote, "
            "to prove what was checked"
        ]
    )
    unsigned = [each.document["file"] for each in models if record and each.facts.sha256 != record["artifact_sha256"]]
    notes += [f"not signed off, though others of the bundle are: {some_of(unsigned)}"] if unsigned else []
    return PackOutcome(
        request=request,
        bundle=request.output,
        bundle_sha256=sha256_of(request.output),
        bundle_bytes=Path(request.output).stat().st_size,
        files=manifest["files"],
        models=tuple(each.document for each in models),
        signoff=record,
        notes=tuple(notes),
        written=(request.output,),
        next_step=command_line("zygal", "pack", "--check", request.output),
    )


def _record_of(signed: dict[str, Any], result: Path, models) -> dict[str, Any]:
    """What the manifest says of the sign-off. Raises BundleError if it does not belong to what is packed, or failed."""
    from zygal.files.opening import sha256_of

    if not signed["signed_off"]:
        raise BundleError(
            f"{result} says that the artifact was not signed off ({signed['verdict']}); mend what does not "
            f"pass, or pack without --signoff."
        )
    wanted = signed["artifact"]["sha256"]
    if wanted not in [each.facts.sha256 for each in models]:
        raise BundleError(
            f"{result} signed off {signed['artifact']['path']} with the SHA-256 {wanted[:12]}, which is none of "
            f"the artifacts to pack; sign it off again."
        )
    return {
        "plan": signed["plan"],
        "title": signed["title"],
        "signed_at": signed["signed_at"],
        "result_sha256": sha256_of(result),
        "artifact_sha256": wanted,
        "signed_off": True,
    }


def _checked(request: PackRequest, signed: dict[str, Any] | None, listener: Listener) -> PackOutcome:
    from zygal.bundle.check import check_bundle
    from zygal.files.opening import sha256_of

    listener.step("checking")
    found = check_bundle(request.check, signed, request.run_code)
    return PackOutcome(
        request=request,
        bundle=request.check,
        bundle_sha256=sha256_of(request.check),
        bundle_bytes=Path(request.check).stat().st_size,
        files=dict(found.manifest["files"]),
        signoff=found.manifest["signoff"],
        checked=found,
        gates=found.gates,
    )
