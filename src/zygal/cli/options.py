"""Options that several commands share."""

from __future__ import annotations

import argparse
import math
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


def word_list(text: str) -> list[str]:
    """Words separated by commas, for argparse."""
    return [part.strip() for part in text.split(",") if part.strip()]


def part_of_one(text: str) -> float:
    """A percentage like 2%, or a part like 0.02, as a part of one, for argparse."""
    try:
        number = float(text[:-1]) / 100 if text.endswith("%") else float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf:
        raise argparse.ArgumentTypeError(f"{text!r} is not a percentage like 5%")
    return number


def duration(text: str) -> float:
    """A time like 50ms, 1.5s or 200us in seconds, for argparse."""
    for unit, seconds in (("ms", 1e-3), ("us", 1e-6), ("s", 1.0)):
        if text.endswith(unit):
            try:
                number = float(text.removesuffix(unit)) * seconds
            except ValueError:
                break
            if 0 <= number < math.inf:
                return number
            break
    raise argparse.ArgumentTypeError(f"{text!r} is not a time with its unit, like 50ms or 1.5s")


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
