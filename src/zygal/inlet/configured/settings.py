"""What the readers of the libraries' configurations share: the keys taken one by one, and what comes of them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal.errors import InletError, shown
from zygal.inlet.specification import Inlet

WAYS = ("pictures", "tensors")
"""On what a library computes: on pictures (of Pillow), or on tensors of 8-bit pixels."""


@dataclass(frozen=True)
class Configured:
    """What a configuration says of an image.

    library: of models. name: of what computes it there. way: of WAYS. other_way: whether the library has the other one
    too, whose values may differ. notes: what to know about it, as sentences.
    """

    inlet: Inlet
    library: str
    name: str
    way: str
    other_way: bool
    notes: tuple[str, ...] = ()

    @property
    def said(self) -> str:
        """What it is, in words."""
        return f"{self.name} of {self.library} as it computes on {self.way}"

    def notes_for(self, path: str | Path) -> tuple[str, ...]:
        """What to know about it where the configuration file is taken for an inlet."""
        said = f"{path} is read as {self.said}"
        if self.other_way:
            other = next(each for each in WAYS if each != self.way)
            said += f", not on {other}, where its values can differ slightly; zygal inlet recipes --from {path} "
            said += f"--way {other} writes that one"
        return (said + ".", *self.notes)


class Settings:
    """The keys of a configuration, taken one by one; what is left at the end is refused by name."""

    def __init__(self, where: str, content: dict[str, Any]):
        self.where, self._left = where, dict(content)

    def take(self, key: str, default: Any = None) -> Any:
        """The value of a key as it stands there."""
        return self._left.pop(key, default)

    def is_null(self, key: str) -> bool:
        """Whether a key is there without a value."""
        return key in self._left and self._left[key] is None

    def flag(self, key: str, default: bool) -> bool:
        """Yes or no. Raises InletError for what is neither, and for null where the default is yes: releases differ in
        what it means."""
        value = self._left.pop(key, default)
        if value is None and not default:
            return False
        if not isinstance(value, bool):
            raise self.refused(f"{key} is {shown(value)}; write true or false")
        return value

    def number(self, key: str, default: float) -> float:
        """A number above 0; the default also for null. Raises InletError."""
        value = self._left.pop(key, None)
        value = default if value is None else value
        if type(value) not in (int, float) or not 0 < value < 1e6:
            raise self.refused(f"{key} is {shown(value)}, where a number above 0 is needed")
        return value

    def three(self, key: str, default: Any) -> list[float]:
        """A number for each of the three channels. Raises InletError."""
        value = self._left.pop(key, None)
        value = default if value is None else value
        value = [value] * 3 if type(value) in (int, float) else value
        if not isinstance(value, list) or len(value) != 3 or not all(type(each) in (int, float) for each in value):
            raise self.refused(f"{key} is {shown(value)}, where three numbers are needed")
        return [float(each) for each in value]

    def finish(self, known: tuple[str, ...] = ()) -> None:
        """Raises InletError naming what was neither taken nor is known to have no effect."""
        left = [key for key in self._left if key not in known]
        if left:
            raise self.refused(f"{', '.join(map(shown, left[:5]))} {'is' if len(left) == 1 else 'are'} not understood")

    def refused(self, why: str) -> InletError:
        """The error that a configuration is refused with."""
        return InletError(
            f"{self.where} cannot be read as an inlet: {why}; state the inlet yourself, or recover it with zygal inlet "
            "recover."
        )


def is_size(value: Any) -> bool:
    """Whether a value is a number of pixels."""
    return type(value) is int and 0 < value < 65_536
