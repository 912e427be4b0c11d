"""Every image classifier of the package pytorchcv through the converter, judged by the live framework.

    pip install pytorchcv --no-deps requests
    python benchmarks/coverage.py OUT.csv [--only NAME,NAME] [--per-family 1] [--jobs 2]
    python benchmarks/coverage.py OUT.csv --table docs/coverage.md

Weights are random, with a non-trivial scale and shift in every layer, so that scores depend on the image and an error
shows. Each model is captured with a dynamic batch, converted, and run on the runtime at two batch sizes. One CSV row a
model; rows that OUT.csv already has are not made again, so the run can be interrupted.
"""

import argparse
import csv
import multiprocessing
import sys
import tempfile
import time
import types
import warnings
from pathlib import Path

import numpy as np
import torch
from torch import nn

from zygal.conversion.convert import convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ZygalError

FIELDS = (
    "architecture",
    "status",
    "difference_of_spread",
    "top1_equal",
    "liveness",
    "nodes_before",
    "nodes_after",
    "framework_rounding_of_spread",
    "capture_seconds",
    "convert_seconds",
    "runtime_over_framework_speed",
    "note",
)
BATCHES = (1, 3)
LARGEST_DIFFERENCE = 1e-4
NOT_CLASSIFIERS = (
    "fcn8sd",
    "pspnet",
    "deeplabv3",
    "icnet",
    "fastscnn",
    "cgnet",
    "dabnet",
    "sinet",
    "bisenet",
    "danet",
    "fpenet",
    "contextnet",
    "lednet",
    "esnet",
    "edanet",
    "enet",
    "erfnet",
    "linknet",
    "segnet",
    "unet",
    "sqnet",
    "alphapose_coco",
    "simplepose_coco",
    "simpleposemobile_coco",
    "lwopenpose_cmupan",
    "ibppose_coco",
    "prnet",
    "centernet",
    "lffd",
    "pfpcnet",
    "voca",
    "nvpattexp",
    "visemenet",
    "superpointnet",
    "jasper",
    "jasperdr",
    "quartznet",
    "espcnet",
    "raft",
    "propainter_rfc",
    "propainter_ip",
    "propainter",
)


def definitions():
    """All classifiers by name, with the file that defines them."""
    # One definition that is no classifier imports torchvision, which is not needed here.
    for name in ("torchvision", "torchvision.ops"):
        sys.modules.setdefault(name, types.ModuleType(name))
    sys.modules["torchvision.ops"].DeformConv2d = object
    from pytorchcv.model_provider import _models

    families = {name: make.__module__.rpartition(".")[2] for name, make in _models.items()}
    return {name: (_models[name], family) for name, family in families.items() if family not in NOT_CLASSIFIERS}


def pictures(count, size, seed):
    """Smooth coloured noise, standardised: nearer to photographs than white noise. [count, 3, height, width]."""
    chance = torch.Generator().manual_seed(seed)
    coarse = torch.randn(count, 3, 7, 7, generator=chance)
    smooth = nn.functional.interpolate(coarse, size, mode="bicubic")
    return smooth + 0.3 * torch.randn(count, 3, *size, generator=chance)


def liven(model, size, quiet=False):
    """No scale or bias is an identity, and the statistics of normalisations come from real forward passes.

    Very deep random networks amplify rounding from layer to layer, because every rectifier halves what
    it gets. Quiet ones hand a little less to it and mostly on its open side, which ends that.
    """
    gain, shift = (0.4, 0.5) if quiet else (1.0, 0.0)
    chance = torch.Generator().manual_seed(7)
    for name, parameter in model.named_parameters():
        if parameter.ndim <= 1:
            low, high = (0.7 * gain, 1.3 * gain) if name.endswith("weight") else (-0.2, 0.2)
            parameter.data.uniform_(low, high, generator=chance)
    norms = [m for m in model.modules() if isinstance(m, nn.modules.batchnorm._BatchNorm) and m.track_running_stats]
    for norm in norms:
        if norm.bias is not None:
            norm.bias.data += shift
        norm.reset_running_stats()
        norm.momentum = None
    model.eval()
    for norm in norms:
        norm.train()
    with torch.no_grad():
        model(pictures(4, size, 1))
    model.eval()


