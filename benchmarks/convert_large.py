"""Converting a program of about 100 MB, beside what the framework needs to be imported and to load the same file.

    pip install pytorchcv --no-deps requests
    python benchmarks/convert_large.py [NAME]

Whole processes, interleaved. Prints medians, the ratio of the times, and the peak memory over the file's size.
"""

import sys
import tempfile
from pathlib import Path

import torch
from coverage import captured, made, pictures
from startup_and_convert import ZYGAL, interleaved_medians

ROUNDS = 5


def main():
    name = sys.argv[1] if len(sys.argv) > 1 else "resnet50"
    with tempfile.TemporaryDirectory() as folder, torch.no_grad():
        path = Path(folder) / f"{name}.pt2"
        model, size = made(name)
        torch.export.save(captured(model, pictures(2, size, 0), {}), path)
        commands = {
            "zygal convert": [ZYGAL, "convert", str(path), "-o", str(path.with_suffix(".onnx"))],
            "framework load": [sys.executable, "-c", f"import torch; torch.export.load({str(path)!r})"],
        }
        medians = interleaved_medians(commands, folder, ROUNDS)
        megabytes = path.stat().st_size / 1e6
    print(f"{name}: {megabytes:.0f} MB")
    for each, (wall, cpu, peak) in medians.items():
        print(f"{each:16} {wall:7.2f} s wall {cpu:7.2f} s CPU {peak / 1e6:8.0f} MB peak")
    print(f"time: {medians['zygal convert'][0] / medians['framework load'][0]:.2f} of the framework's (wall)")
    peak = medians["zygal convert"][2] / 1e6
    print(f"memory: {peak:.0f} MB where twice the file plus 100 MB is {2 * megabytes + 100:.0f} MB")


if __name__ == "__main__":
    main()
