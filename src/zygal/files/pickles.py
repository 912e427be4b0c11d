"""Pickles read as data: the stack machine is followed, nothing is imported and nothing is called.

A pickle is a program of a small stack machine (Python's documentation, "pickletools"). What it builds of plain
containers, numbers and text is built. A name of a class or function stays a `Name`; what the pickle would do with it is
done by a function of ours from a table, or refused by that name. `pickletools` only splits the bytes into operations.
"""

from __future__ import annotations

import io
import pickletools
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, BinaryIO, NoReturn

from zygal.errors import ZygalError, shown

LARGEST_PICKLE = 256_000_000
MOST_STACKED = 1_000_000
MOST_OPERATIONS = 2_000_000
DEEPEST = 100
MOST_VALUES = 20_000_000
"""So many values a document may have, counting what is shared each time that it is reached."""
_KEYS = (str, int, float, bool, bytes, type(None))
_MARK = object()


@dataclass(frozen=True)
class Name:
    """A class or a function that a pickle names: the module, a dot and the name in it."""

    full: str


@dataclass
class Record:
    """An object of a class that is only named. arguments: what it was to be made of; state: what it was given."""

    name: str
    arguments: tuple = ()
    state: Any = None


class Ordered(dict):
    """A dictionary that keeps its order, with the attributes that the pickle gives it."""

    def __init__(self, pairs: Iterable = ()):
        super().__init__(pairs)
        self.attributes: dict = {}


class Misuse(Exception):
    """What a pickle does that is not data, as the end of a sentence."""


@dataclass(frozen=True)
class Dialect:
    """What a pickle may name.

    functions: what stands for a call of a name, given its arguments; it raises Misuse. records: whether objects of a
    class are kept as a Record. persistent: what stands for a persistent id; None where there is none. advice: what to
    do about what is refused.
    """

    functions: Mapping[str, Callable[..., Any]] = field(default_factory=dict)
    records: Callable[[str], bool] = lambda name: False
    persistent: Callable[[Any], Any] | None = None
    advice: str = ""


def read_pickle(data: bytes | BinaryIO, where: str, dialect: Dialect, error: type[ZygalError]) -> Any:
    """The data in a pickle; of a file, from its position to behind the pickle's end. Raises `error`, one sentence with
    the name of what is not data."""
    file = io.BytesIO(data) if isinstance(data, (bytes, bytearray, memoryview)) else data
    machine = _Machine(dialect)
    try:
        result = machine.run(file)
        _check_extent(result)
        return result
    except Misuse as fault:
        what = f"; {dialect.advice}" if dialect.advice else ""
        raise error(
            f"{where} is not read: its pickle {fault}, and a pickle is read as data, never run{what}."
        ) from None
    except (ValueError, IndexError, KeyError, TypeError, OverflowError, AttributeError, MemoryError) as fault:
        what = f"{type(fault).__name__}: {fault}"
        raise error(f"{where} is damaged: its pickle does not hold together ({shown(what)}).") from fault


