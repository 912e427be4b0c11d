"""JSON documents that are not trusted: parsed within bounds, then rebuilt by rules that say all that may be in them.

A rule is a function of a value that gives the value rebuilt, or raises Misfit. What no rule names is refused, unless
it is empty: a field that says nothing cannot be misunderstood.
"""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Callable, Mapping
from typing import Any

from zygal.errors import ZygalError, shown, without_secrets

Rule = Callable[[Any], Any]
LONGEST_NUMBER = 20
THERE = "there"
LONGEST_TEXT = 1_000_000


class Misfit(ValueError):
    """A value breaks its rule; `place` leads to it from the top of the document."""

    def __init__(self, wanted: str, value: Any):
        super().__init__()
        self.wanted, self.value, self.keys = wanted, value, ()

    def below(self, name: str | int) -> Misfit:
        """The same fault, seen from the value that holds it."""
        self.keys = (str(name), *self.keys)
        return self

    def __str__(self) -> str:
        where = ".".join(shown(each, 30).strip("'") for each in self.keys[-4:])
        if self.wanted == THERE:
            return f"{where} is missing"
        return f"{where or 'the document'} must be {self.wanted}, but is {shown(self.value)}"


def parse_json(content: bytes | str, location: str, error: type[ZygalError], kind: type | tuple = dict) -> Any:
    """The document that a JSON text states. `place` names it in messages. Raises `error`."""
    try:
        document = json.loads(content, parse_int=_whole_number)
    except RecursionError as fault:
        raise error(f"{location} is nested too deep; it is damaged.") from fault
    except (ValueError, MemoryError) as fault:
        raise error(f"{location} is not JSON ({fault}); it is damaged.") from fault
    if not isinstance(document, kind):
        raise error(f"{location} is not a JSON object; it is damaged.")
    return document


def parse_toml(content: str, location: str, error: type[ZygalError]) -> dict[str, Any]:
    """The document that a TOML text states. Raises `error`."""
    if sys.version_info >= (3, 11):
        import tomllib
    else:
        import tomli as tomllib
    try:
        return tomllib.loads(content)
    except RecursionError as fault:
        raise error(f"{location} is not valid TOML: it is nested too deep.") from fault
    except ValueError as fault:  # What TOML does not allow, and whole numbers of thousands of digits.
        raise error(f"{location} is not valid TOML: {fault}.") from fault


def rebuilt(document: Any, rule: Rule, location: str, error: type[ZygalError]) -> Any:
    """The document as its rule rebuilds it. Raises `error` naming what breaks the rule."""
    try:
        return rule(document)
    except Misfit as fault:
        raise error(f"{location} does not follow its schema: {fault}.") from fault
    except RecursionError as fault:
        raise error(f"{location} is nested too deep; it is damaged.") from fault


def text(value: Any, most: int = LONGEST_TEXT) -> str:
    """Text of at most so many characters."""
    if type(value) is not str or len(value) > most:
        raise Misfit("text" if type(value) is not str else f"text of at most {most} characters", value)
    return value


def truth(value: Any) -> bool:
    """True or false."""
    if type(value) is not bool:
        raise Misfit("true or false", value)
    return value


def number(value: Any) -> float | int:
    """A number; what JSON has no digits for may be spelt Infinity, -Infinity or NaN, in quotes too."""
    if type(value) is str and value in ("Infinity", "-Infinity", "NaN"):
        return value
    if type(value) not in (int, float):
        raise Misfit("a number", value)
    return value


def finite(value: Any) -> float | int:
    """A number that is finite."""
    if type(value) not in (int, float) or not math.isfinite(value):
        raise Misfit("a finite number", value)
    return value


def whole(low: int = -(2**63), high: int = 2**63 - 1) -> Rule:
    """A rule for whole numbers from low to high."""

    def rule(value: Any) -> int:
        if type(value) is not int or not low <= value <= high:
            raise Misfit(f"a whole number from {low} to {high}" if type(value) is int else "a whole number", value)
        return value

    return rule


def maybe(inner: Rule) -> Rule:
    """A rule for what the inner rule allows, or null."""
    return lambda value: None if value is None else inner(value)


def either(*choices: Any) -> Rule:
    """A rule for one of some values."""

    def rule(value: Any) -> Any:
        if isinstance(value, (dict, list)) or value not in choices or type(value) not in map(type, choices):
            raise Misfit(" or ".join(map(repr, choices)), value)
        return value

    return rule


def listed(inner: Rule, most: int | None = None) -> Rule:
    """A rule for lists of at most so many values."""

    def rule(value: Any) -> list:
        if type(value) is not list or most is not None and len(value) > most:
            raise Misfit("a list" if most is None else f"a list of at most {most}", value)
        index = 0
        try:
            made = []
            for index, each in enumerate(value):  # noqa: B007
                made.append(inner(each))
            return made
        except Misfit as fault:
            raise fault.below(index) from None

    return rule


def mapping(inner: Rule, key: Rule = text) -> Rule:
    """A rule for objects with any names."""
    return lambda value: _object(value, lambda name, each: (key(name), inner(each)))


def record(required: Mapping[str, Rule], optional: Mapping[str, Rule] | None = None) -> Rule:
    """An object with these fields; optional ones stay away where they are not there."""
    known = {**required, **(optional or {})}

    def field(name: str, each: Any) -> tuple[str, Any] | None:
        if name in known:
            return name, known[name](each)
        if each is None or each is False or each in ([], {}, ""):
            return None
        raise Misfit("absent, because this release does not know this field", each)

    def rule(value: Any) -> dict:
        made = _object(value, field)
        for name in required:
            if name not in made:
                raise Misfit(THERE, None).below(name)
        return made

    return rule


def _object(value: Any, field: Callable[[str, Any], tuple[str, Any] | None]) -> dict:
    """An object of the fields that `field` makes of each; None leaves one out."""
    if type(value) is not dict:
        raise Misfit("an object", value)
    made, name = {}, ""
    try:
        for name, each in value.items():
            kept = field(name, each)
            if kept is not None:
                made[kept[0]] = kept[1]
        return made
    except Misfit as fault:
        raise fault.below(name) from None


def union(choices: Mapping[str, Rule]) -> Rule:
    """An object with exactly one of these fields."""

    def rule(value: Any) -> dict:
        if type(value) is not dict or len(value) != 1:
            raise Misfit("an object with one field", value)
        ((name, each),) = value.items()
        if name not in choices:
            raise Misfit("one of the kinds " + ", ".join(list(choices)[:6]), name)
        try:
            return {name: choices[name](each)}
        except Misfit as fault:
            raise fault.below(name) from None

    return rule


def _whole_number(digits: str) -> int:
    if len(digits) > LONGEST_NUMBER:
        raise ValueError(f"a whole number of {len(digits)} digits")
    return int(digits)


def json_value(value: Any) -> Any:
    """The value as JSON can hold it: numbers that are not finite become null, anything unknown its text, URLs lose
    passwords and signatures."""
    if isinstance(value, Mapping):
        return {str(key): json_value(each) for key, each in value.items()}
    if isinstance(value, (list, tuple)):
        return [json_value(each) for each in value]
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, str):
        return without_secrets(value)
    return value if value is None or isinstance(value, (int, float, bool)) else without_secrets(str(value))


def json_text(document: Any) -> str:
    """A result as the text of its file."""
    return json.dumps(json_value(document), indent=2, ensure_ascii=False) + "\n"
