"""How near artifacts are to what this processor can do: 40 architectures, sorted by what could still be won.

    pip install timm --no-deps huggingface_hub safetensors pyyaml; pip install torchvision --no-deps
    python benchmarks/limits.py OUT.csv [--only NAME,NAME] [--rounds 7]
    python benchmarks/limits.py OUT.csv --table docs/limits.md

For each architecture and batches 1 and 8, with two threads, in turn within each round: the artifact, the framework's
own eager inference, and probes of the processor: matrix products and convolutions of good sizes in the same runtime.
The limit of a round is the artifact's multiply-adds at the speed of the fastest of those probes in that round, plus the
bytes that its products and convolutions read and write, each value once, at the speed of a large copy. Weights are
random. Rows that OUT.csv has are not made again.
"""

import argparse
import csv
import sys
import tempfile
import warnings
from math import prod
from pathlib import Path

import numpy as np
import onnxruntime
import torch
from coverage import captured, liven, pictures
from in_turn import measured, session
from onnx import TensorProto, helper, numpy_helper

from zygal.conversion.convert import convert
from zygal.graph.arithmetic import COUNTS
from zygal.graph.ops import operator_named
from zygal.graph.shapes import at_batch
from zygal.sources.onnx.translate import artifact_graph

TRANSFORMERS = (
    "vit_tiny_patch16_224",
    "vit_small_patch16_224",
    "deit_tiny_distilled_patch16_224",
    "vit_relpos_small_patch16_224",
    "beit_base_patch16_224",
    "swin_tiny_patch4_window7_224",
    "pvt_v2_b0",
    "coat_lite_tiny",
    "cait_xxs24_224",
    "crossvit_tiny_240",
    "pit_ti_224",
    "levit_128",
    "mobilevit_s",
    "efficientformer_l1",
    "tiny_vit_5m_224",
    "edgenext_xx_small",
    "twins_pcpvt_small",
    "davit_tiny",
    "nest_tiny",
    "coatnet_nano_rw_224",
)
OTHERS = (
    "convnext_tiny",
    "convnext_atto",
    "convformer_s18",
    "mambaout_femto",
    "focalnet_tiny_srf",
    "poolformer_s12",
    "mixer_s16_224",
    "fastvit_t8",
    "repvit_m1",
    "resnet18",
    "resnet50",
    "mobilenetv2_100",
    "mobilenetv3_large_100",
    "efficientnet_b0",
    "regnety_004",
    "densenet121",
    "vgg11",
    "ghostnet_100",
    "dla34",
    "inception_v3",
)
FIELDS = (
    "architecture",
    "kind",
    "batch",
    "artifact_ms",
    "arithmetic_ms",
    "memory_ms",
    "limit_ms",
    "artifact_over_limit",
    "eager_ms",
    "eager_over_artifact",
)
BATCHES, THREADS = (1, 8), 2
REPEATS = 8
"""Of a probe: a processor that wakes up is slow for the first milliseconds."""


def model_of(name):
    """A live model with random weights that all matter, and its image size."""
    # The collection imports a library of operators for detection, of which this machine may only have the Python part.
    if "timm" not in sys.modules:
        library = torch.library.Library("torchvision", "DEF")
        for operator in ("nms", "qnms"):
            library.define(f"{operator}(Tensor dets, Tensor scores, float iou_threshold) -> Tensor")
        model_of.library = library
    import timm

    torch.manual_seed(11)
    model = timm.create_model(name).eval()
    size = tuple(model.default_cfg["input_size"][1:])
    liven(model, size)
    return model, size


def probe(operator, given, weight, **attributes):
    """One operator as a call without arguments, and its multiply-adds."""
    rng = np.random.default_rng(1)
    weights = rng.standard_normal(weight).astype(np.float32) if weight else None
    inputs = ["x", "w"] if weight else ["x"]
    node = helper.make_node(operator, inputs, ["y"], **attributes)
    graph = helper.make_graph(
        [node],
        "probe",
        [helper.make_tensor_value_info("x", TensorProto.FLOAT, given)],
        [helper.make_tensor_value_info("y", TensorProto.FLOAT, None)],
        [numpy_helper.from_array(weights, "w")] if weight else [],
    )
    made = session(
        helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8).SerializeToString(), THREADS
    )
    x = rng.standard_normal(given).astype(np.float32)
    return lambda: [made.run(None, {"x": x}) for _ in range(REPEATS)]


PROBES = {
    "matrix": [
        (lambda: probe("MatMul", [1536, 384], [384, 384]), 1536 * 384 * 384),
        (lambda: probe("MatMul", [512, 384], [384, 768]), 512 * 384 * 768),
        (lambda: probe("MatMul", [1024, 1024], [1024, 1024]), 1024**3),
    ],
    "convolution": [
        (lambda: probe("Conv", [1, 256, 28, 28], [256, 256, 3, 3], pads=[1] * 4), 28 * 28 * 256 * 256 * 9),
        (lambda: probe("Conv", [1, 128, 56, 56], [128, 128, 3, 3], pads=[1] * 4), 56 * 56 * 128 * 128 * 9),
    ],
    "copy": [(lambda: probe("Neg", [16, 1 << 20], None), 2 * 4 * (16 << 20))],
}
"""Of each kind the fastest, by the median of the same rounds, is the peak: sizes at which the runtime reached most."""