class _Machine:
    def __init__(self, dialect: Dialect):
        self._dialect = dialect
        self._stack: list[Any] = []
        self._memo: dict[int, Any] = {}

    def run(self, file: BinaryIO) -> Any:
        for count, (opcode, argument, _) in enumerate(pickletools.genops(file)):
            if count > MOST_OPERATIONS or len(self._stack) > MOST_STACKED:
                raise Misuse("has more operations than any model needs")
            if opcode.name == "STOP":
                result = self.pop()
                if self._stack:
                    raise ValueError("it leaves more than one value")
                return result
            step = _STEPS.get(opcode.name)
            if step is None:
                raise Misuse(f"uses the operation {opcode.name}")
            step(self, argument)
        raise ValueError("it has no end")

    def push(self, value: Any) -> None:
        self._stack.append(value)

    def pop(self) -> Any:
        value = self._stack.pop()
        if value is _MARK:
            raise ValueError("a mark where a value is needed")
        return value

    def top(self) -> Any:
        if self._stack[-1] is _MARK:
            raise ValueError("a mark where a value is needed")
        return self._stack[-1]

    def marked(self) -> list[Any]:
        """What lies above the last mark; both are taken off."""
        values = []
        while (value := self._stack.pop()) is not _MARK:
            values.append(value)
        return values[::-1]

    def remember(self, place: int) -> None:
        self._memo[place] = self.top()

    def remembered(self, place: int) -> None:
        self.push(self._memo[place])

    def gather(self, kind: Callable[[list], Any]) -> None:
        self.push(kind(self.marked()))

    def tuple_of(self, count: int) -> None:
        values = [self.pop() for _ in range(count)][::-1]
        self.push(tuple(values))

    def append(self, values: Iterable[Any]) -> None:
        target = self.top()
        if type(target) is not list:
            self._misused(target, "appends to")
        target.extend(values)

    def set_items(self, pairs: list[Any]) -> None:
        target = self.top()
        if type(target) not in (dict, Ordered):
            self._misused(target, "sets items of")
        target.update(_pairs(pairs))

    def name(self, module: Any, name: Any) -> None:
        if not isinstance(module, str) or not isinstance(name, str) or len(module) + len(name) > 400:
            raise ValueError("a name that is no text")
        self.push(Name(f"{module}.{name}"))

    def call(self, arguments: Any, named: Mapping[str, Any] | None = None) -> None:
        """What a call or the making of an object stands for."""
        function = self.pop()
        if isinstance(function, Name) and isinstance(arguments, (str, int, float)) and not named:
            arguments = (arguments,)  # A member of an enumeration, as the framework's own pickler writes it.
        if not isinstance(function, Name) or not isinstance(arguments, tuple):
            raise Misuse(f"calls {_said(function)}")
        known = self._dialect.functions.get(function.full)
        if known is not None and not named:
            self.push(known(*arguments))
        elif known is None and self._dialect.records(function.full) and not named:
            self.push(Record(function.full, arguments))
        else:
            raise Misuse(f"calls {function.full}")

    def build(self, state: Any) -> None:
        target = self.top()
        if isinstance(target, Record) and target.state is None:
            target.state = state
        elif isinstance(target, Ordered) and type(state) is dict:
            target.attributes.update(state)
        else:
            self._misused(target, "gives a state to")

    def persistent(self, identity: Any) -> None:
        if self._dialect.persistent is None:
            raise Misuse("names objects outside of it")
        self.push(self._dialect.persistent(identity))

    def _misused(self, target: Any, what: str) -> NoReturn:
        raise Misuse(f"{what} {_said(target)}")


def _said(value: Any) -> str:
    if isinstance(value, (Name, Record)):
        return value.full if isinstance(value, Name) else value.name
    return f"a {type(value).__name__}"


def _pairs(values: list[Any]) -> dict:
    keys = values[::2]
    if len(values) % 2 or not all(type(key) in _KEYS for key in keys):
        raise Misuse("has keys that are no text and no numbers")
    return dict(zip(keys, values[1::2], strict=True))


def _plain_text(text: Any) -> str | bytes:
    return text if isinstance(text, str) else bytes(text)


