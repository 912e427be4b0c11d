"""zygal convert: a trained model to an artifact."""

from __future__ import annotations

from zygal.cli.command import Command, default_of
from zygal.cli.options import SCORES_DEFAULT, add_entries, add_source, finish_parser, new_parser
from zygal.commands.convert import ConvertRequest

SUMMARY = (
    "Converts a trained model to an artifact (ONNX or a mobile flatbuffer) with its preprocessing and labels inside."
)
COMMAND = Command(ConvertRequest, "zygal.commands.convert", "zygal.cli.reports.convert")


def register(commands) -> None:
    parser = new_parser(
        commands,
        "convert",
        SUMMARY,
        "zygal convert channel_marks.pt2 -o channel_marks.onnx --inlet channel_marks.inlet.toml --labels labels.txt",
    )
    add_source(parser)
    parser.add_argument(
        "-o",
        "--output",
        metavar="ARTIFACT",
        required=True,
        help="the file to write: ONNX, or a mobile flatbuffer if the name ends in .tflite",
    )
    parser.add_argument("--inlet", metavar="FILE", help="the preprocessing (TOML), which is stored in the artifact")
    parser.add_argument(
        "--labels",
        metavar="FILE",
        help="the class names, which are stored in the artifact: text, JSON, CSV, or the training folder",
    )
    names = (("input", "input_name"), ("output", "output_name"))
    for what, field in names:
        default = default_of(ConvertRequest, field)
        parser.add_argument(
            f"--{what}-name",
            metavar="NAME",
            default=default,
            help=f"name of the artifact's {what} (default: {default})",
        )
    parser.add_argument(
        "--scores", metavar="NAME", help=f"the output to take, if the model has several ({SCORES_DEFAULT})"
    )
    add_entries(parser)
    parser.add_argument(
        "--write-inlet",
        metavar="FILE",
        help="write the preprocessing that a model with encoded images as its input does itself, as an inlet",
    )
    parser.add_argument("--any-shape", action="store_true", help="convert even if the output is not [batch, classes]")
    parser.add_argument(
        "--keep-batch", action="store_true", help="keep the fixed batch size that the model was captured with"
    )
    parser.add_argument(
        "--layout",
        choices=("NCHW", "NHWC"),
        help="order of the axes of the artifact's input (default: that of the source)",
    )
    parser.add_argument(
        "--raw-pixels",
        action="store_true",
        help="put the preprocessing into the graph: the artifact takes 8-bit RGB images [N, H, W, 3] of any size",
    )
    parser.add_argument(
        "--half",
        action="store_true",
        help="store the weights as float16: half the file, no speed (zygal shrink --half also shows the difference)",
    )
    parser.add_argument(
        "--weights-beside",
        action="store_true",
        help="write the weights to a file of their own, ARTIFACT.weights, which processes can share in memory",
    )
    parser.add_argument(
        "--widen", action="store_true", help="compute in float32 what a mobile flatbuffer stores in 8 or 16 bits"
    )
    opset = default_of(ConvertRequest, "opset")
    parser.add_argument(
        "--opset", type=int, default=opset, help=f"version of the ONNX operator set (default: {opset}); for ONNX alone"
    )
    finish_parser(parser, COMMAND)
