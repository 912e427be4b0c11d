"""Loads an artifact and runs it once, in the process that `first_run` starts for it.

python -m zygal.engines.alone ARTIFACT
"""

from __future__ import annotations

import sys
from contextlib import suppress

import numpy as np

from zygal.engines.session import SessionSettings, open_session
from zygal.machine.system import write_no_core_dumps

_UNKNOWN_SIZE = 8


def main(path: str) -> None:
    """What the process does; whatever the runtime complains of is said by the one that asked."""
    write_no_core_dumps()
    session = open_session(path, SessionSettings(1), tried=True)
    feed = {
        port.name: np.zeros(
            [size if isinstance(size, int) else 1 if not at else _UNKNOWN_SIZE for at, size in enumerate(port.shape)],
            port.dtype or "float32",
        )
        for port in session.inputs
    }
    session.run(None, feed)


if __name__ == "__main__":
    with suppress(Exception):
        main(sys.argv[1])