def first_scores(result):
    while not isinstance(result, torch.Tensor):
        result = next(iter(result.values() if isinstance(result, dict) else result))
    return result


def seconds_of(run, least=3, most=0.3):
    """The median time of some runs."""
    readings, started = [], time.perf_counter()
    run()
    while len(readings) < least or time.perf_counter() - started < most:
        before = time.perf_counter()
        run()
        readings.append(time.perf_counter() - before)
    return float(np.median(readings))


def examine(name):
    """One row of the table."""
    torch.set_num_threads(1)
    warnings.simplefilter("ignore")
    row = dict.fromkeys(FIELDS, "") | {"architecture": name}
    try:
        with tempfile.TemporaryDirectory() as folder, torch.no_grad():
            _examine(name, Path(folder), row)
            first = row["framework_rounding_of_spread"]
            if row["status"] == "differs" and float(first) > LARGEST_DIFFERENCE / 5:
                # Weights with which even the framework's own scores are largely rounding say nothing about a converter.
                row["framework_rounding_of_spread"] = ""
                _examine(name, Path(folder), row, quiet=True)
                row["note"] = f"with quieter weights; with the usual ones the framework's own rounding is {first}"
    except ZygalError as fault:
        row |= {"status": "refused", "note": str(fault).replace(folder + "/", "")[:300]}
    except Exception as fault:
        row |= {
            "status": row["status"] or "failed",
            "note": f"{type(fault).__name__}: {fault}".replace("\n", " ")[:300],
        }
    return row


def made(name, quiet=False):
    """The live model and its image size, the same at every call."""
    torch.manual_seed(11)
    model = definitions()[name][0]()
    size = tuple(getattr(model, "in_size", (224, 224)))
    liven(model, size, quiet)
    return model, size


def captured(model, images, row):
    """Captured with a dynamic batch if the framework can, else as it can."""
    axes = ({0: torch.export.Dim("batch", min=1)},)
    attempts = [
        ("", {"dynamic_shapes": axes}),
        ("captured with a fixed batch", {}),
        ("captured strictly", {"dynamic_shapes": axes, "strict": True}),
    ]
    for place, (note, arguments) in enumerate(attempts):
        try:
            row["note"] = note
            return torch.export.export(model, (images,), **arguments)
        except Exception as fault:
            if place == len(attempts) - 1:
                row["status"] = "not captured"
                raise RuntimeError(f"the framework cannot capture it: {fault}") from fault


def _examine(name, folder, row, quiet=False):
    model, size = made(name, quiet)
    inputs = {batch: pictures(batch, size, 100 + batch) for batch in BATCHES}
    wanted = {batch: first_scores(model(x)).numpy() for batch, x in inputs.items()}
    several = wanted[max(BATCHES)]
    spread = np.ptp(several)
    row["liveness"] = f"{np.abs(several[0] - several[1]).max() / spread:.2g}"
    framework_seconds = seconds_of(lambda: model(inputs[1]))
    started = time.perf_counter()
    torch.export.save(captured(model, inputs[3], row), folder / f"{name}.pt2")
    row["capture_seconds"] = f"{time.perf_counter() - started:.1f}"
    started = time.perf_counter()
    done = convert(folder / f"{name}.pt2", folder / f"{name}.onnx")
    row["convert_seconds"] = f"{time.perf_counter() - started:.2f}"
    row |= {"nodes_before": done.nodes_before, "nodes_after": done.nodes_after}
    engine = RuntimeEngine(folder / f"{name}.onnx", 1)
    found = {batch: engine.run(x.numpy()) for batch, x in inputs.items()}
    worst = max(np.abs(found[batch] - wanted[batch]).max() / spread for batch in BATCHES)
    equal = all((found[batch].argmax(1) == wanted[batch].argmax(1)).all() for batch in BATCHES)
    row |= {"difference_of_spread": f"{worst:.2g}", "top1_equal": equal}
    row["status"] = "agrees" if worst <= LARGEST_DIFFERENCE and equal else "differs"
    array = inputs[1].numpy()
    row["runtime_over_framework_speed"] = f"{framework_seconds / seconds_of(lambda: engine.run(array)):.2f}"
    if worst > LARGEST_DIFFERENCE / 5:
        # How far the framework itself is from its own result in float64: what rounding alone does to this model.
        again, _ = made(name, quiet)
        exact = first_scores(again.double()(inputs[3].double())).numpy()
        row["framework_rounding_of_spread"] = f"{np.abs(exact - several).max() / spread:.2g}"


