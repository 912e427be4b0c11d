"""What every command of the program does alike: common options, request, execution, JSON, notes, report, exit code."""

from __future__ import annotations

import argparse
import sys
from dataclasses import dataclass, fields, replace
from importlib import import_module
from typing import TYPE_CHECKING, Any

from zygal.cli.ending import complain, finish_output
from zygal.request import paths_read

if TYPE_CHECKING:
    from zygal.outcome import Outcome

SHOWN_UNREADABLE = 10


@dataclass(frozen=True)
class Command:
    """One command. core: the module that executes it. report: the module that shows the outcome."""

    request_class: type
    core: str
    report: str

    def run(self, options: argparse.Namespace) -> int:
        """Executes the command and returns its exit code. Raises ZygalError."""
        # Not at the top: help needs none of it.
        from zygal.cli.terminal import STDOUT, listening, write_json
        from zygal.files.outputs import JSON, Output, check_outputs

        request = request_from(self.request_class, options)
        outputs = list(request.outputs()) if hasattr(request, "outputs") else []
        if options.json and options.json != STDOUT:
            outputs.append(Output(options.json, JSON))
        check_outputs(outputs, options.overwrite, paths_read(request))
        with listening(options.quiet, options.verbose, options.color) as listener:
            listener.reports = not options.quiet and options.json != STDOUT
            listener.detail(f"request: {request}")
            outcome = import_module(self.core).execute(request, listener)
        configured = getattr(options, "configured", None)
        if configured:
            said = ", ".join(f"{name} = {value}" for name, (_, value) in configured.items())
            outcome = replace(outcome, notes=(*outcome.notes, f"set by {options.config}: {said}"))
        # Files first: a reader of stdout that goes away changes nothing about them, or about the exit code.
        if options.json and options.json != STDOUT:
            write_json(options.json, outcome.document())
        try:
            self._print(options, outcome)
        except BrokenPipeError:
            finish_output(to_nowhere=True)
        if outcome.refusal is not None:
            complain(str(outcome.refusal), outcome.exit_code)
        return outcome.exit_code

    def _print(self, options: argparse.Namespace, outcome: Outcome) -> None:
        from zygal.cli.terminal import STDOUT, console, note, write_json

        if not options.quiet:
            for sentence in outcome.notes:
                note(sentence)
            for name, reason in outcome.unreadable[:SHOWN_UNREADABLE]:
                note(f"{name}: {reason}", "not readable")
            if len(outcome.unreadable) > SHOWN_UNREADABLE:
                note(f"{len(outcome.unreadable) - SHOWN_UNREADABLE} more files", "not readable")
        if options.json == STDOUT:
            write_json(STDOUT, outcome.document())
        elif not options.quiet:
            out = console(color=options.color)
            import_module(self.report).show(out, outcome)
            if outcome.next_step:
                from zygal.cli.tables import show_command

                show_command(out, "Next:", outcome.next_step)
        sys.stdout.flush()


def request_from(request_class: type, options: argparse.Namespace) -> Any:
    """A request whose fields are the options of the same names; lists become tuples."""
    values = {}
    for field in fields(request_class):
        if field.name == "configured":
            values[field.name] = frozenset(dest for dest, _ in options.configured.values())
        elif field.name == "exclude":
            # The JSON document may be written into a folder of images.
            values[field.name] = (options.json,) if options.json else ()
        elif hasattr(options, field.name):
            value = getattr(options, field.name)
            values[field.name] = tuple(value) if isinstance(value, list) else value
    return request_class(**values)