def work_of(path, batch):
    """Multiply-adds of products and of convolutions, and the bytes that they read and write, at a batch size."""
    graph, work = artifact_graph(path), {"matrix": 0, "convolution": 0, "bytes": 0}
    sizes = {name: at_batch(type.shape, batch) for name, type in graph.types.items()}
    for node in graph.nodes:
        if node.operator not in COUNTS:
            continue
        attributes = operator_named(node.operator).complete(node.attributes)
        count = COUNTS[node.operator](attributes, sizes[node.inputs[0]], sizes[node.inputs[1]], sizes[node.outputs[0]])
        work["convolution" if node.operator.startswith("Conv") else "matrix"] += count
        work["bytes"] += 4 * sum(prod(sizes[name]) for name in (*node.inputs, *node.outputs) if name)
    return work


def rows_of(name, rounds, probes):
    with tempfile.TemporaryDirectory() as folder, torch.no_grad():
        model, size = model_of(name)
        source, artifact = Path(folder) / "model.pt2", Path(folder) / "model.onnx"
        torch.export.save(captured(model, pictures(2, size, 1), {}), source)
        convert(source, artifact)
        ours = session(str(artifact), THREADS)
        input_name = ours.get_inputs()[0].name
        for batch in BATCHES:
            images = pictures(batch, size, batch)
            array, work = images.numpy(), work_of(artifact, batch)
            runs = [
                lambda a=array: ours.run(None, {input_name: a}),
                lambda i=images: model(i),
                *(run for _, run, _ in probes),
            ]
            taken = measured(runs, rounds if batch > 1 else 2 * rounds)
            speeds = {}
            for place, (kind, _, amount) in enumerate(probes):
                speed = REPEATS * amount / taken[:, 2 + place]
                if kind not in speeds or np.median(speed) > np.median(speeds[kind]):
                    speeds[kind] = speed
            arithmetic = work["matrix"] / speeds["matrix"] + work["convolution"] / speeds["convolution"]
            memory = work["bytes"] / speeds["copy"]
            over, against = np.median(taken[:, 0] / (arithmetic + memory)), np.median(taken[:, 1] / taken[:, 0])
            times = [np.median(each) * 1000 for each in (taken[:, 0], arithmetic, memory, arithmetic + memory)]
            kind = "transformer" if name in TRANSFORMERS else "other"
            figures = (*times, over, np.median(taken[:, 1]) * 1000, against)
            yield dict(zip(FIELDS, (name, kind, batch, *(f"{figure:.4g}" for figure in figures))))


def table(rows):
    """The page: what is left above the limit, most first."""
    rows = sorted(rows, key=lambda row: -float(row["artifact_over_limit"]))
    lines = [
        "# How near artifacts are to the processor's limit",
        "",
        "Made by `benchmarks/limits.py` on a processor with AVX-512 VNNI, two threads, ONNX Runtime "
        + onnxruntime.__version__
        + ", PyTorch "
        + torch.__version__.partition("+")[0]
        + ". The limit is the artifact's multiply-adds at the speed of the fastest of some matrix products and "
        "convolutions in the same runtime, measured in the same rounds, plus what its products and convolutions read "
        "and write, each value once, at the speed of a large copy. It counts no activation functions, normalisations "
        "or softmax. Weights are random. The machine is shared and changes its speed, so all that is divided was "
        "measured in turn.",
        "",
    ]
    for kind, title in (("transformer", "Transformers and hybrids"), ("other", "Others")):
        chosen = [row for row in rows if row["kind"] == kind]
        if not chosen:
            continue
        over, against = ([float(row[key]) for row in chosen] for key in ("artifact_over_limit", "eager_over_artifact"))
        lines += [
            f"## {title}",
            "",
            f"{len({row['architecture'] for row in chosen})} architectures: within 1.25 times the limit "
            f"{sum(each <= 1.25 for each in over)} of {len(over)} settings, geometric mean "
            f"{np.exp(np.mean(np.log(over))):.2f} times; speed relative to eager inference: geometric mean "
            f"{np.exp(np.mean(np.log(against))):.2f}x, lowest {min(against):.2f}x, slower in "
            f"{sum(each < 1 for each in against)} settings.",
            "",
            "| architecture | batch | artifact, ms | multiply-adds, ms | memory, ms | limit, ms | artifact / "
            "limit | eager, ms | eager / artifact |",
            "|---|---|---|---|---|---|---|---|---|",
        ]
        for row in chosen:
            figures = [f"{float(row[key]):.1f}" for key in ("artifact_ms", "arithmetic_ms", "memory_ms", "limit_ms")]
            figures += [
                f"{float(row['artifact_over_limit']):.2f}",
                f"{float(row['eager_ms']):.1f}",
                f"{float(row['eager_over_artifact']):.2f}",
            ]
            lines.append(f"| {row['architecture']} | {row['batch']} | " + " | ".join(figures) + " |")
        lines.append("")
    return "\n".join(lines)


def main():
    warnings.simplefilter("ignore")
    parser = argparse.ArgumentParser()
    parser.add_argument("csv", type=Path)
    parser.add_argument("--only", default=",".join((*TRANSFORMERS, *OTHERS)))
    parser.add_argument("--rounds", type=int, default=7)
    parser.add_argument("--table", type=Path)
    given = parser.parse_args()
    rows = list(csv.DictReader(given.csv.open())) if given.csv.exists() else []
    if given.table:
        given.table.write_text(table(rows))
        return
    torch.set_num_threads(THREADS)
    probes = [(kind, make(), amount) for kind, several in PROBES.items() for make, amount in several]
    for name in given.only.split(","):
        if any(row["architecture"] == name for row in rows):
            continue
        for row in rows_of(name, given.rounds, probes):
            rows.append(row)
            print(" ".join(f"{key}={value}" for key, value in row.items()), flush=True)
        with given.csv.open("w", newline="") as file:
            writer = csv.DictWriter(file, FIELDS)
            writer.writeheader()
            writer.writerows(rows)


if __name__ == "__main__":
    main()
