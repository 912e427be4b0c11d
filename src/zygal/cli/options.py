"""Option values, and options that several commands share."""

from __future__ import annotations

import argparse
import math
from collections.abc import Sequence

from zygal.cli.command import default_of
from zygal.cli.common import add_common
from zygal.cluster.opened import ClassifierRequest

SCORES_DEFAULT = "default: the one that looks like class scores; zygal survey lists them"


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


def finish_parser(parser: argparse.ArgumentParser, command) -> None:
    """Adds the common options, last, and what is run."""
    add_common(parser)
    parser.set_defaults(command=command)


def number_list(text: str) -> list[int]:
    """Whole numbers separated by commas, for argparse."""
    try:
        return [int(part) for part in text.split(",")]
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a list of whole numbers like 1,2,4") from None


def word_list(text: str) -> list[str]:
    """Words separated by commas, for argparse."""
    return [part.strip() for part in text.split(",") if part.strip()]


def share(text: str) -> float:
    """A percentage like 2% or 300%, or a share like 0.02, as a number, for argparse. A number above 1 needs its
    sign."""
    percentage = text.endswith("%")
    try:
        number = float(text[:-1]) / 100 if percentage else float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf or number > 1 and not percentage:
        hint = f"; did you mean {text}%?" if 1 < number <= 100 else ""
        raise argparse.ArgumentTypeError(
            f"{text!r} is not a percentage like 5%, or a share from 0 to 1 like 0.05{hint}"
        )
    return number


def share_of_one(text: str) -> float:
    """A percentage from 0% to 100%, or a share from 0 to 1, for argparse."""
    number = share(text)
    if number > 1:
        raise argparse.ArgumentTypeError(f"{text!r} is more than 100%")
    return number


def limit(text: str) -> float:
    """A limit of a gate: a number of at least 0, for argparse."""
    try:
        number = float(text)
    except ValueError:
        number = math.nan
    if not 0 <= number < math.inf:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of at least 0")
    return number


def factor(text: str) -> float:
    """How many times, like 2x or 1.5, for argparse."""
    try:
        number = float(text.removesuffix("x"))
    except ValueError:
        number = math.nan
    if not 0 < number < math.inf:
        raise argparse.ArgumentTypeError(f"{text!r} is not a factor like 2x or 1.5x")
    return number


def seconds(text: str) -> float:
    """A time like 50ms, 1.5s or 200us in seconds, for argparse."""
    for unit, factor in (("ms", 1e-3), ("us", 1e-6), ("s", 1.0)):
        if text.endswith(unit):
            try:
                number = float(text.removesuffix(unit)) * factor
            except ValueError:
                break
            if 0 <= number < math.inf:
                return number
            break
    raise argparse.ArgumentTypeError(f"{text!r} is not a time with its unit, like 50ms or 1.5s")


def add_source(parser: argparse.ArgumentParser, optional: bool = False) -> None:
    """The trained model: a file, or a function that builds it."""
    parser.add_argument(
        "source",
        metavar="SOURCE",
        nargs="?" if optional else None,
        help="the trained model: a captured PyTorch program (.pt2), a Keras model (.keras, .h5), a saved-model folder "
        "or a frozen graph (.pb) of TensorFlow, a web model (model.json), a mobile flatbuffer (.tflite), or "
        "FILE.py:FUNCTION, a Python function that builds a PyTorch module, a Keras model, or a pair of one of them and "
        "a fitted scikit-learn classifier (the file is run)",
    )
    parser.add_argument(
        "--weights", metavar="FILE", help="weights for FILE.py:FUNCTION: .pt, .pth, .safetensors or .weights.h5"
    )
    parser.add_argument(
        "--shape",
        metavar="C,H,W",
        type=number_list,
        help="shape of one image's tensor, if the source does not fix it (default: that of the inlet, or 3,224,224)",
    )


def add_entries(parser: argparse.ArgumentParser) -> None:
    """Which part of a graph with several ways in is meant."""
    parser.add_argument(
        "--signature",
        metavar="NAME",
        help="the signature of a saved-model folder or a mobile flatbuffer (default: serving_default; zygal survey "
        "lists them)",
    )
    parser.add_argument(
        "--input",
        metavar="NAME",
        help="the tensor that takes the images, if a graph has several inputs (zygal survey lists them)",
    )


def add_classifier_options(parser: argparse.ArgumentParser) -> None:
    """How an artifact is run, and what it is compared with."""
    parser.add_argument(
        "--scores", metavar="NAME", help=f"the output of the artifact to use, if it has several ({SCORES_DEFAULT})"
    )
    parser.add_argument("--inlet", metavar="FILE", help="use this inlet instead of the one inside the artifact")
    parser.add_argument(
        "--labels",
        metavar="FILE",
        help="use these labels instead of those inside: text, JSON, CSV, or the training folder",
    )
    parser.add_argument(
        "--multi-label",
        action="store_true",
        help="an image can have several labels, although the model does not end in a sigmoid",
    )
    group = parser.add_argument_group("comparison with another model")
    group.add_argument(
        "--compare",
        metavar="OTHER",
        help="run OTHER on the same images: another artifact, or a trained model in its live framework",
    )
    group.add_argument(
        "--compare-scores", metavar="NAME", help=f"the output of OTHER to use, if it has several ({SCORES_DEFAULT})"
    )
    group.add_argument("--compare-inlet", metavar="FILE", help="the inlet of OTHER, if it is another one")
    group.add_argument("--weights", metavar="FILE", help="weights, if OTHER is FILE.py:FUNCTION")
    parser.add_argument(
        "--threads",
        metavar="N",
        type=int,
        default=default_of(ClassifierRequest, "threads"),
        help="number of cores to use (default: all)",
    )
    parser.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help="let the workers of a Dask cluster do it: the address of its scheduler, like tcp://HOST:8786, the .json "
        "file that the scheduler wrote, or local:N for N worker processes here; the output is the same",
    )
    add_endpoint(parser, "send the images, preprocessed here, to")


def add_endpoint(parser: argparse.ArgumentParser, verb: str) -> None:
    """A service that takes the place of the artifact."""
    parser.add_argument(
        "--endpoint",
        metavar="URL",
        help=f"{verb} a service of the open inference protocol, version 2: http://HOST:PORT/v2/models/NAME, perhaps "
        f"with /versions/VERSION",
    )
    default = default_of(ClassifierRequest, "timeout")
    parser.add_argument(
        "--timeout",
        metavar="10s",
        type=seconds,
        default=default,
        help=f"with --endpoint: how long to wait for one answer (default: {default:g}s)",
    )


def shown(value: object) -> str:
    """A default for a help text; a per cent sign is doubled, as argparse wants it."""
    if isinstance(value, Sequence) and not isinstance(value, str):
        return ",".join(map(str, value))
    return f"{value:g}" if isinstance(value, float) else str(value)


def shown_share(value: float) -> str:
    return f"{100 * value:g}%%"
