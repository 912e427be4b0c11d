"""Classifiers that are served: a client of the open inference protocol, version 2, over HTTP."""

from __future__ import annotations

from typing import Any

from zygal.errors import EndpointError
from zygal.request import option

TIMEOUT_SECONDS = 10.0
"""For one answer, unless a user says otherwise."""


def check_timeout(seconds: float) -> None:
    """Raises EndpointError for a time in which nothing can be answered."""
    if seconds <= 0:
        raise EndpointError(f"--timeout must be more than 0 s (got {seconds:g}).")


def endpoint_option(verb: str) -> Any:
    """The option that names a service, in a request. verb: what is done with it."""
    return option(
        f"{verb} a service of the open inference protocol, version 2: http://HOST:PORT/v2/models/NAME, perhaps with "
        "/versions/VERSION",
        None,
        metavar="URL",
        configurable=False,
    )


def timeout_option() -> Any:
    """The option that limits the time for one answer, in a request that has `endpoint`."""
    return option(
        "with --endpoint: how long to wait for one answer (default: {default})",
        TIMEOUT_SECONDS,
        metavar="10s",
        kind="seconds",
        needs="endpoint",
    )
