"""What a command is asked: every option is declared once, as a field of a frozen request.

From the declaration come the parser and its help, the completion of shells, what `zygal.toml` may set, which fields
name files that are read or written, and what an option needs to have an effect.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import MISSING, dataclass, field, fields
from typing import Any

from zygal.errors import ZygalError

SCORES_DEFAULT = "default: the one that looks like class scores; zygal survey lists them"
"""Where an output is to be chosen."""


def option_name(field: str) -> str:
    """The option of a request's field."""
    return f"--{field.replace('_', '-')}"


@dataclass(frozen=True)
class Option:
    """How a field of a request is given on a command line.

    help: what it does; {default} stands for its default. name: the long name without dashes, that of the field unless
    given. short: a letter. metavar: what stands for its value. kind: how the value is written: None for text, else one
    of the names in `cli.options.KINDS`. choices: all values. group: the heading in the help. positional: it is given by
    its place; nargs: "?" where it may be left out, "*" for any number. reads, writes: its value is a path.
    configurable: `zygal.toml`, which may lie in a folder that somebody else made, can set it. needs: the field without
    which it has no effect.
    """

    help: str
    name: str | None = None
    short: str | None = None
    metavar: str | None = None
    kind: str | None = None
    choices: tuple[str, ...] | None = None
    group: str | None = None
    positional: bool = False
    nargs: str | None = None
    reads: bool = False
    writes: bool = False
    configurable: bool = True
    needs: str | None = None


def option(help: str, default: Any = MISSING, **more: Any) -> Any:
    """A field of a request that is an option; one without a default must be given. more: of `Option`."""
    return field(default=default, metadata={"option": Option(help, **more)})


@dataclass(frozen=True, kw_only=True)
class Request:
    """overwrite: existing output files of other kinds are replaced. configured: the fields whose values are defaults of
    a file of the user's, which need not apply to each request."""

    overwrite: bool = False
    configured: frozenset[str] = frozenset()

    def given(self, name: str) -> bool:
        """Whether a field was set for this very request."""
        return name not in self.configured and getattr(self, name) != default_of(type(self), name)


def options_of(request_class: type) -> dict[str, Option]:
    """The options of a request by their fields: positional ones first, then its own, then those that it shares."""
    own = set(request_class.__dict__.get("__annotations__", {}))
    found = {each.name: each.metadata["option"] for each in fields(request_class) if "option" in each.metadata}
    places = {name: place for place, name in enumerate(found)}
    return dict(
        sorted(
            found.items(),
            key=lambda item: (not item[1].positional, item[0] not in own and not item[1].positional, places[item[0]]),
        )
    )


def default_of(request_class: type, name: str) -> Any:
    """The default of a field; None if it must be given."""
    declared = request_class.__dataclass_fields__[name]
    return None if declared.default is MISSING else declared.default


def named(request_class: type, name: str) -> str:
    """The option of a request's field, as it is written on a command line."""
    declared = options_of(request_class).get(name)
    return option_name(declared.name if declared and declared.name else name)


def refuse_without(request: Request, error: type[ZygalError], among: Sequence[str] | None = None) -> None:
    """Raises `error` for the first field that was given without the one that gives it an effect."""
    for name, declared in options_of(type(request)).items():
        needed = declared.needs
        if (
            needed
            and (among is None or name in among)
            and request.given(name)
            and getattr(request, needed) in (None, (), False)
        ):
            raise error(f"{named(type(request), name)} needs {named(type(request), needed)}, which is not given.")


def refuse_unused(request: Request, names: str | Sequence[str], why: str, error: type[ZygalError]) -> None:
    """Raises `error` for the first field that was given and has no effect. why: in words, after a comma."""
    for name in (names,) if isinstance(names, str) else names:
        if request.given(name):
            raise error(f"{named(type(request), name)} has no effect here, because {why}; leave it out.")


def refuse_given(request: Request, names: Sequence[str], to: str, error: type[ZygalError]) -> None:
    """Raises `error` if one of the fields was given although it does not apply to what was asked for: `to`, in
    words."""
    for name in names:
        value = getattr(request, name)
        if value is not None and value is not False and value != ():
            raise error(f"{named(type(request), name)} does not apply to {to}; leave it out.")


def paths_read(request: Request) -> list[str]:
    """What a request names that may be the path of an input: every text but the outputs."""
    declared = options_of(type(request))
    found: list[str] = []
    for each in fields(request):
        value = getattr(request, each.name)
        if each.name in declared and not declared[each.name].writes:
            found += [one for one in (value if isinstance(value, tuple) else (value,)) if isinstance(one, str) and one]
    return found
