"""Peak memory of one setting, measured in a process of its own.

    python -m zygal.bench.memory ARTIFACT BATCH THREADS [HEIGHT WIDTH]

prints the largest resident size, in bytes, of a process that loads the artifact and runs it.
"""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import numpy as np

from zygal.errors import BenchError


def peak_memory_bytes(artifact: str | Path, batch: int, threads: int, image_size: tuple[int, int] | None = None) -> int:
    """Python, the runtime and the model together. Raises BenchError if that process fails."""
    command = [sys.executable, "-m", "zygal.bench.memory", str(artifact), str(batch), str(threads)]
    command += map(str, image_size or ())
    done = subprocess.run(command, capture_output=True, text=True)
    if done.returncode or not done.stdout.strip().isdigit():
        why = (done.stderr.strip().splitlines() or [f"it ended with code {done.returncode}"])[-1]
        raise BenchError(f"batch {batch} on {threads} threads cannot be run in a process of its own ({why}).")
    return int(done.stdout)


def main(artifact: str, batch: str, threads: str, *image_size: str) -> None:
    from zygal.engines.runtime import RuntimeEngine

    engine = RuntimeEngine(artifact, int(threads))
    engine.open_sizes = tuple(map(int, image_size)) or None
    # Ones and not zeros: memory that was never written to is not resident.
    tensor = np.ones((int(batch), *engine.image_shape), engine.input_dtype)
    for _ in range(3):
        engine.run(tensor)
    print(_own_peak_bytes())


def _own_peak_bytes() -> int:
    """The largest resident size of this process.

    On Linux the kernel's counter in /proc is read: the one that getrusage gives begins with the size
    of the process that started this one.
    """
    try:
        for line in Path("/proc/self/status").read_text().splitlines():
            if line.startswith("VmHWM:"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass
    import resource

    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    return peak if sys.platform == "darwin" else peak * 1024


if __name__ == "__main__":
    main(*sys.argv[1:])
