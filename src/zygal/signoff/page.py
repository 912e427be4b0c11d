"""The page of a sign-off: one HTML file that needs nothing else, rendered from the document that stands beside it."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from datetime import datetime
from importlib.resources import files
from typing import Any

from zygal import __version__
from zygal.signoff.junit import NOTHING_REQUIRED, sentence_of
from zygal.wording import (
    amount,
    counted,
    duration,
    file_size,
    grouped,
    percent,
    points,
    rate,
    rough_percent,
    short_number,
)

MOST_IN_TABLE = 25
"""The confusion of more classes is a picture."""
SHOWN_IMAGES, SHOWN_WRONG, MOST_LAYERS = 6, 12, 12
Pictures = Mapping[str, Mapping[str, bytes]]


def page_text(document: Mapping[str, Any], pictures: Pictures) -> str:
    """document: of zygal signoff, as JSON holds it. pictures: by step, then by name."""
    environment = _environment()
    environment.filters |= {
        "percent": percent,
        "short": short_number,
        "points": points,
        "rate": rate,
        "rough": rough_percent,
        "duration": duration,
        "file_size": file_size,
        "grouped": grouped,
        "counted": counted,
        "sentence": sentence_of,
        "amount": _amount,
        "limit": _limit,
        "moment": lambda text: datetime.fromisoformat(text).strftime("%Y-%m-%d %H:%M UTC"),
        "ms": lambda seconds: "-" if seconds is None else f"{1e3 * seconds:.3g}",
    }
    steps = {
        **dict.fromkeys(("accuracy", "inlet", "speed")),
        **{name: step["document"] for name, step in document["steps"].items()},
    }
    return (
        environment.get_template("page.html").render(
            page=document,
            steps=steps,
            version=__version__,
            images=_as_data(pictures),
            required=[each for each in document["checks"] if each["required"]],
            not_passed=[each for each in document["checks"] if each["required"] and not each["passed"]],
            causes=causes_of(steps),
            nothing=NOTHING_REQUIRED,
            shown_images=SHOWN_IMAGES,
            shown_wrong=SHOWN_WRONG,
            matches=_matches(steps),
            confusion=_confusion(steps.get("accuracy")),
            layers=_layers(steps.get("speed")),
            quiet=_quiet(steps.get("speed")),
        )
        + "\n"
    )


def ended_page(document: Mapping[str, Any]) -> str:
    """The page of a run that ended without a result."""
    environment = _environment()
    return environment.get_template("ended.html").render(page=document, version=__version__) + "\n"


def _environment():
    from jinja2 import DictLoader, Environment, StrictUndefined

    templates = files("zygal.signoff") / "templates"
    loader = DictLoader(
        {name: (templates / name).read_text("utf-8") for name in ("page.html", "ended.html", "parts.html", "style.css")}
    )
    return Environment(
        loader=loader,
        autoescape=lambda name: name != "style.css",
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )


def _as_data(pictures: Pictures) -> dict[str, dict[str, str]]:
    """Every picture as an address that holds it."""
    kinds = {b"\x89PNG": "image/png", b"\xff\xd8\xff": "image/jpeg", b"<?xml": "image/svg+xml"}
    made: dict[str, dict[str, str]] = {}
    for step, named in pictures.items():
        for name, data in named.items():
            kind = next(kind for head, kind in kinds.items() if data.startswith(head))
            made.setdefault(step, {})[name] = f"data:{kind};base64,{base64.b64encode(data).decode()}"
    return made


def _amount(check: Mapping[str, Any]) -> str:
    return "not measured" if check["measured"] is None else amount(check["measured"], check["unit"])


def _limit(check: Mapping[str, Any]) -> str:
    return f"{'at least' if check['at_least'] else 'at most'} {amount(check['limit'], check['unit'])}"


def _matches(steps: Mapping[str, Any]) -> list[tuple[str, str, Mapping[str, Any]]]:
    """(step, title, document) of the artifact's agreement, and of the float artifact's where another one is signed
    off."""
    titles = {
        "agreement": "Agreement with the training framework",
        "agreement_float": "Agreement of the float artifact",
    }
    return [(name, title, steps[name]) for name, title in titles.items() if steps.get(name)]


def causes_of(steps: Mapping[str, Any]) -> list[str]:
    """What explains failed gates of a match, each sentence once. steps: documents by name."""
    found = []
    for match in (steps[name] for name in ("agreement_float", "agreement") if steps.get(name)):
        found += [*([match["diagnosis"]] if match["diagnosis"] else []), *match["likely_causes"]]
    return list(dict.fromkeys(found))


def _confusion(tally: Mapping[str, Any] | None) -> dict[str, Any] | None:
    """Rows of (name, images, cells of (count, share of the row, whether it is right)), for few classes."""
    if not tally or not tally["exclusive"] or len(tally["labels"]) > MOST_IN_TABLE:
        return None
    counts = tally["exclusive"]["confusion_counts"]
    rows = []
    for index, (name, row) in enumerate(zip(tally["labels"], counts)):
        total = sum(row)
        rows.append(
            (name, total, [(count, count / total if total else 0.0, place == index) for place, count in enumerate(row)])
        )
    return {"names": tally["labels"], "rows": rows}


def _layers(bench: Mapping[str, Any] | None) -> dict[str, Any] | None:
    """The layers that take most time, each with its share, and the rest together."""
    times = bench and bench.get("layers")
    if not times:
        return None
    ordered = sorted(times["layers"], key=lambda each: -each["seconds"])
    total = sum(each["seconds"] for each in ordered) or 1.0
    shown = [(each["layer"], each["seconds"], each["seconds"] / total) for each in ordered[:MOST_LAYERS]]
    rest = sum(each["seconds"] for each in ordered[MOST_LAYERS:])
    if rest:
        shown.append((f"{counted(len(ordered) - MOST_LAYERS, 'other layer')}", rest, rest / total))
    return {"rows": shown, "largest": max((each[2] for each in shown), default=1.0), "setting": times}


def _quiet(bench: Mapping[str, Any] | None) -> str:
    """How far the times can be trusted, in words."""
    if not bench:
        return ""
    load, parts = bench["load"], []
    ratios = [each["self_ratio"]["value"] for each in bench["cells"] if each["self_ratio"]]
    if ratios:
        parts.append(
            f"two copies of the artifact in the same run differed by up to "
            f"{rough_percent(max(abs(ratio - 1) for ratio in ratios))}"
        )
    if load["other_programs_cores"] is not None:
        parts.append(f"other programs used {load['other_programs_cores']:.2f} cores")
    if load["stolen_share"]:
        parts.append(f"other virtual machines took {rough_percent(load['stolen_share'])} of the cores' time")
    unsteady = sum(not each["steady_before"] for each in bench["cells"])
    if unsteady:
        parts.append(f"{counted(unsteady, 'setting')} had not become steady when measuring began")
    return "; ".join(parts)
