"""The names of the commands."""

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
"""Every command, and what it does; `zygal.cli.NAME` has its options."""
