"""The signatures of operators: which argument stands at which place of a call.

`signatures.txt` holds them as the framework states them, written by `benchmarks/operator_schemas.py`.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from zygal.sources.pytorch.scripted.values import Device, Size, Tensor

_LINE = re.compile(r"aten::(?P<name>\w+)(?:\.(?P<overload>\w+))?\((?P<parameters>.*)\) -> (?P<result>.*)")
_PARAMETER = re.compile(r"(?P<type>[A-Za-z]+(?:\([^)]*\))?\S*) (?P<name>\w+)(?:=(?P<default>.*))?")
_RESULTS = re.compile(r"\w+(?:\([^)]*\))?(?:\[\])?")


@dataclass(frozen=True)
class Parameter:
    """One parameter. kind: such as "Tensor?" or "int[]", without aliases and counts; count: of a list for which one
    number may stand."""

    name: str
    kind: str
    count: int
    default: Any
    required: bool
    named_only: bool


@dataclass(frozen=True)
class Signature:
    """One overload of an operator. several: whether its result is a list of tensors; results: how many there are if
    not."""

    name: str
    overload: str
    parameters: tuple[Parameter, ...]
    results: int
    several: bool

    @property
    def target(self) -> str:
        """The operator as captured programs name it."""
        return f"torch.ops.aten.{self.name}.{self.overload}"

    def bound(self, given: Sequence[Any], named: Mapping[str, Any]) -> dict[str, tuple[str, Any]] | None:
        """The arguments that differ from their defaults, as captured programs state them: (kind, value) by their names.
        None if they do not fit this overload."""
        places = [each for each in self.parameters if not each.named_only]
        if len(given) > len(places):
            return None
        values = dict(zip((each.name for each in places), given))
        if values.keys() & named.keys() or named.keys() - {each.name for each in self.parameters}:
            return None
        values |= named
        arguments = {}
        for parameter in self.parameters:
            if parameter.name not in values:
                if parameter.required:
                    return None
                continue
            fitted = _fitted(parameter, values[parameter.name])
            if fitted is None:
                return None
            if fitted[0] != "none" and not (not parameter.required and fitted[1] == parameter.default):
                arguments[parameter.name] = fitted
        return arguments


def _number(value: Any) -> bool:
    return type(value) in (int, float, bool)


def _whole(value: Any) -> bool:
    return type(value) is int or isinstance(value, Size)


_SCALAR_TYPES = {0: 1, 1: 2, 2: 3, 3: 4, 4: 5, 5: 6, 6: 7, 7: 8, 11: 12, 15: 13}
"""The numbers of dtypes in code, and those in captured programs."""
_MEMORY_FORMATS = {0: 1, 1: 4, 2: 2, 3: 3}


def _size(value: Any) -> tuple[str, Any]:
    return ("sym_int", {"as_name": value.name}) if isinstance(value, Size) else ("int", value)


def _sizes(values: list) -> tuple[str, Any]:
    if any(isinstance(each, Size) for each in values):
        return "sym_ints", [{"as_name": each.name} if isinstance(each, Size) else {"as_int": each} for each in values]
    return "ints", list(values)


def _optional_tensors(values: list) -> tuple[str, Any]:
    return "optional_tensors", [
        {"as_none": True} if each is None else {"as_tensor": {"name": each.name}} for each in values
    ]


_RULES: dict[str, tuple[Callable[[Any], bool], Callable[[Any], tuple[str, Any] | None]]] = {
    "Tensor": (lambda v: isinstance(v, Tensor), lambda v: ("tensor", {"name": v.name})),
    "Scalar": (
        lambda v: _number(v) or isinstance(v, Size),
        lambda v: _size(v) if _whole(v) else ("bool" if type(v) is bool else "float", v),
    ),
    "int": (_whole, _size),
    "float": (lambda v: type(v) in (int, float), lambda v: ("float", float(v))),
    "bool": (lambda v: type(v) is bool, lambda v: ("bool", v)),
    "str": (lambda v: type(v) is str, lambda v: ("string", v)),
    "ScalarType": (lambda v: type(v) is int and v in _SCALAR_TYPES, lambda v: ("scalar_type", _SCALAR_TYPES[v])),
    "MemoryFormat": (
        lambda v: type(v) is int and v in _MEMORY_FORMATS,
        lambda v: ("memory_format", _MEMORY_FORMATS[v]),
    ),
    "Layout": (lambda v: v == 0 and type(v) is int, lambda v: None),
    "Device": (lambda v: isinstance(v, Device), lambda v: None),
    "Tensor[]": (
        lambda v: type(v) is list and bool(v) and all(isinstance(each, Tensor) for each in v),
        lambda v: ("tensors", [{"name": each.name} for each in v]),
    ),
    "Tensor?[]": (
        lambda v: type(v) is list and all(each is None or isinstance(each, Tensor) for each in v),
        _optional_tensors,
    ),
    "int[]": (lambda v: type(v) in (list, tuple) and all(map(_whole, v)), _sizes),
    "float[]": (
        lambda v: type(v) is list and all(map(_number, v)),
        lambda v: ("floats", [float(each) for each in v]),
    ),
    "bool[]": (lambda v: type(v) is list and all(type(each) is bool for each in v), lambda v: ("bools", list(v))),
    "Scalar[]": (lambda v: type(v) is list and all(map(_number, v)), lambda v: ("floats", list(v))),
    "Generator": (lambda v: False, lambda v: None),
}
"""By the kind of a parameter: whether a value fits it, and how a captured program states it. What is computed anywhere
alike (a device, the usual layout) is left out."""


def _fitted(parameter: Parameter, value: Any) -> tuple[str, Any] | None:
    kind = parameter.kind
    if kind.endswith("?"):
        kind = kind[:-1]
        if value is None:
            return "none", None
    if parameter.count and _whole(value):
        value = [value] * parameter.count
    fits, stated = _RULES[kind]
    if not fits(value):
        return None
    return stated(value) or ("none", None)


@cache
def _lines() -> dict[str, list[str]]:
    """The lines of the table, by the operator's name."""
    found: dict[str, list[str]] = {}
    for line in files(__package__).joinpath("signatures.txt").read_text("utf-8").splitlines():
        name = line[: line.index("(")].removeprefix("aten::").partition(".")[0]
        found.setdefault(name, []).append(line)
    return found


