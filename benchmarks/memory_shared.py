"""Memory of processes that run one artifact, with its weights inside and beside it.

    pip install pytorchcv --no-deps requests
    python benchmarks/memory_shared.py [PROCESSES]

For each network: the size of the weights; for one process the highest resident memory while the session is opened and
run once, less that of a process that opens the demo's smallest artifact; and for so many processes at once the memory
of all together, with what is shared counted once (the proportional set size of the system), per process and less the
same. Weights are random. Linux alone.
"""

import subprocess
import sys
import tempfile
import warnings
from pathlib import Path

import torch
from coverage import captured, made, pictures
from torch import nn

from zygal.conversion.convert import Choices, convert

NETWORKS = ("resnet50", "vgg11", "mobilenetv2_w1")
CHILD = """
import sys
import numpy as np
from zygal.engines.artifact import RuntimeEngine

engine = RuntimeEngine(sys.argv[1], 1)
engine.run(np.zeros((1, *engine.input_shape[1:]), np.float32))
print("ready", flush=True)
sys.stdin.read()
"""


class Small(nn.Module):
    """As little as an artifact can hold: what a process needs without weights."""

    def __init__(self):
        super().__init__()
        self.layer = nn.Conv2d(3, 4, 3)

    def forward(self, x):
        return self.layer(x).mean((2, 3))


def started(path):
    child = subprocess.Popen(
        [sys.executable, "-c", CHILD, path], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert child.stdout.readline().strip() == "ready"
    return child


def kilobytes(pid, file, key):
    lines = Path(f"/proc/{pid}/{file}").read_text().splitlines()
    return int(next(line.split()[1] for line in lines if line.startswith(f"{key}:")))


def measured(path, processes):
    """Megabytes: the peak of one process, and the share of each of several."""
    child = started(path)
    peak = kilobytes(child.pid, "status", "VmHWM")
    child.communicate()
    children = [started(path) for _ in range(processes)]
    together = sum(kilobytes(each.pid, "smaps_rollup", "Pss") for each in children)
    for each in children:
        each.communicate()
    return peak / 1e3, together / processes / 1e3


def main():
    processes = int(sys.argv[1]) if len(sys.argv) > 1 else 8
    warnings.simplefilter("ignore")
    with tempfile.TemporaryDirectory() as folder, torch.no_grad():
        folder = Path(folder)
        torch.export.save(captured(Small().eval(), pictures(2, (32, 32), 1), {}), folder / "small.pt2")
        convert(folder / "small.pt2", folder / "small.onnx")
        empty = measured(folder / "small.onnx", processes)
        print(f"a process without weights: peak {empty[0]:.0f} MB, share of {processes} processes {empty[1]:.0f} MB")
        for name in NETWORKS:
            model, size = made(name)
            torch.export.save(captured(model, pictures(2, size, 1), {}), folder / "m.pt2")
            for beside in (False, True):
                found = convert(folder / "m.pt2", folder / "m.onnx", choices=Choices(weights_beside=beside))
                weights = 4 * found.parameters / 1e6
                peak, share = (one - none for one, none in zip(measured(folder / "m.onnx", processes), empty))
                print(
                    f"{name:16} weights {weights:4.0f} MB {'beside' if beside else 'inside'}: peak {peak:4.0f} MB "
                    f"({peak / weights:.2f} of the weights), share of {processes} processes {share:4.0f} MB "
                    f"({share / weights:.2f})",
                    flush=True,
                )


if __name__ == "__main__":
    main()
