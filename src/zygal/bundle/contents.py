"""The members of a bundle."""

from __future__ import annotations

import json
from collections.abc import Sequence
from importlib.resources import files
from pathlib import Path
from typing import Any

from zygal.artifact.formats import ONNX
from zygal.bundle.archive import Content
from zygal.bundle.model import Packed
from zygal.inlet import format_inlet
from zygal.wording import file_size

PYTHON_RUNNER, MOBILE_RUNNER = "classify.py", "classify_mobile.py"
SCRIPT_RUNNERS = ("classifier.mjs", "classify.mjs", "browser.html", "package.json")


def contents_of(models: Sequence[Packed], page: Path | None, runners: bool, signoff: dict[str, Any] | None) -> Content:
    """Every member by its name: bytes, or the path of a file."""
    made: dict[str, bytes | Path] = {}
    for model in models:
        made[model.document["file"]] = Path(model.facts.path)
        made[f"{model.folder}/labels.txt"] = "".join(f"{name}\n" for name in model.labels).encode()
        made[f"{model.folder}/inlet.toml"] = format_inlet(model.inlet).encode()
        made |= model.images
    made["classifier.json"] = (
        json.dumps({"models": [model.document for model in models]}, indent=1, ensure_ascii=False) + "\n"
    ).encode()
    for name in runners_of(models) if runners else ():
        made[name] = runner(name)
    if page is not None:
        made["page.html"] = page
    made["README.md"] = _rendered("README.md", models, runners, page is not None, signoff)
    made["other_languages.md"] = _rendered("other_languages.md", models, runners, page is not None, signoff)
    return made


def runners_of(models: Sequence[Packed]) -> list[str]:
    """The programs that run these artifacts: in JavaScript only what is ONNX."""
    formats = {model.facts.format for model in models}
    return [
        PYTHON_RUNNER,
        *([MOBILE_RUNNER] if formats - {ONNX.name} else []),
        *(SCRIPT_RUNNERS if ONNX.name in formats else ()),
    ]


def runner(name: str) -> bytes:
    """A runner's text, the same for every bundle of this release."""
    return (files("zygal.bundle") / "runners" / name).read_bytes()


def _rendered(name: str, models: Sequence[Packed], runners: bool, page: bool, signoff: dict[str, Any] | None) -> bytes:
    from jinja2 import Environment, StrictUndefined

    text = (files("zygal.bundle") / "templates" / name).read_text("utf-8")
    environment = Environment(
        undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True
    )
    environment.filters["file_size"] = file_size
    onnx = [model for model in models if model.facts.format == ONNX.name]
    return (
        environment.from_string(text)
        .render(
            models=[model.document for model in models],
            onnx=[each.document for each in onnx],
            packed=models,
            runners=runners,
            page=page,
            signoff=signoff,
        )
        .encode()
    )
