"""The program `zygal`: one verb each, one module a verb, loaded only when it is called."""

from __future__ import annotations

import argparse
import os
import re
import sys
from importlib import import_module
from typing import ClassVar, NoReturn

from zygal.cli.ending import Terminated, catch_signals, complain, finish_output, open_standard_streams
from zygal.cli.names import COMMANDS, INLET, ROWS
from zygal.errors import LONGEST_SENTENCE, ZygalError, one_line
from zygal.outcome import INTERNAL, INTERRUPTED, INVALID, PASS, TERMINATED, Verdict

TRACEBACK = "ZYGAL_TRACEBACK"
"""The environment variable that works like --traceback."""
EPILOG = """\
words:
  source    the trained model: a .pt2, .keras or .h5 file, or FILE.py:FUNCTION
  inlet     the preprocessing from an image file to the input tensor, written down as TOML
  artifact  the converted model: one file (.onnx or .tflite) with inlet, labels and origin inside
  witness   a recording of the training framework: images, input tensors, scores
  gate      one measurable condition with its limit: it passes, fails or is undecided
  survey    a description of a file; tally: metrics on labelled images

exit codes: 0 pass, 1 a gate failed, 2 invalid input or usage, 3 some inputs could not be read (the result is
valid for the others), 4 undecided (no gate failed, at least one is not known), 70 internal error, 130 and 143
interrupted.
zygal help COMMAND explains a command; zygal demo shows all of them on an example.
"""


class _Parser(argparse.ArgumentParser):
    """A parser whose complaint is one sentence. given: the whole command line."""

    given: ClassVar[list[str]] = []

    def error(self, message: str) -> NoReturn:
        wrong = re.match(r"argument COMMAND: invalid choice: '(.*?)'", message)
        if wrong:
            from difflib import get_close_matches

            close = get_close_matches(wrong[1], COMMANDS, 1)
            message = f"there is no command {wrong[1]}" + (f"; did you mean {close[0]}?" if close else "")
        elif message.startswith(("unrecognized arguments", "the following arguments are required")):
            # A required option that is misspelt is both.
            misspelt = self._misspelt()
            if misspelt:
                raise ZygalError(f"{one_line(misspelt, LONGEST_SENTENCE - 80)}; see {self._chain()[-1].prog} --help.")
        raise ZygalError(f"{one_line(message, LONGEST_SENTENCE - 80)}; see {self.prog} --help.")

    def _misspelt(self) -> str | None:
        """The first option of the command line that its command does not have, with the one that it is much like."""
        from difflib import get_close_matches

        known = {option for parser in self._chain() for action in parser._actions for option in action.option_strings}
        for word in self.given:
            name = word.partition("=")[0]
            if name.startswith("--") and len(name) > 2 and name not in known:
                close = get_close_matches(name, sorted(known), 1, 0.7)
                return f"there is no option {name}" + (f"; did you mean {close[0]}?" if close else "")
        return None

    def _chain(self) -> list[argparse.ArgumentParser]:
        """This parser and those of the commands that are named on the command line."""
        chain: list[argparse.ArgumentParser] = [self]
        for word in self.given:
            inner = [action.choices for action in chain[-1]._actions if isinstance(action, argparse._SubParsersAction)]
            chain += [choices[word] for choices in inner if word in choices]
        return chain

    def _print_message(self, message: str, file=None) -> None:
        # Unlike argparse's own: that help could not be written is not passed over.
        if message:
            (file or sys.stderr).write(message)


def main(arguments: list[str] | None = None) -> int:
    """Runs one command and returns its exit code."""
    arguments = list(sys.argv[1:] if arguments is None else arguments)
    _Parser.given = arguments
    shows_traceback = "--traceback" in arguments or bool(os.environ.get(TRACEBACK))
    open_standard_streams()
    code = PASS

    def ended(sentence: str, code: int, verdict: Verdict = Verdict.REFUSED) -> int:
        from zygal.cli.ended import write_ended

        write_ended(command_words(arguments), arguments, verdict, code, sentence)
        return complain(sentence, code)

    def interrupted(terminated: bool) -> int:
        by = " by SIGTERM" if terminated else ""
        return ended(
            f"interrupted{by}; no output file is half-written.",
            TERMINATED if terminated else INTERRUPTED,
            Verdict.INTERRUPTED,
        )

    with catch_signals() as signals:
        try:
            try:
                code = _run(arguments)
            except SystemExit as end:  # Help or the version.
                code = end.code
            finish_output()
            return code
        except ZygalError as error:
            return ended(str(error), INVALID)
        except KeyboardInterrupt as end:
            return interrupted(isinstance(end, Terminated))
        except BrokenPipeError:
            # The reader of our output went away, as `head` does; what is still buffered goes nowhere.
            finish_output(to_nowhere=True)
            return code
        except MemoryError:
            return ended("there is not enough memory for this; use smaller batches or fewer images.", INVALID)
        except OSError as error:
            if error.filename is not None:
                return ended(internal_sentence(error, shows_traceback), INTERNAL)
            finish_output(to_nowhere=True)
            return complain(f"the output cannot be written ({(error.strerror or str(error)).lower()}).", INVALID)
        except Exception as error:  # Whatever it is, the user gets a sentence.
            if signals.interrupted or signals.terminated:
                return interrupted(signals.terminated)
            return ended(internal_sentence(error, shows_traceback), INTERNAL)


