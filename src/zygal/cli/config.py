"""Defaults of options from `zygal.toml`, found in the current folder or the nearest one above it.

A section for each command, options by their long names:

    [bench]
    threads = [1, 2]
    [inlet.recover]
    accept = 0.3

Such a file may lie in a folder that somebody else made, so it can set numbers and choices only: options that write
files, run code, send images elsewhere or replace files are refused.
"""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any

from zygal.errors import FileError
from zygal.files.opening import read_text

FILE = "zygal.toml"
ENVIRONMENT = "ZYGAL_CONFIG"
"""The environment variable that names another file, or NO_CONFIG for none."""
NO_CONFIG = "none"
REFUSED = ("json", "overwrite", "traceback", "help")
"""Of the options that every command has; the others state it themselves."""


def find_config(folder: str | Path | None = None) -> Path | None:
    """The file that applies in a folder, if there is one. Raises FileError if the environment names one that is not
    there."""
    named = os.environ.get(ENVIRONMENT)
    if named == NO_CONFIG:
        return None
    if named:
        if not os.path.isfile(named):
            raise FileError(f"{named}, which {ENVIRONMENT} names, is not a file; correct the path, or set it to none.")
        return Path(named)
    try:
        start = Path(folder or os.getcwd()).absolute()
    except OSError:  # The current folder was removed.
        return None
    return next((each / FILE for each in (start, *start.parents) if (each / FILE).is_file()), None)


def apply_config(path: Path, command: tuple[str, ...], parser: argparse.ArgumentParser) -> dict[str, tuple[str, Any]]:
    """Makes the file's values for a command the parser's defaults, and returns them by option name, each with its
    field.

    command: its words, such as ("inlet", "recover"). Raises FileError for unknown sections, unknown options and wrong
    values.
    """
    content = _read(path)
    section: Any = content
    for word in command:
        section = section.get(word, {})
        if not isinstance(section, dict):
            raise FileError(f"{path}: [{'.'.join(command)}] must be a section of options.")
    actions = {option.removeprefix("--"): action for action in parser._actions for option in action.option_strings}
    for name, value in section.items():
        if name in REFUSED or name in actions and _is_refused(actions[name]):
            raise FileError(f"{path}: {name} cannot be set in this file; give --{name} on the command line.")
        if name not in actions:
            raise FileError(
                f"{path}: [{'.'.join(command)}] has the unknown option {name}; see zygal {' '.join(command)} --help."
            )
        action = actions[name]
        setting = _value(path, name, value, action)
        parser.set_defaults(**{action.dest: setting})
        action.required = False
    return {name: (actions[name].dest, value) for name, value in section.items()}


def _is_refused(action: argparse.Action) -> bool:
    option = getattr(action, "option", None)
    return option is not None and (option.writes or not option.configurable)


def _read(path: Path) -> dict[str, Any]:
    from zygal.cli.names import COMMANDS
    from zygal.files.documents import parse_toml

    content = parse_toml(read_text(path, "a file of defaults"), str(path), FileError)
    for name, section in content.items():
        if name not in COMMANDS or not isinstance(section, dict):
            raise FileError(
                f"{path} has the unknown entry {name}; it holds one section per command: {', '.join(COMMANDS)}."
            )
    return content


def _value(path: Path, name: str, value: Any, action: argparse.Action) -> Any:
    """A TOML value as the parser would have made it of the command line."""
    if action.nargs == 0:
        if not isinstance(value, bool):
            raise FileError(f"{path}: {name} must be true or false.")
        return value
    if isinstance(action, argparse._AppendAction):
        values = value if isinstance(value, list) else [value]
        return [_one(path, name, each, action) for each in values]
    text = ",".join(map(str, value)) if isinstance(value, list) else value
    return _one(path, name, text, action)


def _one(path: Path, name: str, value: Any, action: argparse.Action) -> Any:
    if isinstance(value, (bool, dict, list)):
        raise FileError(f"{path}: {name} must be a number or a text.")
    text = str(value)
    if "://" in text:
        raise FileError(f"{path}: {name} cannot be a URL in this file; give --{name} on the command line.")
    if getattr(action, "option", None) is not None and action.option.reads and text != "-":
        text = str(path.parent / text)
    try:
        made = action.type(text) if action.type else text
    except (argparse.ArgumentTypeError, ValueError) as error:
        raise FileError(f"{path}: {name}: {error}.") from None
    if action.choices is not None and made not in action.choices:
        raise FileError(f"{path}: {name} must be one of {', '.join(map(str, action.choices))}.")
    return made
