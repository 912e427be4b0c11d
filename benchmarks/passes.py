"""What each rewrite brings: nodes, bytes and time of the artifact with it and without it.

    pip install pytorchcv timm --no-deps huggingface_hub safetensors requests pyyaml; pip install torchvision --no-deps
    python benchmarks/passes.py [ARCHITECTURE,ARCHITECTURE]

For each architecture and each pass, rewrite rule and arrangement that changes it, prints the nodes without it, the
bytes that it saves, and the ratio of the runtime's times (two threads, batches 1 and 4, in turn; above 1 the rewrite
makes it faster). At the end each rewrite with its median and its largest ratio over the architectures that it changes;
one that changes none is named.
"""

import statistics
import sys
import tempfile
import warnings
from pathlib import Path

import torch
from coverage import captured, made, pictures
from in_turn import measured, session
from limits import THREADS, model_of

from zygal.artifact.formats import Writing, write_artifact
from zygal.artifact.onnx import arrange
from zygal.classifier.metadata import Metadata
from zygal.graph import passes
from zygal.graph.passes.rules import Rule
from zygal.sources import read_source

CONVOLUTIONAL = (
    "preresnet18",
    "mobilenetv3_large_w1",
    "shufflenet_g1_w1",
    "densenet121",
    "peleenet",
    "inceptionv3",
    "nasnet_4a1056",
)
OTHERS = (
    "vit_tiny_patch16_224",
    "swin_tiny_patch4_window7_224",
    "pvt_v2_b0",
    "coat_lite_tiny",
    "cait_xxs24_224",
    "levit_128",
    "convnext_tiny",
    "edgenext_xx_small",
    "volo_d1_224",
    "efficientformer_l1",
)
BATCHES, ROUNDS = (1, 4), 9
LISTS = {
    "passes": (passes, "PASSES"),
    "arrangements": (arrange, "ARRANGEMENTS"),
    "last": (arrange, "LAST"),
    "rules": (passes, "RULES"),
}
NEEDED = ("remove_dead", "rewrite_patterns", "orders_meet")
"""Tidying and the frames of other rewrites: nothing else works without them."""


def name_of(each):
    return f"{' '.join(each.chain)} ({each.rewrite.__name__})" if isinstance(each, Rule) else each.__name__


def finished(graph):
    return arrange.arrange(passes.run_passes(graph), Writing())


def without(graph, name):
    """The finished graph without what has a name, wherever it stands."""
    kept = {key: getattr(module, attribute) for key, (module, attribute) in LISTS.items()}
    for key, (module, attribute) in LISTS.items():
        setattr(module, attribute, tuple(each for each in kept[key] if name_of(each) != name))
    try:
        return finished(graph)
    finally:
        for key, (module, attribute) in LISTS.items():
            setattr(module, attribute, kept[key])


def names():
    found = [name_of(each) for module, attribute in LISTS.values() for each in getattr(module, attribute)]
    return [name for name in dict.fromkeys(found) if name not in NEEDED]


def same(one, other):
    """Whether two graphs have the same nodes in the same order, whatever their values are called."""
    return [(node.operator, dict(node.attributes)) for node in one.nodes] == [
        (node.operator, dict(node.attributes)) for node in other.nodes
    ]


def main():
    warnings.simplefilter("ignore")
    chosen = (
        sys.argv[1].split(",") if len(sys.argv) > 1 else (*OTHERS, *CONVOLUTIONAL)
    )  # The other way round a stand-in for a library would be in the way.
    ratios = {name: [] for name in names()}
    for architecture in chosen:
        with tempfile.TemporaryDirectory() as folder, torch.no_grad():
            folder = Path(folder)
            model, size = made(architecture) if architecture in CONVOLUTIONAL else model_of(architecture)
            torch.export.save(captured(model, pictures(2, size, 1), {}), folder / "model.pt2")
            with read_source(folder / "model.pt2") as source:
                everything = finished(source.graph)
                write_artifact(everything, folder / "all.onnx", Metadata())
                print(f"{architecture}: {len(source.graph.nodes)} nodes became {len(everything.nodes)}", flush=True)
                for name in ratios:
                    graph = without(source.graph, name)
                    if same(graph, everything):
                        continue
                    write_artifact(graph, folder / "other.onnx", Metadata())
                    ours, theirs = (session(str(folder / each), THREADS) for each in ("all.onnx", "other.onnx"))
                    feed = [each.get_inputs()[0].name for each in (ours, theirs)]
                    row = []
                    for batch in BATCHES:
                        images = pictures(batch, size, batch).numpy()
                        taken = measured(
                            [
                                lambda a=images: ours.run(None, {feed[0]: a}),
                                lambda a=images: theirs.run(None, {feed[1]: a}),
                            ],
                            ROUNDS,
                        )
                        row.append(statistics.median(taken[:, 1] / taken[:, 0]))
                    ratios[name].append((max(row), architecture))
                    saved = (folder / "other.onnx").stat().st_size - (folder / "all.onnx").stat().st_size
                    print(
                        f"  without {name}: {len(graph.nodes)} nodes, {saved:+} bytes, "
                        + ", ".join(f"{each:.2f}" for each in row),
                        flush=True,
                    )
    print("\nrewrite: architectures changed, median and largest ratio")
    for name, found in ratios.items():
        if found:
            print(
                f"  {name}: {len(found)}, {statistics.median(ratio for ratio, _ in found):.2f}, "
                f"{max(found)[0]:.2f} ({max(found)[1]})"
            )
        else:
            print(f"  {name}: none")


if __name__ == "__main__":
    main()