def _run(arguments: list[str]) -> int:
    if not arguments:
        build_parser(None).print_help(sys.stdout)
        return PASS
    if arguments[0] == "help":
        arguments = [*arguments[1:], "--help"]
    words = command_words(arguments)
    parser = build_parser(words[0] if words else None)
    used, config = _configure(parser, words, arguments)
    options, others = parser.parse_known_args(arguments)
    if others:
        # Paths may come behind options as well as before them, which argparse does not see in a subcommand.
        listed = next((name for name in ("paths", "artifacts") if hasattr(options, name)), None)
        if listed is None or any(each.startswith("-") for each in others):
            parser.error(f"unrecognized arguments: {' '.join(others)}")
        getattr(options, listed).extend(others)
    from zygal.cli.common import fill_common

    fill_common(options)
    own = {word.partition("=")[0].removeprefix("--") for word in arguments if word.startswith("--")}
    options.configured = {name: value for name, value in used.items() if name not in own}
    options.config = config
    if options.verbose and config is not None:
        shown = ", ".join(f"{name} = {value}" for name, (_, value) in used.items()) or "nothing for this command"
        print(f"zygal: defaults from {config}: {one_line(shown)}", file=sys.stderr)
    from zygal.machine.libraries import silence_libraries

    silence_libraries(options.verbose)
    return options.command.run(options)


def command_words(arguments: list[str]) -> tuple[str, ...]:
    """The words of the command in a command line, such as ("inlet", "recover"); empty if there is none."""
    plain = [
        each
        for index, each in enumerate(arguments)
        if not each.startswith("-") and (index == 0 or arguments[index - 1] not in ("--color", "--json"))
    ]
    if not plain or plain[0] not in COMMANDS:
        return ()
    return tuple(plain[:2]) if plain[0] == "inlet" else (plain[0],)


def build_parser(command: str | None) -> argparse.ArgumentParser:
    """The parser with the options of one command; of the others only the names, which takes no time. "all" has all."""
    from zygal.cli.common import add_common

    parser = _Parser(
        prog="zygal",
        description="Convert a trained image classifier to a portable artifact (ONNX), prove on reference images that\n"
        "preprocessing and predictions match the training framework, and benchmark batch inference on the CPU.",
        epilog=EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    parser.add_argument("--version", action=_Version, nargs=0, help="print the versions of Zygal and its libraries")
    commands = parser.add_subparsers(metavar="COMMAND", required=True, parser_class=_Parser, title="commands")
    for name, summary in COMMANDS.items():
        if command in (name, "all"):
            _register(commands, name)
        else:
            commands.add_parser(name, help=summary[0].lower() + summary[1:].rstrip("."))
    add_common(parser)
    return parser


def _configure(parser, words: tuple[str, ...], arguments: list[str]):
    """The defaults of zygal.toml that apply, and its path."""
    if not words or "--help" in arguments or "-h" in arguments:
        return {}, None
    from zygal.cli.config import apply_config, find_config

    config = find_config()
    chosen = _subparser(parser, words)
    if config is None or chosen is None:
        return {}, None
    return apply_config(config, words, chosen), config


def _register(commands, name: str) -> None:
    """Adds a command with its options, or one that has commands of its own with those."""
    if name == "completion":
        from zygal.cli.completion import register

        return register(commands, build_parser)
    if name == "inlet":
        summary = INLET[0].lower() + INLET[1:].rstrip(".")
        group = commands.add_parser(name, help=summary, description=INLET, allow_abbrev=False)
        actions = group.add_subparsers(metavar="ACTION", required=True, parser_class=type(group))
        for words in ROWS:
            if words.startswith("inlet "):
                _add_command(actions, words)
        return None
    return _add_command(commands, name)


def _add_command(commands, words: str) -> None:
    from zygal.cli.command import Command
    from zygal.cli.parser import add_options, new_parser

    row = ROWS[words]
    module, _, name = row.request.partition(":")
    request_class = getattr(import_module(module), name)
    parser = new_parser(commands, words.split()[-1], row.summary, row.example)
    add_options(parser, request_class)
    parser.set_defaults(command=Command(request_class, row.core, row.report))


def _subparser(parser: argparse.ArgumentParser, words: tuple[str, ...]) -> argparse.ArgumentParser | None:
    for word in words:
        choices = next((each.choices for each in parser._actions if isinstance(each, argparse._SubParsersAction)), {})
        if word not in choices:
            return None
        parser = choices[word]
    return parser


class _Version(argparse.Action):
    def __call__(self, parser, namespace, values, option_string=None) -> NoReturn:
        from zygal.cli.versions import versions

        sys.stdout.write("\n".join(versions()) + "\n")
        parser.exit()


def internal_sentence(error: Exception, shows_traceback: bool) -> str:
    """What the user is told of an error that should not be."""
    if shows_traceback:
        import traceback

        traceback.print_exc()
    return (
        f"internal error: {type(error).__name__}: {one_line(str(error), 200)}; please report it with the command and "
        "the file that you gave (--traceback shows where it happened)."
    )
