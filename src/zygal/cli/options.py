"""Options that several commands share."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


def new_command(commands, name: str, summary: str, example: str) -> argparse.ArgumentParser:
    """A subcommand with its help text and an example on the demo's files."""
    command = commands.add_parser(
        name,
        help=summary[0].lower() + summary[1:].rstrip("."),
        description=summary,
        epilog=f"example, in the folder that zygal demo writes:\n  {example}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    command.add_argument("--json", metavar="FILE", help="write the full result there, with units in the key names")
    return command


def number_list(text: str) -> list[int]:
    """Whole numbers separated by commas, for argparse."""
    try:
        return [int(part) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a list of whole numbers like 1,2,4") from None


def add_source(command: argparse.ArgumentParser, optional: bool = False) -> None:
    """The trained model: a file, or a function that builds it."""
    command.add_argument(
        "source",
        metavar="SOURCE",
        nargs="?" if optional else None,
        help="the trained model: a captured PyTorch program (.pt2), a Keras model (.keras, .h5), or FILE.py:FUNCTION that builds the module (it is run)",
    )
    command.add_argument("--weights", metavar="FILE", help="weights for FILE.py:FUNCTION: .pt, .pth or .safetensors")
    command.add_argument(
        "--shape",
        metavar="C,H,W",
        type=number_list,
        help="shape of one image's tensor, for FILE.py:FUNCTION and for models that leave it open (that of the inlet, or 3,224,224)",
    )


@contextmanager
def opened_source(options: argparse.Namespace, inlet) -> Iterator[str | Path]:
    """The path of the source; one that is built by a function is captured first and removed afterwards."""
    from zygal.errors import SourceError
    from zygal.sources.pytorch.live import captured, is_live

    if not is_live(options.source):
        if options.weights:
            raise SourceError("--weights goes with FILE.py:FUNCTION; a trained model's file holds its weights already.")
        yield options.source
        return
    shape = options.shape or (inlet.tensor_shape() if inlet else None) or (3, 224, 224)
    with captured(options.source, options.weights, tuple(shape)) as path:
        yield path
