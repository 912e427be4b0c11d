"""A new plan, with comments, from what lies in a folder."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from zygal import kinds
from zygal.errors import PlanError, ZygalError
from zygal.evidence.images import SUFFIXES
from zygal.files import files_below
from zygal.signoff.plan import PLAN_VERSION

DEEPEST_FOLDERS = 2
MOST_FILES = 2000
_LABELLED_CSV = ("path,label", "path;label", "file,label", "image,label", "filename,label")


def proposed_plan(plan: Path) -> tuple[str, list[str]]:
    """The text of a plan for the files in its folder, and notes. Raises PlanError if there is nothing to sign off."""
    folder = plan.absolute().parent
    found = _kinds_in(folder)
    sources, artifacts = ([name for name, kind in found.items() if fits(kind)] for fits in (_is_source, lambda kind: kind in kinds.ARTIFACTS))
    if not sources and not artifacts:
        raise PlanError(f"{folder} holds no trained model and no artifact; run this where they are, or write the plan by hand (docs/signoff.md).")
    notes = []
    source = _first(sources, "trained models", notes)
    artifact = _first([each for each in artifacts if source is None or Path(each).stem == Path(source).stem] or artifacts, "artifacts", notes)
    artifact = artifact or str(Path(source).with_suffix(".onnx"))
    of_kind: Callable[[str], list[str]] = lambda kind: [name for name, each in found.items() if each == kind]  # noqa: E731
    near = _near(artifact)
    inlet = _first(sorted(of_kind(kinds.INLET), key=near), "inlets", notes)
    witness = _first(sorted(of_kind(kinds.WITNESS), key=near), "witnesses", notes)
    reference = _reference(folder, witness)
    labelled = _labelled(folder, reference)
    labels = _first(sorted((name for name in of_kind(kinds.LABELS) if name != labelled), key=near), "labels files", notes)
    facts = {"source": source, "artifact": artifact, "inlet": inlet, "labels": labels, "witness": witness, "reference": reference, "labelled": labelled}
    return _text(facts), notes


def _kinds_in(folder: Path) -> dict[str, str]:
    """The kinds of the files in a folder, by name, those of its own folders not."""
    from zygal.sources.recognition import kind_of

    found = {}
    for name in sorted(os.listdir(folder))[:MOST_FILES]:
        path = folder / name
        if name.startswith(".") or os.path.splitext(name)[1].lower() in SUFFIXES:
            continue
        try:
            found[name] = kind_of(path) if path.is_file() or (path / "saved_model.pb").exists() else ""
        except ZygalError:
            continue
    return found


def _is_source(kind: str) -> bool:
    from zygal.sources.families import family_of_kind

    return bool(kind) and kind not in kinds.ARTIFACTS and family_of_kind(kind) is not None


def _first(names: list[str], what: str, notes: list[str]) -> str | None:
    if len(names) > 1:
        notes.append(f"there are several {what}: {names[0]} was taken, not {', '.join(names[1:4])}")
    return names[0] if names else None


def _near(artifact: str) -> Callable[[str], tuple[int, str]]:
    """A key that puts files of the artifact's name first."""
    stem = Path(artifact).name.partition(".")[0]
    return lambda name: (int(name.partition(".")[0] != stem), name)


def _reference(folder: Path, witness: str | None) -> str | None:
    """The folder that holds the images of the witness."""
    from zygal.evidence.witness import read_witness

    if witness is None:
        return None
    names = [image.name for image in read_witness(folder / witness).images]
    inside = [each for each in sorted(folder.iterdir()) if each.is_dir() and not each.name.startswith(".")]
    return next((each.name for each in inside if all((each / name).is_file() for name in names)), None)


def _labelled(folder: Path, reference: str | None) -> str | None:
    """A CSV of labelled images, or a folder with a sub-folder of images for each of several classes."""
    for path in sorted(folder.glob("*.csv")):
        with path.open("rb") as file:
            head = file.readline(200).decode("utf-8-sig", "replace").lower().replace(" ", "").replace('"', "")
        if head.startswith(_LABELLED_CSV):
            return path.name
    for each in sorted(folder.iterdir()):
        if each.is_dir() and each.name != reference and not each.name.startswith(".") and _holds_classes(each):
            return each.name
    return None


def _holds_classes(folder: Path) -> bool:
    classes = [each for each in folder.iterdir() if each.is_dir() and not each.name.startswith(".")][:50]
    return len(classes) >= 2 and all(any(name.lower().endswith(tuple(SUFFIXES)) for name in files_below(each)) for each in classes)


def _text(found: dict[str, str | None]) -> str:
    """The plan; what is not there, or needs a decision, is a comment."""
    def line(key: str, name: str, otherwise: str) -> str:
        value = found[name]
        return f'{key} = "{value}"' if value else f'# {key} = "{otherwise}"'

    shown = found["labelled"] is not None
    return f'''# What must hold before {found["artifact"]} ships. Run it with: zygal signoff THIS_FILE
# Paths start at this file's folder. A line behind # is an example: take the # away and set your own limit.
zygal_plan = {PLAN_VERSION}
# title = "what the page is called"
# extends = "common.toml"        # take everything that is not stated here from another plan
# report_only = ["speed"]        # gates that are measured and shown, but cannot fail: tables, or single gates like "accuracy.at_least"

[model]
{line("artifact", "artifact", "model.onnx")}
{line("source", "source", "model.pt2")}        # the artifact is made from it where it is missing or was made from other bytes
{line("inlet", "inlet", "model.inlet.toml")}
{line("labels", "labels", "labels.txt")}

[data]
{line("witness", "witness", "model.witness")}      # made with: zygal witness
{line("reference", "reference", "reference")}      # the images of the witness
{line("labelled", "labelled", "labelled.csv")}      # images with their true class

# The limits of zygal match; these are its defaults.
[agreement]
{"" if found["witness"] else "# "}tensor_grey_levels = 0.5
{"" if found["witness"] else "# "}model_of_spread = 1e-4
{"" if found["witness"] else "# "}end_to_end_of_spread = 1e-2

[portability]
# size_at_most_mb = 100
# opset_at_most = 17
# runs_on = "1.16"               # this release of the runtime must load the artifact

[accuracy]{"" if shown else "                       # needs data.labelled"}
# at_least = 0.95
# each_class_at_least = 0.85
# each_group_at_least = 0.90     # groups are a column of the CSV
# lost_at_most = 0.005           # accuracy lost to what compare names
# compare = "source"             # needs the training framework; or the file of another model

[speed]
seconds = 20
# [[speed.limits]]
# batch = 1
# threads = 1
# p99_at_most_ms = 10
# images_per_second_at_least = 100

[memory]
# peak_at_most_mb = 500

# An artifact in 8 bits, which is then the one that is signed off.
# [shrink]
# output = "{Path(found["artifact"]).stem}.small.onnx"
# images = "calibration"
# agree = 0.99
'''
