"""Inlets as TOML. Reading refuses every key that it does not know, and says which keys there are."""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from zygal.errors import InletError
from zygal.files import read_text
from zygal.inlet import specification as spec
from zygal.inlet.specification import Crop, Decode, Inlet, Resize, Tensor, Values

if sys.version_info >= (3, 11):
    import tomllib
else:
    import tomli as tomllib

FORMAT_VERSION = 1
LARGEST_SIDE = 16384


def read_inlet(path: str | Path) -> Inlet:
    """The inlet of a TOML file. Raises FileError or InletError."""
    return parse_inlet(read_text(path, "an inlet", 1_000_000), str(path))


def parse_inlet(text: str, where: str) -> Inlet:
    """The inlet that a TOML text states; `where` names the text in messages. Raises InletError."""
    try:
        document = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as fault:
        raise InletError(f"{where} is not valid TOML: {fault}.") from fault
    table = _Table(where, "", document)
    version = table.take("zygal_inlet", _integer)
    if version != FORMAT_VERSION:
        found = "no line zygal_inlet = 1, so it is not an inlet" if version is None else f"zygal_inlet = {version}"
        raise InletError(f"{where} has {found}; this release reads version {FORMAT_VERSION}.")
    decode = _decode(table.table("decode"))
    frame = tuple(_step(step) for step in table.tables("frame"))
    values = _values(table.table("values"), 1 if decode.colour == "grey" else 3)
    tensor = _tensor(table.table("tensor"), values)
    table.finish()
    inlet = Inlet(decode, frame, values, tensor)
    _check_frame(inlet, where)
    return inlet


def format_inlet(inlet: Inlet) -> str:
    """The TOML text of an inlet; `parse_inlet` gives back an equal one."""
    import tomli_w

    document: dict[str, Any] = {"zygal_inlet": FORMAT_VERSION, "decode": _plain(inlet.decode)}
    document["frame"] = [{"step": type(step).__name__.lower(), **_plain(step)} for step in inlet.frame]
    document["values"] = _plain(inlet.values)
    document["tensor"] = _plain(inlet.tensor)
    return tomli_w.dumps(document)


def _plain(record: Any) -> dict[str, Any]:
    fields = {name: getattr(record, name) for name in record.__dataclass_fields__}
    if isinstance(record, Resize) and record.short_side is None:
        del fields["long_side"]
    return {name: list(v) if isinstance(v, tuple) else v for name, v in fields.items() if v is not None}


class _Table:
    """A TOML table from which keys are taken; what is left at the end is unknown."""

    def __init__(self, where: str, name: str, content: Any):
        self.where, self.name = where, name
        if not isinstance(content, dict):
            raise InletError(f"{where}: {name} must be a table.")
        self._left = dict(content)
        self._asked: list[str] = []

    def take(self, key: str, check: Callable[[Any], Any], default: Any = None) -> Any:
        """The checked value of a key; `check` raises ValueError with what would be right."""
        self._asked.append(key)
        if key not in self._left:
            return default
        try:
            return check(self._left.pop(key))
        except ValueError as fault:
            raise self.error(f"{key} must be {fault}") from None

    def table(self, name: str) -> _Table:
        self._asked.append(name)
        return _Table(self.where, f"[{name}]", self._left.pop(name, {}))

    def tables(self, name: str) -> list[_Table]:
        self._asked.append(name)
        content = self._left.pop(name, [])
        if not isinstance(content, list):
            raise InletError(f"{self.where}: write [[{name}]] with two brackets; its steps are done in their order.")
        return [_Table(self.where, f"[[{name}]] step {i}", step) for i, step in enumerate(content, 1)]

    def finish(self) -> None:
        if self._left:
            unknown = ", ".join(self._left)
            raise self.error(f"unknown key{'s' * (len(self._left) > 1)} {unknown}; known are {', '.join(self._asked)}")

    def error(self, what: str) -> InletError:
        return InletError(f"{self.where}: {self.name + ': ' if self.name else ''}{what}.")


def _decode(table: _Table) -> Decode:
    colour = table.take("colour", _one_of(spec.COLOURS), "rgb")
    exif = table.take("exif", _one_of(spec.EXIF), "ignore")
    transparency = table.take("transparency", _transparency, "drop")
    table.finish()
    return Decode(colour, exif, transparency)


