"""The artifact on the runtime beside the framework's own eager inference, on two dozen architectures.

    pip install pytorchcv --no-deps requests
    python benchmarks/speed_beside_framework.py [THREADS]

Both sides have the same threads and the same inputs and run in turn (A B B A) in one process. Prints the
ratio of the medians for batches 1 and 8, and their geometric mean.
"""

import sys
import tempfile
import warnings
from pathlib import Path

import numpy as np
import torch
from coverage import captured, made, pictures
from in_turn import interleaved

from zygal.conversion.convert import convert
from zygal.engines.artifact import RuntimeEngine

ARCHITECTURES = (
    "resnet18",
    "resnet50",
    "preresnet18",
    "seresnet18",
    "resnext14_32x4d",
    "densenet121",
    "vgg11",
    "alexnet",
    "squeezenet_v1_1",
    "shufflenetv2_w1",
    "mobilenet_w1",
    "mobilenetv2_w1",
    "mobilenetv3_large_w1",
    "efficientnet_b0",
    "mnasnet_b1",
    "ghostnet",
    "regnetx002",
    "regnety004",
    "inceptionv3",
    "xception",
    "hrnet_w18_small_v1",
    "dla34",
    "peleenet",
    "vovnet27s",
    "mixnet_s",
    "igcv3_w1",
)


def main():
    threads = int(sys.argv[1]) if len(sys.argv) > 1 else 2
    torch.set_num_threads(threads)
    warnings.simplefilter("ignore")
    ratios = []
    with tempfile.TemporaryDirectory() as folder, torch.inference_mode(False), torch.no_grad():
        for name in ARCHITECTURES:
            model, size = made(name)
            path = Path(folder) / f"{name}.pt2"
            batches = {batch: pictures(batch, size, batch) for batch in (1, 8)}
            torch.export.save(captured(model, batches[8], {}), path)
            model, _ = made(name)
            convert(path, path.with_suffix(".onnx"))
            engine = RuntimeEngine(path.with_suffix(".onnx"), threads)
            row = []
            for images in batches.values():
                array = images.numpy()
                ours, theirs = interleaved(lambda a=array, e=engine: e.run(a), lambda i=images, m=model: m(i))
                row.append(theirs / ours)
            ratios += row
            print(f"{name:24} batch 1: {row[0]:5.2f}x   batch 8: {row[1]:5.2f}x", flush=True)
            path.unlink()
    print(
        f"{len(ARCHITECTURES)} architectures, {threads} threads: geometric mean "
        f"{np.exp(np.mean(np.log(ratios))):.2f}x, lowest {min(ratios):.2f}x"
    )


if __name__ == "__main__":
    main()
