"""An artifact of others, loaded and run once in a process of its own: a runtime that a file crashes takes that process
with it, and no more.

python -m zygal.engines.first_run ARTIFACT
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from contextlib import suppress
from pathlib import Path

from zygal.errors import ArtifactError
from zygal.files.opening import state_of

LONGEST_SECONDS = 300
ROOT = Path(__file__).resolve().parents[2]
_tried: set[tuple] = set()
"""The states of files that were tried."""


def try_first(path: str | Path) -> None:
    """Runs an artifact once elsewhere, unless it was before and has not changed since. Raises ArtifactError if that
    ends the process or has no end."""
    key = state_of(path)
    if key in _tried:
        return
    environment = {
        **os.environ,
        "PYTHONPATH": os.pathsep.join([str(ROOT), *filter(None, [os.environ.get("PYTHONPATH")])]),
    }
    try:
        done = subprocess.run(
            [sys.executable, "-m", "zygal.engines.alone", str(path)],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env=environment,
            timeout=LONGEST_SECONDS,
            check=False,
        )
    except subprocess.TimeoutExpired as fault:
        raise ArtifactError(
            f"{path} does not finish one image in {LONGEST_SECONDS} s; it is damaged, or too large for this machine."
        ) from fault
    if done.returncode < 0 or done.returncode >= 128:
        number = -done.returncode if done.returncode < 0 else done.returncode - 128
        with suppress(ValueError):
            number = signal.Signals(number).name
        raise ArtifactError(
            f"{path} crashes the runtime ({number}), so it is not run; it is damaged, or the runtime has a "
            f"fault: try another release of it."
        )
    _tried.add(key)
