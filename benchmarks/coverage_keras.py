"""Every architecture of keras.applications through the converter, from both containers, judged by the live framework.

    pip install "keras>=3.13" jax torch==2.13.0
    KERAS_BACKEND=torch python benchmarks/coverage_keras.py OUT.csv [--only NAME,NAME]
    python benchmarks/coverage_keras.py OUT.csv --table docs/coverage_keras.md

Weights are random, with a non-trivial scale and shift in every layer, so that scores depend on the image and an error
shows. One CSV row a model and container; models that OUT.csv already has are not made again, so the run can be
interrupted. The PyTorch back end is the fastest here; the two NASNets want the JAX one.
"""

import argparse
import contextlib
import csv
import gc
import os
import tempfile
import time
from pathlib import Path

os.environ.setdefault("KERAS_BACKEND", "torch")

import keras
import numpy as np
from coverage_rows import table_lines

from zygal.conversion.convert import convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ZygalError

FIELDS = (
    "architecture",
    "container",
    "status",
    "difference_of_spread",
    "top1_equal",
    "liveness",
    "nodes_before",
    "nodes_after",
    "transposes",
    "file_megabytes",
    "convert_seconds",
    "note",
)
BATCHES = (1, 3)
LARGEST_DIFFERENCE = 1e-4


def architectures():
    return [name for name in dir(keras.applications) if name[0].isupper()]


def pictures(count, size, seed):
    """Smooth coloured noise from 0 to 255, nearer to photographs than white noise. [count, height, width, 3]."""
    chance = np.random.default_rng(seed)
    coarse = chance.uniform(0, 255, (count, 8, 8, 3))
    rows, columns = (np.minimum(np.arange(n) * 8 // n, 7) for n in size)
    return np.clip(coarse[:, rows][:, :, columns] + chance.normal(0, 25, (count, *size, 3)), 0, 255).astype(np.float32)


def without_gradients():
    """PyTorch as the back end would keep every intermediate result for them."""
    if keras.backend.backend() != "torch":
        return contextlib.nullcontext()
    import torch

    return torch.no_grad()


def liven(model, size):
    """No scale or bias is an identity, and statistics come from a real forward pass; quietly, as rounding grows with
    depth."""
    chance = np.random.default_rng(7)
    for layer in model.layers:
        norm = isinstance(layer, keras.layers.BatchNormalization)
        for variable in layer.weights:
            if len(variable.shape) == 1 and "variance" not in variable.name and "mean" not in variable.name:
                low, high = (
                    (0.3, 0.55)
                    if norm and "gamma" in variable.name
                    else (0.5, 1.5)
                    if "gamma" in variable.name
                    else (-0.2, 0.2)
                )
                drawn = chance.uniform(low, high, variable.shape)
                variable.assign(drawn + (0.5 if norm and "beta" in variable.name else 0.0))
        if norm:
            layer.momentum = 0.0
    with without_gradients():
        model(pictures(4, size, 1), training=True)
    return model


def scores_of(model, images):
    with without_gradients():
        return np.asarray(keras.ops.convert_to_numpy(model(images, training=False)))


def rows_of(name):
    """A row for each container."""
    keras.utils.set_random_seed(3)
    make = getattr(keras.applications, name)
    model = make(weights=None, classifier_activation=None)
    if None in model.input_shape[1:]:
        model = make(weights=None, classifier_activation=None, input_shape=(224, 224, 3))
    size = tuple(model.input_shape[1:3])
    liven(model, size)
    inputs = {batch: pictures(batch, size, 100 + batch) for batch in BATCHES}
    wanted = {batch: scores_of(model, x) for batch, x in inputs.items()}
    several = wanted[max(BATCHES)]
    spread = float(np.ptp(several))
    live = f"{np.abs(several[0] - several[1]).max() / spread:.2g}"
    with tempfile.TemporaryDirectory() as folder:
        for container in ("keras", "h5"):
            row = dict.fromkeys(FIELDS, "") | {"architecture": name, "container": container, "liveness": live}
            path = Path(folder) / f"model.{container}"
            model.save(path)
            row["file_megabytes"] = f"{path.stat().st_size / 1e6:.0f}"
            try:
                _examine(path, row, inputs, wanted, spread)
            except ZygalError as fault:
                row |= {"status": "refused", "note": str(fault).replace(folder + "/", "")[:300]}
            yield row
            path.unlink()


def _examine(path, row, inputs, wanted, spread):
    started = time.perf_counter()
    done = convert(path, path.with_suffix(".onnx"))
    row["convert_seconds"] = f"{time.perf_counter() - started:.2f}"
    row |= {
        "nodes_before": done.nodes_before,
        "nodes_after": done.nodes_after,
        "transposes": done.operators.get("Transpose", 0),
    }
    engine = RuntimeEngine(path.with_suffix(".onnx"), 2)
    found = {batch: engine.run(x) for batch, x in inputs.items()}
    worst = max(np.abs(found[batch] - wanted[batch]).max() / spread for batch in BATCHES)
    equal = all((found[batch].argmax(1) == wanted[batch].argmax(1)).all() for batch in BATCHES)
    row |= {"difference_of_spread": f"{worst:.2g}", "top1_equal": equal}
    row["status"] = "agrees" if worst <= LARGEST_DIFFERENCE and equal else "differs"


def write_table(source, target):
    rows = sorted(csv.DictReader(source.open()), key=lambda row: (row["architecture"], row["container"]))
    agree = sum(row["status"] == "agrees" for row in rows)
    worst = max(float(row["difference_of_spread"]) for row in rows if row["difference_of_spread"])
    columns = [field for field in FIELDS if field != "note"]
    lines = [
        "# Coverage: keras.applications",
        "",
        f"{len({row['architecture'] for row in rows})} architectures, each from .keras and from .h5: {agree} of "
        f"{len(rows)} agree within 1e-4 of the spread of the scores at batches 1 and 3 with equal top-1; the largest "
        f"difference is {worst:.2g}.",
        "",
        "Weights are random, with a non-trivial scale and shift in every layer; *liveness* is how far two images' "
        "scores are apart, as a part of the spread. Made by `benchmarks/coverage_keras.py`.",
        "",
        *table_lines(rows, columns),
    ]
    target.write_text("\n".join(lines) + "\n")
    print(lines[2])


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("out", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--table", type=Path)
    options = parser.parse_args()
    if options.table:
        write_table(options.out, options.table)
        return
    have = {row["architecture"] for row in csv.DictReader(options.out.open())} if options.out.exists() else set()
    names = options.only.split(",") if options.only else architectures()
    with options.out.open("a", newline="") as file:
        table = csv.DictWriter(file, FIELDS)
        if not have:
            table.writeheader()
        for name in names:
            if name in have:
                continue
            for row in rows_of(name):
                table.writerow(row)
                print(
                    name,
                    row["container"],
                    row["status"],
                    row["difference_of_spread"],
                    row["liveness"],
                    row["note"][:200],
                    flush=True,
                )
            file.flush()
            gc.collect()


if __name__ == "__main__":
    main()