def _step(table: _Table) -> Resize | Crop:
    step = table.take("step", _one_of(("resize", "crop")))
    if step is None:
        raise table.error('the key step is missing; write step = "resize" or step = "crop"')
    if step == "crop":
        size = table.take("size", _size)
        centring = table.take("centring", _one_of(spec.CENTRINGS), "down")
        table.finish()
        if size is None:
            raise table.error("a crop needs size = [height, width]")
        return Crop(size, centring)
    short_side, size = table.take("short_side", _side), table.take("size", _size)
    filter = table.take("filter", _one_of(spec.FILTERS))
    long_side = table.take("long_side", _one_of(spec.LONG_SIDES))
    table.finish()
    if (short_side is None) == (size is None):
        raise table.error("a resize needs either short_side = PIXELS or size = [height, width], and not both")
    if filter is None:
        raise table.error(f"a resize needs its filter: {', '.join(spec.FILTERS)}")
    if size is not None and long_side is not None:
        raise table.error("long_side contradicts size, which gives both sides")
    return Resize(short_side, size, filter, long_side or "down")


def _values(table: _Table, channels: int) -> Values:
    range_ = table.take("range", _numbers(2), (0.0, 1.0))
    mean, std = table.take("mean", _numbers()), table.take("std", _numbers())
    table.finish()
    if range_[0] == range_[1]:
        raise table.error("range gives black and white the same value")
    for name, numbers in (("mean", mean), ("std", std)):
        if numbers is not None and len(numbers) != channels:
            raise table.error(
                f"{name} has {len(numbers)} numbers, but the image has {channels} channel{'s' * (channels > 1)}"
            )
    if std is not None and 0 in std:
        raise table.error("std holds a zero, by which nothing can be divided")
    return Values(range_, mean, std)


def _tensor(table: _Table, values: Values) -> Tensor:
    layout = table.take("layout", _one_of(spec.LAYOUTS), "NCHW")
    dtype = table.take("dtype", _one_of(spec.DTYPES), "float32")
    table.finish()
    if dtype == "uint8" and (values.range != (0.0, 255.0) or values.mean or values.std):
        raise table.error("dtype uint8 contradicts [values]: 8-bit tensors need range = [0, 255] without mean and std")
    return Tensor(layout, dtype)


def _check_frame(inlet: Inlet, where: str) -> None:
    """Raises InletError if a crop asks for more than the resize before it can leave."""
    least: tuple[int, int] | None = None
    for step in inlet.frame:
        if isinstance(step, Crop):
            if least and (step.size[0] > least[0] or step.size[1] > least[1]):
                raise InletError(
                    f"{where}: the crop to {step.size[0]} x {step.size[1]} is larger than what the step before it "
                    f"leaves ({least[0]} x {least[1]})."
                )
            least = step.size
        else:
            least = step.size or (step.short_side, step.short_side)


def _one_of(allowed: tuple[str, ...]) -> Callable[[Any], str]:
    def check(value: Any) -> str:
        if value not in allowed:
            raise ValueError(f"one of {', '.join(allowed)}, not {value!r}")
        return value

    return check


def _integer(value: Any) -> int:
    if type(value) is not int:
        raise ValueError(f"a whole number, not {value!r}")
    return value


def _side(value: Any) -> int:
    if type(value) is not int or not 1 <= value <= LARGEST_SIDE:
        raise ValueError(f"a number of pixels from 1 to {LARGEST_SIDE}, not {value!r}")
    return value


def _size(value: Any) -> tuple[int, int]:
    if not isinstance(value, list) or len(value) != 2:
        raise ValueError(f"[height, width] in pixels, not {value!r}")
    return _side(value[0]), _side(value[1])


def _numbers(count: int | None = None) -> Callable[[Any], tuple[float, ...]]:
    def check(value: Any) -> tuple[float, ...]:
        right = isinstance(value, list) and (len(value) == count if count else bool(value))
        if not right or not all(type(each) in (int, float) and abs(each) < 1e30 for each in value):
            raise ValueError(f"a list of {count or 'one number a channel'}{' numbers' if count else ''}, not {value!r}")
        return tuple(float(each) for each in value)

    return check


def _transparency(value: Any) -> str:
    colour = isinstance(value, str) and len(value) == 7 and value[0] == "#"
    if value == "drop" or (colour and all(digit in "0123456789abcdef" for digit in value[1:].lower())):
        return value.lower()
    raise ValueError(f'"drop" or a colour "#rrggbb" to lay the image over, not {value!r}')