@cache
def signatures_of(name: str) -> tuple[Signature, ...]:
    """All overloads of an operator; none of one that is not known."""
    found = []
    for line in _lines().get(name, ()):
        parts = _LINE.fullmatch(line)
        parameters = _parameters(parts["parameters"])
        if all(each.kind.removesuffix("?") in _RULES for each in parameters):
            results = _RESULTS.findall(parts["result"])
            several = any(each.endswith("[]") for each in results)
            found.append(Signature(parts["name"], parts["overload"] or "default", parameters, len(results), several))
    return tuple(found)


def _parameters(text: str) -> tuple[Parameter, ...]:
    found, named_only = [], False
    for part in _split(text):
        if part == "*":
            named_only = True
            continue
        parts = _PARAMETER.fullmatch(part)
        kind = re.sub(r"\([^)]*\)", "", parts["type"]).replace("SymInt", "int")
        count = re.search(r"\[(\d+)\]", kind)
        default = parts["default"]
        found.append(
            Parameter(
                parts["name"],
                re.sub(r"\[\d+\]", "[]", kind),
                int(count[1]) if count else 0,
                _default(default, int(count[1]) if count else 0),
                default is None,
                named_only,
            )
        )
    return tuple(found)


def _split(text: str) -> list[str]:
    """The parameters of a signature, which commas part outside of brackets."""
    parts, depth, start = [], 0, 0
    for at, character in enumerate(text):
        depth += (character in "([") - (character in ")]")
        if character == "," and not depth:
            parts.append(text[start:at].strip())
            start = at + 1
    return [each for each in [*parts, text[start:].strip()] if each]


_WORDS = {"None": None, "True": True, "False": False, "Mean": 1, "contiguous_format": 1, "long": 5}


def _default(text: str | None, count: int) -> Any:
    if text is None or text in _WORDS:
        return _WORDS.get(text)
    if text.startswith('"'):
        return text.strip('"')
    if text.startswith("["):
        return [int(each) for each in text.strip("[]").split(",") if each.strip()]
    number = float(text) if re.search(r"[.en]", text) else int(text)
    return [number] * count if count else number
