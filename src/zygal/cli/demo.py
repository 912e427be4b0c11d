"""zygal demo: the whole example, by the real commands."""

from __future__ import annotations

import shlex
import subprocess
import sys
from pathlib import Path

from zygal.cli.options import new_command
from zygal.cli.output import check_json, console, write_json


def register(commands) -> None:
    command = new_command(
        commands,
        "demo",
        "Writes the demo's files into a folder and runs the whole example there, showing each command line.",
        "zygal demo zygal-demo",
    )
    command.add_argument(
        "folder", metavar="DIR", nargs="?", default="zygal-demo", help="the folder to use (zygal-demo)"
    )
    command.set_defaults(run=run)


def run(options) -> int:
    from rich.text import Text

    from zygal.demo.workspace import STEPS, write_workspace

    check_json(options.json)
    write_workspace(options.folder)
    out = console()
    out.print(f"The demo's files are in {options.folder}; each command below is run there as it stands.")
    results = []
    for number, step in enumerate(STEPS, 1):
        out.print()
        out.print(Text(f"{number}. {step.says}", style="italic"))
        out.print(Text(f"$ {shlex.join(('zygal', *step.arguments))}", style="bold"), soft_wrap=True)
        sys.stdout.flush()
        code = subprocess.run([sys.executable, "-m", "zygal", *step.arguments], cwd=options.folder).returncode
        if code == 130:
            raise KeyboardInterrupt
        if step.expected:
            out.print(
                f"(exit code {code}: {'caught, as it must be' if code == step.expected else 'it was not caught'})"
            )
        results.append({"command": ["zygal", *step.arguments], "exit_code": code, "expected_exit_code": step.expected})
    wrong = [result for result in results if result["exit_code"] != result["expected_exit_code"]]
    out.print()
    if wrong:
        out.print(Text(f"{len(wrong)} of {len(results)} commands did not end as expected.", style="bold red"))
    else:
        out.print(f"All {len(results)} commands ended as they must. To go on with your own model:")
        out.print(
            f"  survey it, write its inlet after {Path(options.folder) / 'channel_marks.inlet.toml'}, convert it,"
        )
        out.print("  record a witness where PyTorch or Keras is installed, and match;")
        out.print("  or record first and have the inlet recovered from the witness.")
    write_json(options.json, {"folder": options.folder, "steps": results, "as_expected": not wrong})
    return 1 if wrong else 0
