"""The commands: their names, what they do, the requests that declare their options, and who executes and reports
them."""

from __future__ import annotations

from dataclasses import dataclass

COMMANDS = {
    "demo": "Write the demo's files into a folder and run the whole example there.",
    "survey": "Say what a file is: tensor names, shapes, classes, layers, sizes, versions.",
    "convert": "Convert a trained model to an artifact (ONNX) with preprocessing and labels inside.",
    "witness": "Record what the training framework does on reference images.",
    "inlet": "Recover the preprocessing from a recording, draw what it does, or write a common recipe.",
    "match": "Check preprocessing and predictions against a recording, gate by gate.",
    "tally": "Measure accuracy, confusion and calibration on labelled images.",
    "classify": "Predict the classes of images, any number of them.",
    "bench": "Measure batch inference on the CPU: throughput, latency, memory.",
    "shrink": "Make an artifact that computes in 8 bits, and measure what it loses and gains.",
    "signoff": "Measure everything that a plan says must hold, and write one page with the verdict.",
    "pack": "Pack artifacts with all that an application needs into one bundle, or check a bundle.",
    "completion": "Print a script that completes commands and options in a shell.",
}
"""Every command, and what it does."""


@dataclass(frozen=True)
class Row:
    """One command. summary: the first sentence of its help. example: on the demo's files. request: the class that
    declares its options, as MODULE:CLASS. core: the module that executes it. report: the module that shows the
    outcome."""

    summary: str
    example: str
    request: str
    core: str
    report: str


INLET = (
    "Recovers the preprocessing from a recording (recover), draws what it does to an image (draw), or lists and "
    "writes common recipes (recipes)."
)
ROWS = {
    "demo": Row(
        "Writes the demo's files into a folder and runs the whole example there, showing each command.",
        "zygal demo zygal-demo",
        "zygal.commands.demo:DemoRequest",
        "zygal.cli.demo_run",
        "zygal.cli.reports.demo",
    ),
    "survey": Row(
        "Says what a file is: tensor names, shapes and dtypes, classes, layers, sizes and versions.",
        "zygal survey channel_marks.pt2",
        "zygal.commands.survey.execute:SurveyRequest",
        "zygal.commands.survey.execute",
        "zygal.cli.reports.survey",
    ),
    "convert": Row(
        "Converts a trained model to an artifact (ONNX or a mobile flatbuffer) with its preprocessing and "
        "labels inside.",
        "zygal convert channel_marks.pt2 -o channel_marks.onnx --inlet channel_marks.inlet.toml --labels labels.txt",
        "zygal.commands.convert:ConvertRequest",
        "zygal.commands.convert",
        "zygal.cli.reports.convert",
    ),
    "witness": Row(
        "Runs the training framework on reference images and records its input tensors and scores.",
        "zygal witness channel_marks.pt2 --images reference -o mine.witness --training-code "
        "training_code.py:load_image --labels labels.txt",
        "zygal.commands.witness:WitnessRequest",
        "zygal.commands.witness",
        "zygal.cli.reports.witness",
    ),
    "inlet recover": Row(
        "Recovers the whole preprocessing from recorded tensors and the image files, without any hint.",
        "zygal inlet recover --witness channel_marks.witness --images reference -o recovered.inlet.toml",
        "zygal.commands.recover.request:RecoverRequest",
        "zygal.commands.recover.execute",
        "zygal.cli.reports.inlet",
    ),
    "inlet draw": Row(
        "Draws an image after each stage of an inlet, with its size and range of values.",
        "zygal inlet draw reference/mark-05.jpg --inlet channel_marks.inlet.toml -o strip.png",
        "zygal.commands.draw:DrawRequest",
        "zygal.commands.draw",
        "zygal.cli.reports.inlet_draw",
    ),
    "inlet recipes": Row(
        "Lists the inlets of common recipes, prints one, or writes it.",
        "zygal inlet recipes short-side-crop -o channel_marks.inlet.toml",
        "zygal.commands.recipes:RecipesRequest",
        "zygal.commands.recipes",
        "zygal.cli.reports.inlet_recipes",
    ),
    "match": Row(
        "Checks preprocessing (A), model (B) and both end to end (C) against a witness, and names the cause of "
        "a failure.",
        "zygal match channel_marks.onnx --witness channel_marks.witness --images reference",
        "zygal.commands.match.request:MatchRequest",
        "zygal.commands.match.execute",
        "zygal.cli.reports.match",
    ),
    "tally": Row(
        "Measures accuracy, confusion and calibration on labelled images, and compares two models in pairs.",
        "zygal tally channel_marks.onnx --images labelled.csv --compare keras/channel_marks.onnx",
        "zygal.commands.tally.request:TallyRequest",
        "zygal.commands.tally.execute",
        "zygal.cli.reports.tally",
    ),
    "classify": Row(
        "Predicts the classes of images: a few as a table, any number into a file that can be resumed.",
        "zygal classify channel_marks.onnx reference -o predictions.csv",
        "zygal.commands.classify.request:ClassifyRequest",
        "zygal.commands.classify.execute",
        "zygal.cli.reports.classify",
    ),
    "bench": Row(
        "Measures batch inference on the CPU: throughput, latency, memory, and how precise the figures are.",
        "zygal bench channel_marks.onnx --batches 1,8 --threads 1,2 --deadline 5ms",
        "zygal.commands.bench.request:BenchRequest",
        "zygal.commands.bench.execute",
        "zygal.cli.reports.bench",
    ),
    "shrink": Row(
        "Writes an artifact whose layers compute in 8 bits, keeps in float what would lose too much, and "
        "measures both.",
        "zygal shrink channel_marks.onnx -o channel_marks.small.onnx --images reference --agree 99%",
        "zygal.commands.shrink.request:ShrinkRequest",
        "zygal.commands.shrink.execute",
        "zygal.cli.reports.shrink",
    ),
    "signoff": Row(
        "Measures everything that a plan says must hold of an artifact, and writes one page with the verdict.",
        "zygal signoff signoff.toml",
        "zygal.signoff.command:SignoffRequest",
        "zygal.signoff.command",
        "zygal.cli.reports.signoff",
    ),
    "pack": Row(
        "Packs artifacts with labels, preprocessing, reference images and runners into one bundle, or checks a bundle.",
        "zygal pack channel_marks.onnx --images reference --signoff signoff.signoff -o channel_marks.zip",
        "zygal.bundle.command:PackRequest",
        "zygal.bundle.command",
        "zygal.cli.reports.pack",
    ),
}
"""By the words of the command."""
