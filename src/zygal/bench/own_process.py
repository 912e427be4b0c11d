"""Start-up and peak memory of one setting, measured in a process of its own.

    python -m zygal.bench.own_process '{"artifact": ..., "shapes": {...}, ...}'

prints them as JSON.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from dataclasses import asdict, dataclass

import numpy as np

from zygal.bench.feeds import Feeds
from zygal.bench.settings import Setting
from zygal.errors import BenchError
from zygal.machine.usage import peak_bytes


@dataclass(frozen=True)
class OwnProcess:
    """peak_bytes: the largest resident size of the process; base_bytes: before the artifact was loaded, so Python and
    the runtime. session_seconds: to load the artifact. first_run_seconds: the first run after that."""

    peak_bytes: int
    base_bytes: int
    session_seconds: float
    first_run_seconds: float


def in_own_process(feeds: Feeds, setting: Setting) -> OwnProcess:
    """Raises BenchError if that process fails."""
    task = {"artifact": str(feeds.artifact), "shapes": feeds.shapes_of(setting.batch)} | asdict(setting)
    command = [sys.executable, "-m", "zygal.bench.own_process", json.dumps(task)]
    done = subprocess.run(command, capture_output=True, text=True)
    try:
        return OwnProcess(**json.loads(done.stdout))
    except (ValueError, TypeError):
        why = (done.stderr.strip().splitlines() or [f"it ended with code {done.returncode}"])[-1]
        raise BenchError(
            f"batch {setting.batch} on {setting.threads} threads cannot be run in a separate process ({why})."
        ) from None


def main(task: dict) -> OwnProcess:
    """What the process does: loads an artifact, runs it, and reports times and memory."""
    from zygal.engines.session import SessionSettings, import_runtime, open_session

    import_runtime(task["artifact"])
    # Ones and not zeros: memory that was never written to is not resident.
    feed = {name: np.ones(shape, dtype) for name, (shape, dtype) in task["shapes"].items()}
    base = peak_bytes() - sum(array.nbytes for array in feed.values())
    began = time.perf_counter()
    session = open_session(task["artifact"], SessionSettings(task["threads"], task["level"], task["execution"]), True)
    opened = time.perf_counter()
    session.run(None, feed)
    ran = time.perf_counter()
    for _ in range(2):
        session.run(None, feed)
    return OwnProcess(peak_bytes(), base, opened - began, ran - opened)


if __name__ == "__main__":
    print(json.dumps(asdict(main(json.loads(sys.argv[1])))))