_STEPS: dict[str, Callable[[_Machine, Any], None]] = {
    "PROTO": lambda m, version: None,
    "FRAME": lambda m, size: None,
    "MARK": lambda m, _: m.push(_MARK),
    "POP": lambda m, _: m._stack.pop() and None,
    "POP_MARK": lambda m, _: m.marked() and None,
    "DUP": lambda m, _: m.push(m.top()),
    "NONE": lambda m, _: m.push(None),
    "NEWTRUE": lambda m, _: m.push(True),
    "NEWFALSE": lambda m, _: m.push(False),
    **dict.fromkeys(
        ("INT", "BININT", "BININT1", "BININT2", "LONG", "LONG1", "LONG4", "FLOAT", "BINFLOAT"), _Machine.push
    ),
    **dict.fromkeys(
        ("STRING", "BINSTRING", "SHORT_BINSTRING", "UNICODE", "SHORT_BINUNICODE", "BINUNICODE", "BINUNICODE8"),
        lambda m, text: m.push(_plain_text(text)),
    ),
    **dict.fromkeys(
        ("BINBYTES", "SHORT_BINBYTES", "BINBYTES8", "BYTEARRAY8"), lambda m, data: m.push(_plain_text(data))
    ),
    "EMPTY_LIST": lambda m, _: m.push([]),
    "EMPTY_DICT": lambda m, _: m.push({}),
    "EMPTY_TUPLE": lambda m, _: m.push(()),
    "LIST": lambda m, _: m.gather(list),
    "TUPLE": lambda m, _: m.gather(tuple),
    "DICT": lambda m, _: m.gather(_pairs),
    "TUPLE1": lambda m, _: m.tuple_of(1),
    "TUPLE2": lambda m, _: m.tuple_of(2),
    "TUPLE3": lambda m, _: m.tuple_of(3),
    "APPEND": lambda m, _: m.append([m.pop()]),
    "APPENDS": lambda m, _: m.append(m.marked()),
    "SETITEM": lambda m, _: m.set_items([m.pop(), m.pop()][::-1]),
    "SETITEMS": lambda m, _: m.set_items(m.marked()),
    "GET": _Machine.remembered,
    "BINGET": _Machine.remembered,
    "LONG_BINGET": _Machine.remembered,
    "PUT": _Machine.remember,
    "BINPUT": _Machine.remember,
    "LONG_BINPUT": _Machine.remember,
    "MEMOIZE": lambda m, _: m.remember(len(m._memo)),
    "GLOBAL": lambda m, both: m.name(*both.split(" ", 1)),
    "STACK_GLOBAL": lambda m, _: m.name(*[m.pop(), m.pop()][::-1]),
    "REDUCE": lambda m, _: m.call(m.pop()),
    "NEWOBJ": lambda m, _: m.call(m.pop()),
    "NEWOBJ_EX": lambda m, _: _new_with_names(m),
    "BUILD": lambda m, _: m.build(m.pop()),
    "PERSID": _Machine.persistent,
    "BINPERSID": lambda m, _: m.persistent(m.pop()),
}
"""What each operation does. Missing on purpose: the registry of extensions, buffers out of band, and the oldest ways to
make an object (INST, OBJ)."""


def _new_with_names(machine: _Machine) -> None:
    named, arguments = machine.pop(), machine.pop()
    if not isinstance(named, dict):
        raise ValueError("named arguments that are no dictionary")
    machine.call(arguments, named)


def _parts(value: Any) -> list[Any]:
    if isinstance(value, dict):
        return [*value.values(), *(value.attributes.values() if isinstance(value, Ordered) else ())]
    if isinstance(value, Record):
        return [value.arguments, value.state]
    return list(value) if isinstance(value, (list, tuple)) else []


def _check_extent(result: Any) -> None:
    """Raises Misuse for what contains itself, is nested too deeply or spells out to more values than any model has: who
    reads it may then walk it without a guard."""
    counts: dict[int, tuple[int, int]] = {}
    open_values: list[tuple[Any, bool]] = [(result, False)]
    inside: set[int] = set()
    while open_values:
        value, seen = open_values.pop()
        parts = _parts(value)
        if seen:
            inside.discard(id(value))
            known = [counts[id(part)] for part in parts if _parts(part)]
            count = len(parts) + sum(each for each, _ in known)
            depth = 1 + max((each for _, each in known), default=0)
            if depth > DEEPEST or count > MOST_VALUES:
                raise Misuse("is nested beyond reason")
            counts[id(value)] = count, depth
        elif id(value) not in counts and parts:
            if id(value) in inside:
                raise Misuse("has a list that contains itself")
            inside.add(id(value))
            open_values.append((value, True))
            open_values.extend((part, False) for part in parts)
