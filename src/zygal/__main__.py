"""The program's first moments: `zygal` and `python -m zygal` both begin here.

Until the command line is read nothing has been written, so an interrupt ends the process at once, without the
pages that an import that was cut off would print.
"""

import os
import signal
import sys

from zygal.exit_codes import INTERRUPTED, TERMINATED


def _end_at_once(number: int, frame) -> None:
    os.write(2, b"zygal: interrupted; nothing was written.\n")
    os._exit(TERMINATED if number == signal.SIGTERM else INTERRUPTED)


def run() -> None:
    """Runs the program and ends the process with its exit code."""
    for number in (signal.SIGINT, signal.SIGTERM):
        # A process that was started to ignore an interrupt goes on ignoring it.
        if signal.getsignal(number) is not signal.SIG_IGN:
            signal.signal(number, _end_at_once)
    from zygal.cli.main import main

    sys.exit(main())


if __name__ == "__main__":
    run()