def write_table(source, target):
    """The CSV as a page: totals first, then every row."""
    rows = sorted(csv.DictReader(source.open()), key=lambda row: row["architecture"])
    for row in rows:
        rounding = float(row["framework_rounding_of_spread"] or 0)
        if row["status"] == "differs" and float(row["difference_of_spread"]) <= 2 * rounding:
            row["status"] = "within rounding"
    counts = {
        status: sum(row["status"] == status for row in rows) for status in sorted({row["status"] for row in rows})
    }
    ratios = [float(row["runtime_over_framework_speed"]) for row in rows if row["runtime_over_framework_speed"]]
    converted = [row for row in rows if row["difference_of_spread"]]
    lines = [
        "# Coverage: the classifiers of pytorchcv",
        "",
        f"{len(rows)} of the package's {len(definitions())} classifier definitions were examined, the first of "
        f"every family first: " + ", ".join(f"{status} {count}" for status, count in counts.items()) + ".",
        f"{sum(row['top1_equal'] == 'True' for row in converted)} of the {len(converted)} converted ones have the same "
        "top-1 everywhere.",
        f"Speed on one thread, batch 1, compared with the framework's eager inference: geometric mean "
        f"{np.exp(np.mean(np.log(ratios))):.2f}x (measured while two models were examined at once, so single "
        f"rows are rough).",
        "",
        "*Agrees*: largest score difference at most 1e-4 of the spread of the scores at batches 1 and 3, and equal "
        "top-1. Weights are random, with a non-trivial scale and shift in every layer; *rounding* is how far the "
        "framework's own float32 scores are from its float64 scores, given where the difference is above 2e-5: what "
        "such weights leave to chance. *Within rounding*: the difference is above 1e-4, and at most twice that "
        "rounding. Made by `benchmarks/coverage.py`.",
        "",
        "| architecture | status | difference | rounding | nodes | after | capture s | convert s | speed | note |",
        "|---|---|---|---|---|---|---|---|---|---|",
    ]
    columns = (
        "architecture",
        "status",
        "difference_of_spread",
        "framework_rounding_of_spread",
        "nodes_before",
        "nodes_after",
        "capture_seconds",
        "convert_seconds",
        "runtime_over_framework_speed",
        "note",
    )
    for row in rows:
        lines.append("| " + " | ".join(row[column].replace("|", "/")[:100] for column in columns) + " |")
    target.write_text("\n".join(lines) + "\n")
    print("\n".join(lines[2:5]))


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("out", type=Path)
    parser.add_argument("--only", default="")
    parser.add_argument("--per-family", type=int, default=0)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--table", type=Path)
    options = parser.parse_args()
    if options.table:
        write_table(options.out, options.table)
        return
    all_changes, chosen, place = definitions(), {}, {}
    for name, (_, family) in all_changes.items():
        chosen[family] = place[name] = chosen.get(family, 0) + 1
    # The first of every family comes first, so that an interrupted run has seen them all.
    names = sorted((n for n in all_changes if place[n] <= (options.per_family or place[n])), key=place.get)
    if options.only:
        names = options.only.split(",")
    have = set()
    if options.out.exists():
        have = {row["architecture"] for row in csv.DictReader(options.out.open())}
    todo = [name for name in names if name not in have]
    print(f"{len(all_changes)} classifiers; {len(todo)} to examine", flush=True)
    with options.out.open("a", newline="") as file:
        table = csv.DictWriter(file, FIELDS)
        if not have:
            table.writeheader()
        with multiprocessing.Pool(options.jobs, maxtasksperchild=8) as pool:
            for row in pool.imap_unordered(examine, todo):
                table.writerow(row)
                file.flush()
                print(row["architecture"], row["status"], row["difference_of_spread"], row["note"][:150], flush=True)


if __name__ == "__main__":
    main()
