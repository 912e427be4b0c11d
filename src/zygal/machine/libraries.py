"""What libraries write of their own accord."""

from __future__ import annotations

import logging
import os
import sys
import warnings
from collections.abc import Iterator
from contextlib import contextmanager, suppress

_verbose = False


def silence_libraries(verbose: bool) -> None:
    """Keeps libraries from writing warnings of their own between our sentences: what matters to the user is said by
    ours.

    Sets levels by name, so that no library is imported. With verbose everything is shown.
    """
    global _verbose
    _verbose = verbose
    if verbose:
        return
    warnings.simplefilter("ignore")
    for name in ("absl", "jax", "matplotlib", "PIL", "tensorflow", "torch"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    os.environ.setdefault("TF_CPP_MIN_LOG_LEVEL", "3")


def silence_loggers(*names: str) -> None:
    """Keeps loggers of these names, and those below them that exist by now, from writing."""
    if _verbose:
        return
    for each in (
        *names,
        *(each for each in logging.root.manager.loggerDict if each.startswith(tuple(f"{name}." for name in names))),
    ):
        logging.getLogger(each).setLevel(logging.CRITICAL + 1)


def installed_version(name: str) -> str | None:
    """Of a package, or None if it is not installed."""
    from importlib.metadata import PackageNotFoundError, version

    try:
        return version(name)
    except PackageNotFoundError:
        return None


@contextmanager
def without_native_messages() -> Iterator[None]:
    """Keeps what a library writes past Python, straight to the error output, from the terminal while it starts."""
    if _verbose:
        yield
        return
    with suppress(OSError, ValueError):
        sys.stderr.flush()
    try:
        kept = os.dup(2)
    except OSError:  # There is no error output.
        yield
        return
    nowhere = os.open(os.devnull, os.O_WRONLY)
    try:
        os.dup2(nowhere, 2)
        yield
    finally:
        os.dup2(kept, 2)
        os.close(kept)
        os.close(nowhere)
