"""A command's parser, made of the options that its request declares."""

from __future__ import annotations

import argparse
from typing import Any, get_type_hints

from zygal.cli.common import add_common
from zygal.cli.options import KINDS
from zygal.request import Option, default_of, options_of


def new_parser(commands, name: str, summary: str, example: str) -> argparse.ArgumentParser:
    """A subcommand's parser with its help text and an example on the demo's files."""
    return commands.add_parser(
        name,
        help=summary[0].lower() + summary[1:].rstrip("."),
        description=summary,
        epilog=f"example, in the folder that zygal demo writes:\n  {example}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
        add_help=True,
    )


def add_options(parser: argparse.ArgumentParser, request_class: type) -> None:
    """Adds all options of a request, and the common ones last."""
    groups: dict[str | None, Any] = {None: parser}
    types = get_type_hints(request_class)
    for name, option in options_of(request_class).items():
        if option.group not in groups:
            groups[option.group] = parser.add_argument_group(option.group)
        names, how = _argument(name, option, default_of(request_class, name), types[name])
        action = groups[option.group].add_argument(*names, **how)
        action.option = option
    add_common(parser)


def _argument(name: str, option: Option, default: Any, annotation: Any) -> tuple[list[str], dict[str, Any]]:
    """What argparse is told of one option."""
    kind = KINDS[option.kind]
    many = _is_list_of_values(annotation, option)
    help = option.help.replace("{default}", kind.shown(default)) if default is not None else option.help
    how: dict[str, Any] = {"help": help, "default": [] if many else default}
    if annotation is bool:
        how["action"] = "store_true"
    else:
        how |= {"metavar": option.metavar, "type": kind.parse, "choices": option.choices}
        if many and not option.positional:
            how["action"] = "append"
    if option.positional:
        return [name], how | ({"nargs": option.nargs} if option.nargs else {})
    names = [f"-{option.short}"] if option.short else []
    long = option.name or name.replace("_", "-")
    required = annotation is not bool and _must_be_given(default, annotation)
    return [*names, f"--{long}"], how | {"dest": name} | ({"required": True} if required else {})


def _must_be_given(default: Any, annotation: Any) -> bool:
    return default is None and type(None) not in getattr(annotation, "__args__", ())


def _is_list_of_values(annotation: Any, option: Option) -> bool:
    """Whether the option may be repeated: a tuple whose values are not written in one text."""
    return getattr(annotation, "__origin__", None) is tuple and (option.kind is None or not KINDS[option.kind].several)
