"""The program's first moments: `zygal` and `python -m zygal` both begin here.

Until the command line is read nothing has been written, so an interrupt ends the process at once, without the
pages that an import that was cut off would print.
"""

# The module that is built in: the usual one takes milliseconds to import, in which an interrupt would be shown as a
# traceback.
import _signal as signal
import os
import sys

INTERRUPTED, TERMINATED = 130, 143
"""As in zygal.outcome, which is not imported yet."""


def _end_at_once(number: int, frame) -> None:  # noqa: ARG001
    os.write(2, b"zygal: interrupted; nothing was written.\n")
    os._exit(TERMINATED if number == signal.SIGTERM else INTERRUPTED)


def _watch() -> None:
    for number in (signal.SIGINT, signal.SIGTERM):
        # A process that was started to ignore an interrupt goes on ignoring it.
        if signal.getsignal(number) != signal.SIG_IGN:
            signal.signal(number, _end_at_once)


if sys.argv[:1] and os.path.basename(sys.argv[0]).partition(".")[0] in ("zygal", "__main__"):
    # The program itself, whose first import this is; not somebody who imports the module.
    _watch()


def run() -> None:
    """Runs the program and ends the process with its exit code."""
    _watch()
    from zygal.cli.main import main

    try:
        sys.exit(main())
    except KeyboardInterrupt:  # Between two of the program's own ways of dealing with it.
        _end_at_once(signal.SIGINT, None)


if __name__ == "__main__":
    run()
