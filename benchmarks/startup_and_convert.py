"""Start-up and conversion as whole processes, beside what importing the framework alone costs.

    python benchmarks/startup_and_convert.py

Prints medians of wall and CPU time, peak memory, and the ratio to `import torch` in the same run,
and checks that converting imports no framework.
"""

import json
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

from zygal.demo.workspace import write_workspace

ZYGAL = str(Path(sys.executable).with_name("zygal"))
ROUNDS = 7


# The kernel starts a process's largest size with that of the process that started it, so a small one starts it.
LAUNCHER = """
import json, os, subprocess, sys, time
started = time.perf_counter()
process = subprocess.Popen(sys.argv[1:], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
_, status, usage = os.wait4(process.pid, 0)
print(json.dumps([time.perf_counter() - started, usage.ru_utime + usage.ru_stime, usage.ru_maxrss * 1024, status]))
"""


def run_once(command, folder):
    """Wall seconds, CPU seconds and peak resident bytes of one process."""
    launch = [sys.executable, "-S", "-c", LAUNCHER, *command]
    *reading, status = json.loads(subprocess.run(launch, cwd=folder, capture_output=True, text=True).stdout)
    if status:
        raise SystemExit(f"{command} failed")
    return reading


def interleaved_medians(commands, folder, rounds):
    """The medians of `run_once` for each command by name, run in turn forwards and backwards."""
    readings = {name: [] for name in commands}
    order = list(commands)
    for _ in range(rounds):
        for name in order:
            readings[name].append(run_once(commands[name], folder))
        order.reverse()
    return {name: [statistics.median(column) for column in zip(*rows)] for name, rows in readings.items()}


def main():
    commands = {
        "python -c pass": [sys.executable, "-c", "pass"],
        "zygal --help": [ZYGAL, "--help"],
        "zygal convert": [ZYGAL, "convert", "channel_marks.pt2", "-o", "channel_marks.onnx"],
        "import torch": [sys.executable, "-c", "import torch"],
    }
    with tempfile.TemporaryDirectory() as folder:
        write_workspace(folder)
        for command in commands.values():
            run_once(command, folder)
        medians = interleaved_medians(commands, folder, ROUNDS)
        traced = [sys.executable, "-X", "importtime", "-m", "zygal", *commands["zygal convert"][1:]]
        imports = subprocess.run(traced, cwd=folder, capture_output=True, text=True).stderr
    print(f"{'':16} {'wall s':>8} {'CPU s':>8} {'peak MB':>8}   (medians of {ROUNDS}, interleaved)")
    for name, (wall, cpu, peak) in medians.items():
        print(f"{name:16} {wall:8.3f} {cpu:8.3f} {peak / 1e6:8.1f}")
    ratio = medians["zygal convert"][0] / medians["import torch"][0]
    print(f"zygal convert takes {ratio:.2f} of the time that `import torch` alone takes")
    frameworks = [name for name in ("torch", "keras", "tensorflow", "jax") if f" {name}\n" in imports]
    print(f"frameworks imported by convert: {', '.join(frameworks) or 'none'}")


if __name__ == "__main__":
    main()
