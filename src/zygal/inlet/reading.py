"""Reads inlets from files: our own TOML, and the configuration files of public collections of models."""

from __future__ import annotations

from pathlib import Path

from zygal.files.opening import read_text
from zygal.inlet.specification import Inlet
from zygal.inlet.toml import parse_inlet


def read_inlet(path: str | Path) -> Inlet:
    """The inlet of a TOML file, or of a collection's configuration in JSON. Raises FileError or InletError."""
    return read_with_notes(path)[0]


def read_with_notes(path: str | Path) -> tuple[Inlet, tuple[str, ...]]:
    """The same, and what to know about it: how a configuration is read. Raises FileError or InletError."""
    text = read_text(path, "an inlet", 1_000_000)
    if text.lstrip()[:1] != "{":
        return parse_inlet(text, str(path)), ()
    from zygal.inlet.configured import read_configured

    found = read_configured(path)
    return found.inlet, found.notes_for(path)
