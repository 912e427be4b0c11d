"""Classifiers as mobile flatbuffers, judged by the training framework on the mobile runtime, and read again.

    pip install '.[tensorflow,keras,torch,mobile]'
    pip install pytorchcv --no-deps requests
    python benchmarks/coverage_mobile.py MODELS OUT.csv [--only NAME,NAME]
    python benchmarks/coverage_mobile.py MODELS OUT.csv --table docs/coverage_mobile.md

All of keras.applications from the folder MODELS that `coverage_tensorflow.py` has made, and the first classifier of
each of 60 families of pytorchcv. One CSV row a model; rows that are there are kept. Round trip: the flatbuffer is read
again, written as ONNX, and compared with the ONNX artifact of the source.
"""

import argparse
import gc
import tempfile
import time
from pathlib import Path

import numpy as np
from coverage_rows import append_row, read_rows, table_lines

from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import open_engine
from zygal.errors import ZygalError

FIELDS = (
    "architecture",
    "collection",
    "status",
    "difference_of_spread",
    "top1_equal",
    "round_trip_of_spread",
    "batch",
    "transposes",
    "operators",
    "file_megabytes",
    "convert_seconds",
    "note",
)
LARGEST_DIFFERENCE, LARGEST_ROUND_TRIP = 1e-4, 1e-5
FAMILIES = 60


def judged(source, images, wanted, out, shape=None):
    """A row. wanted: the framework's scores of the images."""
    began = time.process_time()
    try:
        made = convert(source, out, choices=Choices(image_shape=shape))
    except ZygalError as refusal:
        return {"status": "refused", "note": str(refusal)}
    took, engine, spread = time.process_time() - began, open_engine(out), float(np.ptp(wanted))
    fixed = engine.batch_size
    found = [engine.run(images[:count]) for count in ((1, 3) if fixed is None else ())]
    if fixed is not None:
        found = [np.concatenate([engine.run(images[at : at + 1]) for at in range(len(images))])]
    worst = max(float(np.abs(each - wanted[: len(each)]).max()) for each in found) / spread
    equal = all(np.array_equal(each.argmax(1), wanted[: len(each)].argmax(1)) for each in found)
    row = {
        "status": "agrees" if worst <= LARGEST_DIFFERENCE and equal else "differs",
        "difference_of_spread": f"{worst:.2g}",
        "top1_equal": equal,
        "batch": "open" if fixed is None else fixed,
        "transposes": made.operators.get("TRANSPOSE", 0),
        "operators": sum(made.operators.values()),
        "file_megabytes": f"{out.stat().st_size / 1e6:.1f}",
        "convert_seconds": f"{took:.2f}",
    }
    del engine
    return row | round_trip(source, images, out, spread, shape)


def round_trip(source, images, flatbuffer, spread, shape):
    paths = [flatbuffer.with_name(name) for name in ("straight.onnx", "again.onnx")]
    try:
        convert(source, paths[0], choices=Choices(image_shape=shape))
        convert(flatbuffer, paths[1])
        straight, again = (open_engine(path).run(images) for path in paths)
    except ZygalError as refusal:
        return {"note": f"read again: {refusal}"}
    return {"round_trip_of_spread": f"{np.abs(straight - again).max() / spread:.2g}"}


def keras_rows(models, wanted):
    for recorded in sorted(models.glob("*.npz")):
        if wanted(recorded.stem):
            arrays = np.load(recorded)
            with tempfile.TemporaryDirectory() as folder:
                row = judged(
                    models / recorded.stem, arrays["x"], arrays["y"], Path(folder) / "m.tflite", arrays["x"].shape[1:]
                )
            yield recorded.stem, "keras.applications", row


def pytorch_rows(wanted):
    import torch
    from coverage import captured, definitions, first_scores, made, pictures

    first = {}
    for name, (_, family) in definitions().items():
        first.setdefault(family, name)
    for name in list(first.values())[:FAMILIES]:
        if not wanted(name):
            continue
        with tempfile.TemporaryDirectory() as folder, torch.no_grad():
            # Where usual random weights let rounding grow through the layers, quieter ones are judged.
            for quiet in (False, True):
                model, size = made(name, quiet)
                images, row = pictures(3, size, 103), {}
                scores = first_scores(model(images)).numpy()
                try:
                    torch.export.save(captured(model, images, row), Path(folder) / "m.pt2")
                except RuntimeError as fault:
                    row = {"status": "not captured", "note": str(fault)[:200].replace("\n", " ")}
                    break
                row |= judged(Path(folder) / "m.pt2", images.numpy(), scores, Path(folder) / "m.tflite")
                if row["status"] != "differs":
                    break
                exact = first_scores(made(name, quiet)[0].double()(images.double())).numpy()
                rounding = float(np.abs(exact - scores).max() / np.ptp(scores))
                row["note"] += f" the framework's own rounding is {rounding:.2g}"
                if rounding < LARGEST_DIFFERENCE / 5:
                    break
        yield name, "pytorchcv", row


def table(rows, path):
    written = [row for row in rows if row["status"] in ("agrees", "differs")]
    agree = [row for row in rows if row["status"] == "agrees"]
    trips = [float(row["round_trip_of_spread"]) for row in rows if row["round_trip_of_spread"]]
    lines = [
        "# Coverage: mobile flatbuffers",
        "",
        f"{len(rows)} architectures, {len(written)} written, {len(agree)} within 1e-4 of the spread of the framework's "
        "scores at batches 1 and 3 with equal top-1 on the mobile runtime; the largest difference of these is "
        f"{max(float(row['difference_of_spread']) for row in agree):.2g}. Read again and written as ONNX: "
        f"{sum(each <= LARGEST_ROUND_TRIP for each in trips)} of {len(trips)} within 1e-5, the largest "
        f"{max(trips):.2g}.",
        "",
        "Weights are random, with non-trivial statistics; the training framework's own scores are the judge. "
        "Made by `benchmarks/coverage_mobile.py`.",
        "",
    ]
    lines += table_lines(sorted(rows, key=lambda row: (row["collection"], row["architecture"])), FIELDS)
    Path(path).write_text("\n".join(lines) + "\n")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("models", type=Path)
    parser.add_argument("csv", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--collection", choices=("keras.applications", "pytorchcv"))
    parser.add_argument("--table")
    options = parser.parse_args()
    rows = read_rows(options.csv)
    if options.table:
        return table(rows, options.table)
    done, only = {row["architecture"] for row in rows}, options.only.split(",") if options.only else None

    def wanted(name):
        return name not in done and (only is None or name in only)

    for made in (keras_rows(options.models, wanted), pytorch_rows(wanted)):
        if options.collection and (options.collection == "pytorchcv") != (made.__name__ == "pytorch_rows"):
            continue
        for name, collection, row in made:
            row = dict.fromkeys(FIELDS, "") | {"architecture": name, "collection": collection} | row
            append_row(options.csv, FIELDS, row)
            print(
                f"{name}: {row['status']} {row['difference_of_spread']} again {row['round_trip_of_spread']} transposes "
                f"{row['transposes']} {row['convert_seconds']} s {row['note']}",
                flush=True,
            )
            gc.collect()


if __name__ == "__main__":
    main()
