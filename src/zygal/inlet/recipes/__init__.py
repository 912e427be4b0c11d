"""Inlets of common recipes, each a complete file: what it does and the calls that it states are its first two
comments."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from zygal.errors import InletError
from zygal.inlet.checks import meant
from zygal.inlet.specification import Inlet
from zygal.inlet.toml import parse_inlet

_ENDING = ".inlet.toml"


@dataclass(frozen=True)
class Recipe:
    """name: as the command takes it. does: in one line. calls: the library's calls that it states. text: the TOML
    file."""

    name: str
    does: str
    calls: str
    text: str

    @property
    def inlet(self) -> Inlet:
        """The inlet of its text."""
        return parse_inlet(self.text, self.name)


def all_recipes() -> list[Recipe]:
    """Every recipe, by name."""
    found = []
    for path in sorted(Path(__file__).parent.glob(f"*{_ENDING}")):
        text = path.read_text()
        does, calls = (line.removeprefix("# ") for line in text.splitlines()[:2])
        found.append(Recipe(path.name.removesuffix(_ENDING), does, calls, text))
    return found


def recipe_named(name: str) -> Recipe:
    """Raises InletError if there is none of this name."""
    known = {each.name: each for each in all_recipes()}
    if name not in known:
        raise InletError(f"there is no recipe {name}; known are {', '.join(known)}{meant(name, known)}.")
    return known[name]
