"""A new plan, with comments, from what lies in a folder."""

from __future__ import annotations

import json
import os
from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

from zygal.errors import PlanError, ZygalError
from zygal.files import kinds
from zygal.files.opening import files_below
from zygal.inlet.images import SUFFIXES
from zygal.signoff.plan import PLAN_VERSION

MOST_FILES = 2000
_LABELLED_CSV = ("path,label", "path;label", "file,label", "image,label", "filename,label")


def proposed_plan(plan: Path) -> tuple[str, list[str]]:
    """The text of a plan for the files in its folder, and notes. Raises PlanError if there is nothing to sign off."""
    folder = plan.absolute().parent
    found = _kinds_in(folder)
    sources, artifacts = (
        [name for name, kind in found.items() if fits(kind)]
        for fits in (_is_source, lambda kind: kind in kinds.ARTIFACTS)
    )
    if not sources and not artifacts:
        raise PlanError(
            f"{folder} holds no trained model and no artifact; run this where they are, or write the plan by "
            f"hand (docs/signoff.md)."
        )
    notes = []
    source = _first(sources, "trained models", notes)
    artifact = _first(
        [each for each in artifacts if source is None or Path(each).stem == Path(source).stem] or artifacts,
        "artifacts",
        notes,
    )
    artifact = artifact or str(Path(source).with_suffix(".onnx"))

    def of_kind(kind: str) -> list[str]:
        return [name for name, each in found.items() if each == kind]

    near = _near(artifact)
    inlet = _first(sorted(of_kind(kinds.INLET), key=near), "inlets", notes)
    witness = _first(sorted(of_kind(kinds.WITNESS), key=near), "witnesses", notes)
    reference = _reference(folder, witness)
    labelled = _labelled(folder, reference)
    labels = _first(
        sorted((name for name in of_kind(kinds.LABELS) if name != labelled), key=near), "labels files", notes
    )
    facts = {
        "source": source,
        "artifact": artifact,
        "inlet": inlet,
        "labels": labels,
        "witness": witness,
        "reference": reference,
        "labelled": labelled,
    }
    return _text(facts, plan.name), notes


def _kinds_in(folder: Path) -> dict[str, str]:
    """The kinds of the files in a folder, by name, those of its own folders not."""
    from zygal.files.recognition import kind_of

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
    from zygal.files.families import family_of_kind

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
    return len(classes) >= 2 and all(
        any(name.lower().endswith(tuple(SUFFIXES)) for name in files_below(each)) for each in classes
    )


def _text(found: dict[str, str | None], name: str) -> str:
    """The plan; what is not there, or needs a decision, is a comment."""
    from jinja2 import Environment, StrictUndefined

    def line(key: str, otherwise: str) -> str:
        value = found[key]
        return f"{key} = {json.dumps(value, ensure_ascii=False)}" if value else f'# {key} = "{otherwise}"'

    template = (files("zygal.signoff") / "templates" / "plan.toml").read_text("utf-8")
    environment = Environment(undefined=StrictUndefined, keep_trailing_newline=True)
    return environment.from_string(template).render(
        found=found, line=line, version=PLAN_VERSION, name=name, stem=Path(found["artifact"]).stem
    )
