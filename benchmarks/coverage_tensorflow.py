"""Every architecture of keras.applications as a saved-model folder and as a frozen graph, judged by TensorFlow itself.

    pip install '.[tensorflow,keras]'
    python benchmarks/coverage_tensorflow.py MODELS OUT.csv [--only NAME,NAME]
    python benchmarks/coverage_tensorflow.py MODELS OUT.csv --table docs/coverage_tensorflow.md

MODELS is a folder in which each architecture is saved once, in a process of its own, with its images and the
framework's scores (22 GB in all). Weights are random, with non-trivial statistics. One CSV row a model and form; rows
that are there are kept, so the run can be interrupted. A graph of more than 2 GB cannot be frozen: the schema has no
larger messages.
"""

import argparse
import os
import subprocess
import sys
import time
from pathlib import Path

os.environ.setdefault("TF_CPP_MIN_LOG_LEVEL", "3")
os.environ.setdefault("KERAS_BACKEND", "tensorflow")

import numpy as np
from coverage_rows import append_row, read_rows, table_lines

from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ZygalError

FIELDS = (
    "architecture",
    "form",
    "status",
    "difference_of_spread",
    "top1_equal",
    "nodes_before",
    "nodes_after",
    "transposes",
    "file_megabytes",
    "convert_seconds",
    "note",
)
LARGEST_DIFFERENCE = 1e-4
DEEP = ("EfficientNetV2S", "EfficientNetV2M", "EfficientNetV2L")
"""So deep that random statistics let the values grow without bounds: theirs come from a forward pass."""


def save(name, folder):
    """The model as a folder and as a frozen graph, three images, and the folder's own scores of them."""
    import keras
    import tensorflow as tf
    from tensorflow.python.framework.convert_to_constants import convert_variables_to_constants_v2

    keras.utils.set_random_seed(0)
    model, rng = getattr(keras.applications, name)(weights=None), np.random.default_rng(0)
    for weight in model.weights:
        if len(weight.shape) <= 1:
            low, high = (
                (0.6, 1.6) if "variance" in weight.path else (0.6, 1.4) if "gamma" in weight.path else (-0.2, 0.2)
            )
            weight.assign(rng.uniform(low, high, weight.shape))
    size = [side or 224 for side in model.input_shape[1:]]
    low, high = (0, 255) if name.startswith(("Efficient", "MobileNetV3", "ConvNeXt")) else (-1, 1)
    images = rng.uniform(low, high, (3, *size)).astype(np.float32)
    if name in DEEP:
        from coverage_keras import liven, pictures

        liven(model, size[:2])
        images = pictures(3, size[:2], 100)
    model.export(str(folder / name), verbose=False)
    loaded = tf.saved_model.load(str(folder / name)).signatures["serving_default"]
    scores = np.asarray(next(iter(loaded(tf.constant(images)).values())))
    function = tf.function(lambda x: model(x, training=False)).get_concrete_function(
        tf.TensorSpec([None, *size], tf.float32)
    )
    try:
        graph = convert_variables_to_constants_v2(function).graph.as_graph_def().SerializeToString()
        (folder / f"{name}.pb").write_bytes(graph)
    except Exception as fault:  # More than a message may hold.
        print(f"{name} cannot be frozen: {str(fault)[:100]}")
    np.savez(folder / f"{name}.npz", x=images, y=scores)


def judged(path, recorded, out):
    began = time.process_time()
    try:
        made = convert(path, out, choices=Choices(image_shape=recorded["x"].shape[1:]))
    except ZygalError as refusal:
        return {"status": "refused", "note": str(refusal)}
    took, engine, wanted = time.process_time() - began, RuntimeEngine(out), recorded["y"]
    found = [engine.run(recorded["x"][:count]) for count in (1, 3)]
    worst = max(float(np.abs(each - wanted[: len(each)]).max()) for each in found) / float(np.ptp(wanted))
    equal = all(np.array_equal(each.argmax(1), wanted[: len(each)].argmax(1)) for each in found)
    size = sum(each.stat().st_size for each in (path.rglob("*") if path.is_dir() else [path]) if each.is_file())
    return {
        "status": "agrees" if worst <= LARGEST_DIFFERENCE and equal else "differs",
        "difference_of_spread": f"{worst:.2g}",
        "top1_equal": equal,
        "nodes_before": made.nodes_before,
        "nodes_after": made.nodes_after,
        "transposes": made.operators.get("Transpose", 0),
        "file_megabytes": f"{size / 1e6:.0f}",
        "convert_seconds": f"{took:.2f}",
    }


def architectures():
    import keras

    return [name for name in dir(keras.applications) if name[0].isupper()]


def table(rows, path):
    agree = [row for row in rows if row["status"] == "agrees"]
    worst = max(float(row["difference_of_spread"]) for row in agree)
    lines = [
        "# Coverage: keras.applications as TensorFlow's own files",
        "",
        f"{len({row['architecture'] for row in rows})} architectures as saved-model folders and as frozen graphs: "
        f"{len(agree)} of {len(rows)} agree within 1e-4 of the spread of the scores at batches 1 and 3 with equal "
        f"top-1; the largest difference is {worst:.2g}.",
        "",
        "Weights are random, with non-trivial statistics; TensorFlow's own scores are the judge. Made by "
        "`benchmarks/coverage_tensorflow.py`.",
        "",
    ]
    shown = [field for field in FIELDS if field != "note"]
    lines += table_lines(sorted(rows, key=lambda row: (row["architecture"], row["form"])), shown)
    Path(path).write_text("\n".join(lines) + "\n")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("models", type=Path)
    parser.add_argument("csv", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--table")
    parser.add_argument("--save")
    options = parser.parse_args()
    options.models.mkdir(exist_ok=True)
    if options.save:
        return save(options.save, options.models)
    rows = read_rows(options.csv)
    if options.table:
        return table(rows, options.table)
    done = {(row["architecture"], row["form"]) for row in rows}
    for name in options.only.split(",") if options.only else architectures():
        if not (options.models / f"{name}.npz").exists():
            subprocess.run(
                [sys.executable, __file__, str(options.models), str(options.csv), "--save", name], check=True
            )
        recorded = np.load(options.models / f"{name}.npz")
        for form, path in (("folder", options.models / name), ("frozen", options.models / f"{name}.pb")):
            if (name, form) in done or not path.exists():
                continue
            row = (
                dict.fromkeys(FIELDS, "")
                | {"architecture": name, "form": form}
                | judged(path, recorded, options.models / "out.onnx")
            )
            append_row(options.csv, FIELDS, row)
            print(f"{name} {form}: {row['status']} {row['difference_of_spread']} {row['note']}", flush=True)


if __name__ == "__main__":
    main()
