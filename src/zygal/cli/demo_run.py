"""Runs the demo's commands as a user would, showing each command line before its output."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys

from zygal.cli.config import ENVIRONMENT, NO_CONFIG
from zygal.cli.tables import show_sentence
from zygal.cli.terminal import console
from zygal.commands.demo import DemoOutcome, DemoRequest, run_demo
from zygal.demo.workspace import STEPS
from zygal.listener import Listener
from zygal.outcome import INTERRUPTED


def execute(request: DemoRequest, listener: Listener) -> DemoOutcome:
    """Runs all steps in the demo's folder. Raises ZygalError, and KeyboardInterrupt if a step was interrupted."""
    from rich.text import Text

    # Where stdout is kept for the JSON document, the steps go to stderr.
    stream = sys.stdout if getattr(listener, "reports", True) else sys.stderr
    out = console(stream)
    # The example shows what the program does by itself, not with the user's defaults.
    environment = os.environ | {ENVIRONMENT: NO_CONFIG}

    def run_step(number: int, step) -> int:
        if number == 1:
            show_sentence(
                out,
                f"The files of the demo are in {request.folder}. Each of the {len(STEPS)} commands below is run there "
                "as it is shown; all of them take about a minute, on a busy machine a few.",
            )
        out.print()
        out.print(Text(f"{number}. {step.says}", style="italic"))
        out.print(Text(f"$ {shlex.join(('zygal', *step.arguments))}", style="bold"), soft_wrap=True)
        stream.flush()
        command = [sys.executable, "-m", "zygal", *step.arguments]
        code = subprocess.run(command, cwd=request.folder, env=environment, stdout=stream).returncode
        if code == INTERRUPTED:
            raise KeyboardInterrupt
        if step.expected:
            out.print(f"(exit code {code}, {'as expected' if code == step.expected else f'expected {step.expected}'})")
        return code

    return run_demo(request, run_step)
