"""What zygal bench can be asked."""

from __future__ import annotations

from argparse import ArgumentTypeError

from zygal.cli.options import duration, limit, number_list, part, part_of_one, word_list

DEFAULT_SECONDS, MOST_SECONDS_UNTIL = 30.0, 300.0


def add_options(command) -> None:
    _add_grid(command.add_argument_group("what is measured"))
    _add_inputs(command.add_argument_group("what it is fed"))
    _add_more(command.add_argument_group("more to find out"))
    _add_results(command.add_argument_group("what becomes of the figures"))


def _add_grid(group) -> None:
    group.add_argument(
        "--batches", type=number_list, default=[1, 2, 4, 8], metavar="N,N,...", help="batch sizes (1,2,4,8)"
    )
    group.add_argument("--threads", type=number_list, default=None, metavar="N,N,...",
                       help="numbers of threads (1, and as many as there are cores)")  # fmt: skip
    group.add_argument("--levels", type=word_list, default=["all"], metavar="NAME,...",
                       help="how far the runtime may rewrite the graph: off, basic, extended, all (all)")  # fmt: skip
    group.add_argument("--execution", type=word_list, default=["sequential"], metavar="NAME,...",
                       help="the runtime's execution modes: sequential, parallel (sequential)")  # fmt: skip
    group.add_argument("--seconds", type=limit, help=f"time to measure for ({DEFAULT_SECONDS:g})")
    group.add_argument("--until-within", type=part_of_one, metavar="2%",
                       help=f"measure until all medians are known so well, at most for --seconds ({MOST_SECONDS_UNTIL:g})")  # fmt: skip


def _add_inputs(group) -> None:
    group.add_argument("--witness", metavar="FILE", help="feed its recorded tensors instead of random numbers")
    group.add_argument(
        "--image-size", type=number_list, metavar="H,W", help="size of the images for an artifact that leaves it open"
    )
    group.add_argument("--fill", action="append", default=[], type=_filled, metavar="NAME=N,N",
                       help="shape of one row of an input whose sizes are open; once for each such input")  # fmt: skip


def _add_more(group) -> None:
    group.add_argument("--beside", action="append", default=[], metavar="OTHER",
                       help="another artifact, or a source in its live framework, on the same inputs; any number of times")  # fmt: skip
    group.add_argument("--weights", metavar="FILE", help="weights for a source FILE.py:FUNCTION given to --beside")
    group.add_argument("--images", metavar="DIR", help="the whole way from these image files, stage by stage")
    group.add_argument("--inlet", metavar="FILE", help="for --images, instead of the artifact's own inlet")
    group.add_argument("--deadline", type=duration, metavar="50ms", help="what keeps this time in 99 of 100 batches")
    group.add_argument("--offered", type=_rates, metavar="RATE,...",
                       help="random arrivals of so many images a second, and with --deadline the highest rate that keeps it")  # fmt: skip
    group.add_argument("--gather", type=_gathering, metavar="N,TIME",
                       help="for --offered: serve when N images wait or the first has waited so long (largest batch,0ms)")  # fmt: skip
    group.add_argument("--layers", action="store_true", help="time and multiply-adds by layer of the training code")


def _add_results(group) -> None:
    group.add_argument("--csv", metavar="FILE", help="write the table of settings there")
    group.add_argument("--draw", metavar="DIR", help="draw what was measured into this folder")
    group.add_argument("--against", metavar="FILE", help="judge by an earlier run's --json: exit code 1 if slower")
    group.add_argument("--allow", type=part, default=0.05, metavar="5%", help="how much slower is allowed (5%%)")
    group.add_argument(
        "--anyway", action="store_true", help="compare with --against even if machine or settings differ"
    )


def check_options(options) -> None:
    """Raises BenchError where an option goes with another that is not there, or makes no sense."""
    from zygal.errors import BenchError
    from zygal.sources.pytorch.live import is_live

    for given, needed, words in (
        (options.gather, options.offered, "--gather goes with --offered RATE"),
        (options.inlet, options.images, "--inlet goes with --images DIR"),
        (options.anyway, options.against, "--anyway goes with --against FILE"),
        (options.weights, any(map(is_live, options.beside)), "--weights goes with --beside FILE.py:FUNCTION"),
    ):
        if given and not needed:
            raise BenchError(f"{words}, which is not given.")
    size = options.image_size
    if size and (len(size) != 2 or min(size) < 1):
        raise BenchError(f"{','.join(map(str, size))} is no size of an image; give --image-size HEIGHT,WIDTH.")


def _filled(text: str) -> tuple[str, tuple[int, ...]]:
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


def _gathering(text: str) -> tuple[int, float]:
    most, _, patience = text.partition(",")
    try:
        return int(most), duration(patience or "0ms")
    except ValueError:
        raise ArgumentTypeError(f"{text!r} is not a number and a time, like 8,5ms") from None
