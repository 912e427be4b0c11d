"""What writing a large model as a mobile flatbuffer takes: processor time and peak memory of the whole process.

    python benchmarks/convert_large_mobile.py SOURCE [SOURCE ...]

Beside it the same source as ONNX, in turn, because reading it is most of the work. The limits are 2 s of processor time
for a file of 100 MB, and twice the file plus 100 MB.
"""

import os
import sys
import tempfile
from pathlib import Path

ROUNDS = 3


def measured(source, out):
    """Processor seconds and peak bytes of a process that converts."""
    child = os.fork()
    if not child:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        os.execv(
            sys.executable, [sys.executable, "-m", "zygal", "convert", source, "-o", str(out), "--overwrite", "-q"]
        )
    _, status, used = os.wait4(child, 0)
    if status:
        sys.exit(f"{source} cannot be converted")
    return used.ru_utime + used.ru_stime, used.ru_maxrss * 1024


def main(*sources):
    for source in sources:
        with tempfile.TemporaryDirectory() as folder:
            found = {ending: [] for ending in (".onnx", ".tflite")}
            for _ in range(ROUNDS):
                for ending, each in found.items():
                    each.append(measured(source, Path(folder) / f"m{ending}"))
            size = (Path(folder) / "m.tflite").stat().st_size
        for ending, each in found.items():
            seconds, peak = min(each)[0], max(peak for _, peak in each)
            print(
                f"{Path(source).name} -> {ending}: {seconds:.2f} s of processor time, {peak / 1e6:.0f} MB peak "
                f"(limit {2 * size / 1e6 + 100:.0f} MB)"
            )
        print(f"  the flatbuffer has {size / 1e6:.0f} MB")


if __name__ == "__main__":
    main(*sys.argv[1:])
