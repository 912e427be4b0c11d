"""Reads inlets from files: our own TOML, and the configuration files of public collections of models."""

from __future__ import annotations

from pathlib import Path

from zygal.files.opening import read_text
from zygal.inlet.specification import Inlet
from zygal.inlet.toml import parse_inlet


def read_inlet(path: str | Path) -> Inlet:
    """The inlet of a TOML file, or of a collection's configuration in JSON. Raises FileError or InletError."""
    text = read_text(path, "an inlet", 1_000_000)
    if text.lstrip()[:1] == "{":
        from zygal.inlet.configured import read_configured

        return read_configured(path).inlet
    return parse_inlet(text, str(path))
