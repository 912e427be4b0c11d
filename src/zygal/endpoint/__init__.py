"""Classifiers that are served: a client of the open inference protocol, version 2, over HTTP."""

from __future__ import annotations

from zygal.errors import EndpointError

TIMEOUT_SECONDS = 10.0
"""For one answer, unless a user says otherwise."""


def check_timeout(seconds: float) -> None:
    """Raises EndpointError for a time in which nothing can be answered."""
    if seconds <= 0:
        raise EndpointError(f"--timeout must be more than 0 s (got {seconds:g}).")
