"""How long a traced archive takes to read beside the captured program of the same network, and how much memory.

`python benchmarks/scripted_reading.py TRACED CAPTURED [--shape 3,224,224] [--framework PYTHON]`: both are converted in
processes of their own, in turn; with the interpreter of an environment of PyTorch, its import and load of the archive
are timed in the same turns.
"""

import argparse
import resource
import subprocess
import sys
import tempfile
from pathlib import Path
from statistics import median

TURNS = 5
READ = (
    "from zygal.sources import read_source, Reading\nwith read_source(FILE, reading=Reading(image_shape=SHAPE)): pass"
)
CONVERT = (
    "from zygal.conversion.convert import Choices, convert\n"
    "convert(FILE, OUT, choices=Choices(image_shape=SHAPE, any_shape=True))"
)
LOAD = "import torch\ntorch.jit.load(FILE)"


def processor_seconds(python: str, code: str) -> float:
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run([python, "-c", code], check=True, capture_output=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def peak(code: str) -> int:
    """Bytes of a process at its largest."""
    measured = f"{code}\nimport resource\nprint(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024)"
    return int(subprocess.run([sys.executable, "-c", measured], check=True, capture_output=True, text=True).stdout)


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("traced")
    parser.add_argument("captured")
    parser.add_argument("--shape", default="3,224,224")
    parser.add_argument("--framework")
    given = parser.parse_args()
    shape = tuple(map(int, given.shape.split(",")))
    with tempfile.TemporaryDirectory() as folder:
        out = repr(str(Path(folder) / "m.onnx"))

        def code(text: str, file: str) -> str:
            wanted = repr(shape) if file == given.traced else "None"
            return text.replace("FILE", repr(file)).replace("SHAPE", wanted).replace("OUT", out)

        tasks = {
            "read traced": (sys.executable, code(READ, given.traced)),
            "read captured": (sys.executable, code(READ, given.captured)),
            "convert traced": (sys.executable, code(CONVERT, given.traced)),
        }
        if given.framework:
            tasks["framework loads"] = (given.framework, code(LOAD, given.traced))
        found = {name: [] for name in tasks}
        for _ in range(TURNS):
            for name, task in tasks.items():
                found[name].append(processor_seconds(*task))
        for name, seconds in found.items():
            print(f"{name}: {median(seconds):.2f} s of processor time")
        size = Path(given.traced).stat().st_size
        print(f"convert traced: peak {peak(code(CONVERT, given.traced)) / 1e6:.0f} MB, file {size / 1e6:.0f} MB")
    return 0


if __name__ == "__main__":
    sys.exit(main())
