"""zygal completion: a script that completes commands and options in a shell."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable

SHELLS = ("bash", "zsh", "tcsh")


class _Completion:
    @staticmethod
    def run(options: argparse.Namespace) -> int:
        """Prints the script and returns the exit code."""
        import shtab

        sys.stdout.write(shtab.complete(options.build_parser("all"), shell=options.shell))
        return 0


def register(commands, build_parser: Callable[[str], argparse.ArgumentParser]) -> None:
    """Adds the command. build_parser: gives the whole parser, with the options of all commands."""
    parser = commands.add_parser(
        "completion",
        help="print a script that completes commands and options in a shell",
        description="Prints a script that completes commands and options in a shell.",
        epilog='bash, in ~/.bashrc:\n  eval "$(zygal completion bash)"\nzsh, in ~/.zshrc, behind compinit:\n'
        '  eval "$(zygal completion zsh)"',
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    parser.add_argument("shell", choices=SHELLS, help="the shell")
    parser.set_defaults(command=_Completion, build_parser=build_parser)
