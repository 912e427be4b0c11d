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


def part(text: str) -> float:
    """A percentage like 2% or 300%, or a part like 0.02, as a number, for argparse. A number above 1 needs its sign."""
    percentage = text.endswith("%")
    try:
        number = float(text[:-1]) / 100 if percentage else float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf or number > 1 and not percentage:
        meant = f"; {text}% is meant, perhaps" if 1 < number <= 100 else ""
        raise argparse.ArgumentTypeError(f"{text!r} is not a percentage like 5%, or a part from 0 to 1 like 0.05{meant}")
    return number


def part_of_one(text: str) -> float:
    """A percentage from 0% to 100%, or a part from 0 to 1, for argparse."""
    number = part(text)
    if number > 1:
        raise argparse.ArgumentTypeError(f"{text!r} is more than 100%")
    return number


def limit(text: str) -> float:
    """A limit of a gate: a number that is not negative, for argparse."""
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number from 0 on")
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


def add_classifier_options(command: argparse.ArgumentParser) -> None:
    """What says how an artifact is fed and read, and what is put beside it."""
    command.add_argument("--inlet", metavar="FILE", help="instead of the inlet inside the artifact")
    command.add_argument(
        "--labels", metavar="FILE", help="instead of the labels inside: text, JSON, CSV, training folder"
    )
    command.add_argument("--multi-label", action="store_true",
                         help="the classes do not exclude each other, though no sigmoid says so")  # fmt: skip
    command.add_argument("--beside", metavar="OTHER",
                         help="another artifact, or the trained model in its live framework, on the same images")  # fmt: skip
    command.add_argument("--beside-scores", metavar="NAME", help="which of several outputs of a live OTHER to take (the first)")
    command.add_argument("--beside-inlet", metavar="FILE", help="the inlet of OTHER, if it has another one")
    command.add_argument("--weights", metavar="FILE", help="with --beside FILE.py:FUNCTION: the weights")
    command.add_argument("--threads", metavar="COUNT", type=int, help="cores to use (all)")


def opened_classifiers(options: argparse.Namespace):
    """The artifact and what is put beside it, if anything. Raises ZygalError."""
    from zygal.prediction.classifier import open_artifact, open_beside
    from zygal.errors import EngineError, SourceError
    from zygal.files import sha256_of, split_place
    from zygal.inlet import read_inlet
    from zygal.labels import read_labels
    from zygal.sources.pytorch.live import captured, is_live

    if options.threads is not None and options.threads < 1:
        raise EngineError(f"--threads {options.threads} leaves no core to work; give 1 or more.")
    live = options.beside is not None and is_live(options.beside)
    if options.weights and not live:
        raise SourceError(
            "--weights goes with --beside FILE.py:FUNCTION; a trained model's file holds its weights already."
        )
    labels = read_labels(options.labels) if options.labels else None
    inlet = read_inlet(options.inlet) if options.inlet else None
    first = open_artifact(options.artifact, inlet, labels, options.multi_label)
    if options.beside is None:
        return first, None
    inlet = read_inlet(options.beside_inlet) if options.beside_inlet else None
    if not live:
        return first, open_beside(options.beside, first, inlet, options.multi_label, options.beside_scores)
    shape = (inlet or first.inlet).tensor_shape() or (3, 224, 224)
    with captured(options.beside, options.weights, tuple(shape)) as path:
        other = open_beside(path, first, inlet, options.multi_label, options.beside_scores)
    # It is known by what it was built from, since no two captures are the same file.
    files = [split_place(options.beside, SourceError)[0], *filter(None, [options.weights])]
    other.path, other.sha256 = Path(options.beside), "+".join(map(sha256_of, files))
    return first, other


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
