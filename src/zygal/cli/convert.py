"""zygal convert: a trained model to an artifact."""

from __future__ import annotations

from dataclasses import asdict

from zygal.cli.options import add_source, new_command, opened_source
from zygal.cli.output import check_json, console, file_size, show_facts, warn, write_json

RAW_FEED = "uint8 [N, H, W, 3]   raw pixels, RGB, all images of a batch of one size"


def register(commands) -> None:
    command = new_command(
        commands,
        "convert",
        "Converts a trained model's file to an artifact (ONNX) that carries its inlet and its labels.",
        "zygal convert channel_marks.pt2 -o channel_marks.onnx --inlet channel_marks.inlet.toml --labels labels.txt",
    )
    add_source(command)
    command.add_argument("-o", "--output", metavar="ARTIFACT", required=True, help="the file to write")
    command.add_argument("--inlet", metavar="FILE", help="how an image becomes the input tensor (TOML); goes inside")
    command.add_argument(
        "--labels", metavar="FILE", help="class names: text, JSON, CSV, or the training folder; go inside"
    )
    command.add_argument("--feed", metavar="NAME", default="image", help="name of the artifact's input (image)")
    command.add_argument("--fetch", metavar="NAME", default="scores", help="name of the artifact's output (scores)")
    command.add_argument("--scores", metavar="NAME", help="which of several outputs to take (the first; see survey)")
    command.add_argument("--any-shape", action="store_true", help="convert even if the output is not [batch, classes]")
    command.add_argument(
        "--keep-batch", action="store_true", help="keep a fixed batch that the model was captured with"
    )
    command.add_argument(
        "--layout", choices=("NCHW", "NHWC"), help="order of the artifact's input axes (as the training code feeds it)"
    )
    command.add_argument(
        "--raw-pixels",
        action="store_true",
        help="put the inlet into the artifact: it takes 8-bit RGB images [N, H, W, 3] of any size",
    )
    command.add_argument("--opset", type=int, default=17, help="version of the ONNX standard to aim at (17)")
    command.set_defaults(run=run)


def run(options) -> int:
    from zygal.convert import Choices, convert
    from zygal.inlet import read_inlet
    from zygal.labels import read_labels

    check_json(options.json)
    inlet = read_inlet(options.inlet) if options.inlet else None
    labels = read_labels(options.labels) if options.labels else None
    choices = Choices(options.feed, options.fetch, options.scores, options.any_shape, options.keep_batch, options.opset,
                      options.layout, tuple(options.shape) if options.shape else None, options.raw_pixels)  # fmt: skip
    with opened_source(options, inlet) as source:
        done = convert(source, options.output, inlet, labels, choices)
    for note in labels.notes if labels else ():
        warn(note)
    if done.raw_pixels:
        warn("what the inlet says of rotation, transparency and 16-bit pixels is left to who decodes the files")
    for note in done.notes:
        warn(note)
    missing = [name for name, given in (("--inlet", inlet), ("--labels", labels)) if given is None]
    rows = [
        ("feed", f"{done.input_name}   " + (RAW_FEED if done.raw_pixels else str(done.input_type))),
        ("fetch", f"{done.output_name}   {done.output_type}"),
        ("nodes", f"{done.nodes_before} became {done.nodes_after}"),
        ("inside", _inside(inlet, labels, missing)),
        ("size", f"{file_size(done.artifact_bytes)}, opset {done.opset}"),
    ]
    show_facts(console(), f"{options.source} -> {done.artifact}", rows)
    document = asdict(done) | {
        "input_type": {"dtype": done.input_type.dtype, "shape": _shape(done.input_type)},
        "output_type": {"dtype": done.output_type.dtype, "shape": _shape(done.output_type)},
        "inlet_inside": inlet is not None,
        "labels_inside": labels is not None,
    }
    write_json(options.json, document)
    return 0


def _inside(inlet, labels, missing: list[str]) -> str:
    held = ["the inlet"] if inlet is not None else []
    held += [f"{len(labels.names)} labels ({labels.order})"] if labels is not None else []
    held.append("the origin")
    advice = f" (give {' and '.join(missing)} to make it explain itself)" if missing else ""
    return ", ".join(held) + advice


def _shape(type) -> list[str]:
    return [size if isinstance(size, int) else str(size) for size in type.shape]
