"""zygal bench: batch inference on this machine's CPU."""

from __future__ import annotations

from argparse import ArgumentTypeError

from zygal.cli.command import Command, default_of
from zygal.cli.options import (
    add_endpoint,
    finish_parser,
    new_parser,
    number_list,
    seconds,
    share,
    share_of_one,
    shown,
    shown_share,
    word_list,
)
from zygal.commands.bench.request import DEFAULT_SECONDS, MOST_SECONDS_UNTIL, BenchRequest

SUMMARY = "Measures batch inference on the CPU: throughput, latency, memory, and how precise the figures are."
COMMAND = Command(BenchRequest, "zygal.commands.bench.execute", "zygal.cli.reports.bench")


def register(commands) -> None:
    parser = new_parser(
        commands, "bench", SUMMARY, "zygal bench channel_marks.onnx --batches 1,8 --threads 1,2 --deadline 5ms"
    )
    parser.add_argument("artifact", metavar="ARTIFACT", help="the ONNX file to run")
    _add_grid(parser.add_argument_group("what is measured"))
    _add_inputs(parser.add_argument_group("input tensors"))
    _add_more(parser.add_argument_group("further measurements"))
    add_endpoint(parser, "offer --arrival-rate to")
    _add_cluster(parser.add_argument_group("workers of a cluster"))
    _add_results(parser.add_argument_group("results"))
    finish_parser(parser, COMMAND)


def _add_grid(group) -> None:
    default = {name: default_of(BenchRequest, name) for name in ("batches", "levels", "execution")}
    group.add_argument(
        "--batches",
        type=number_list,
        default=default["batches"],
        metavar="N,N,...",
        help=f"batch sizes (default: {shown(default['batches'])})",
    )
    group.add_argument(
        "--threads", type=number_list, metavar="N,N,...", help="numbers of threads (default: 1 and the number of cores)"
    )
    group.add_argument(
        "--levels",
        type=word_list,
        default=default["levels"],
        metavar="NAME,...",
        help="graph optimisation of the runtime: off, basic, extended, all (default: all)",
    )
    group.add_argument(
        "--execution",
        type=word_list,
        default=default["execution"],
        metavar="NAME,...",
        help="execution modes of the runtime: sequential, parallel (default: sequential)",
    )
    group.add_argument("--seconds", type=float, help=f"how long to measure (default: {DEFAULT_SECONDS:g})")
    group.add_argument(
        "--until-within",
        type=share_of_one,
        metavar="2%",
        help="measure until the 95%% intervals of all medians are this narrow, at most for --seconds "
        f"(default then: {MOST_SECONDS_UNTIL:g})",
    )


def _add_inputs(group) -> None:
    group.add_argument("--witness", metavar="FILE", help="use its recorded tensors instead of random numbers")
    group.add_argument(
        "--image-size", type=number_list, metavar="H,W", help="image size, if the artifact does not fix it"
    )
    group.add_argument(
        "--input-shape",
        action="append",
        default=[],
        type=_input_shape,
        metavar="NAME=N,N",
        help="shape of one row of an input whose sizes are not fixed; may be repeated",
    )


def _add_more(group) -> None:
    group.add_argument(
        "--compare",
        action="append",
        default=[],
        metavar="OTHER",
        help="also measure another artifact, or a trained model in its live framework, on the same tensors; may be "
        "repeated",
    )
    group.add_argument(
        "--compare-as",
        choices=("module", "captured", "compiled", "eager"),
        help="how a trained model is run: PyTorch as the module of FILE.py:FUNCTION or as the captured program, Keras "
        "by its compiled prediction on a batch or layer by layer (default: the first that the source has)",
    )
    group.add_argument("--weights", metavar="FILE", help="weights for --compare FILE.py:FUNCTION")
    group.add_argument("--images", metavar="DIR", help="also measure from image files to scores, stage by stage")
    group.add_argument(
        "--inlet", metavar="FILE", help="with --images: use this inlet instead of the one inside the artifact"
    )
    group.add_argument("--deadline", type=seconds, metavar="50ms", help="find the settings that meet it at p99")
    group.add_argument(
        "--arrival-rate",
        type=_rates,
        metavar="RATE,...",
        help="also serve random arrivals at these rates (images/s); with --deadline, find the highest rate that "
        "meets it",
    )
    group.add_argument(
        "--max-batch",
        type=int,
        metavar="N",
        help="with --arrival-rate: the largest batch that is formed (default: the largest of --batches)",
    )
    group.add_argument(
        "--max-wait",
        type=seconds,
        metavar="5ms",
        help="with --arrival-rate: how long an image waits for others (default: 0ms)",
    )
    group.add_argument("--layers", action="store_true", help="also measure the time of each layer of the training code")


def _add_cluster(group) -> None:
    group.add_argument(
        "--cluster",
        metavar="ADDRESS",
        help="measure the workers of a Dask cluster with --images instead: tcp://HOST:PORT of its scheduler, or "
        "local:N; and simulate runs on more workers",
    )
    images, failures, late = (
        default_of(BenchRequest, name) for name in ("plan_images", "failures_per_hour", "late_share")
    )
    group.add_argument(
        "--plan-workers",
        metavar="N,N,...",
        type=number_list,
        help="simulate runs on so many workers of one thread each (default: 1,10,100,1000)",
    )
    group.add_argument(
        "--plan-images",
        metavar="N",
        type=_count,
        default=images,
        help=f"with so many images, like 1e9 (default: {images:,})",
    )
    group.add_argument(
        "--failures-per-hour",
        metavar="N",
        type=float,
        default=failures,
        help=f"how often one worker is lost in an hour (default: {failures:g})",
    )
    group.add_argument(
        "--late-share",
        metavar="SHARE",
        type=share_of_one,
        default=late,
        help=f"the share of groups of images that take ten times as long as usual (default: {shown_share(late)})",
    )


def _count(text: str) -> int:
    try:
        value = float(text)
    except ValueError:
        raise ArgumentTypeError(f"{text!r} is not a number like 1000000 or 1e9") from None
    if value != value or value in (float("inf"), float("-inf")) or value != int(value):
        raise ArgumentTypeError(f"{text!r} is not a whole number")
    return int(value)


def _add_results(group) -> None:
    slowdown = default_of(BenchRequest, "max_slowdown")
    group.add_argument("--csv", metavar="FILE", help="write the table as CSV")
    group.add_argument("--draw", metavar="DIR", help="draw the figures there")
    group.add_argument(
        "--baseline", metavar="FILE", help="gate: compare with the --json of an earlier run, and fail if slower"
    )
    group.add_argument(
        "--max-slowdown",
        type=share,
        default=slowdown,
        metavar="SHARE",
        help=f"with --baseline: how much slower is allowed (default: {shown_share(slowdown)})",
    )
    group.add_argument(
        "--force", action="store_true", help="with --baseline: compare although machine or settings differ"
    )


def _input_shape(text: str) -> tuple[str, tuple[int, ...]]:
    name, _, sizes = text.rpartition("=")
    if not name:
        raise ArgumentTypeError(f"{text!r} is not NAME=SIZE,SIZE, like image=3,224,224")
    shape = tuple(number_list(sizes)) if sizes else ()
    if any(size < 1 for size in shape):
        raise ArgumentTypeError(f"{text!r} has a size below 1")
    return name, shape


def _rates(text: str) -> list[float]:
    try:
        return [float(part) for part in text.split(",")]
    except ValueError:
        raise ArgumentTypeError(f"{text!r} is not a list of rates like 100,200") from None
