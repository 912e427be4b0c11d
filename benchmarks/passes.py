"""What each rewrite brings: nodes, bytes and time of the artifact with it and without it.

    pip install pytorchcv --no-deps requests
    python benchmarks/passes.py

For each architecture and each rewrite that changes it, prints the nodes with and without, and the ratio of
the runtime's times (one thread, batch 1, in turn; above 1 the rewrite makes it faster).
"""

import tempfile
import warnings
from pathlib import Path

import torch
from coverage import captured, made, pictures
from speed_beside_framework import interleaved

from zygal.artifact import Metadata, write_artifact
from zygal.engines.artifact import RuntimeEngine
from zygal.graph import passes
from zygal.graph.passes import rewrites
from zygal.sources import read_source

ARCHITECTURES = ("preresnet18", "mobilenetv3_large_w1", "shufflenet_g1_w1", "densenet121", "xception", "peleenet",
                 "efficientnet_b0", "inceptionv3", "fishnet99", "nasnet_4a1056", "sqnxt23_w1")  # fmt: skip
PASSES = ("share_common", "fold_constants", "constants_second")


def graphs(graph):
    """The finished graph with everything, and without each rewrite and pass by name."""
    yield "everything", passes.run_passes(graph)
    all_changes, all_passes = rewrites.RULES, passes.PASSES
    for rule in all_changes:
        remaining = tuple(each for each in all_changes if each is not rule)
        passes.RULES = remaining
        yield f"{' '.join(rule.chain)} ({rule.rewrite.__name__})", passes.run_passes(graph)
    passes.RULES = all_changes
    for name in PASSES:
        passes.PASSES = tuple(each for each in all_passes if each.__name__ != name)
        yield name, passes.run_passes(graph)
    passes.PASSES = all_passes


def main():
    warnings.simplefilter("ignore")
    torch.set_num_threads(1)
    for architecture in ARCHITECTURES:
        with tempfile.TemporaryDirectory() as name, torch.no_grad():
            folder = Path(name)
            model, size = made(architecture)
            images = pictures(2, size, 1)
            torch.export.save(captured(model, images, {}), folder / "model.pt2")
            with read_source(folder / "model.pt2") as source:
                whole = None
                for place, (left_out, graph) in enumerate(graphs(source.graph)):
                    path = folder / f"{place}.onnx"
                    write_artifact(graph, path, Metadata())
                    if whole is None:
                        whole, all_nodes, all_bytes = RuntimeEngine(path, 1), len(graph.nodes), path.stat().st_size
                        print(f"{architecture}: {len(source.graph.nodes)} nodes became {all_nodes}", flush=True)
                        continue
                    if len(graph.nodes) == all_nodes and abs(path.stat().st_size - all_bytes) < 2000:
                        continue
                    image, other = images[:1].numpy(), RuntimeEngine(path, 1)
                    ours, theirs = interleaved(lambda a=image, e=whole: e.run(a), lambda a=image, e=other: e.run(a))
                    print(f"  without {left_out}: {len(graph.nodes)} nodes, {path.stat().st_size - all_bytes:+} bytes, "
                          f"{theirs / ours:.2f}", flush=True)  # fmt: skip


if __name__ == "__main__":
    main()
