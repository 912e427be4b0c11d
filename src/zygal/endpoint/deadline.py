"""Connections of which each exchange, from the request to the last byte of the answer, has one deadline.

A time limit of a read begins anew with each byte: a service that sends a line of a header drop by drop, or one interim
answer after the other, would never reach it.
"""

from __future__ import annotations

import socket
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

_current = threading.local()


class _Exchange:
    """One exchange of one thread. over: whether its time was up before it was done."""

    def __init__(self) -> None:
        self.socket: Any = None
        self.over = False

    def end(self) -> None:
        """Whatever waits for this connection, in whatever state, waits no more."""
        self.over = True
        with suppress(OSError, AttributeError):  # It is closed already, or was never made.
            self.socket.shutdown(socket.SHUT_RDWR)


@contextmanager
def deadline(seconds: float) -> Iterator[_Exchange]:
    """What this thread asks in the block has ended after so many seconds, with an error of the connection or of the
    answer; see `over`."""
    exchange = _current.exchange = _Exchange()
    timer = threading.Timer(seconds, exchange.end)
    timer.daemon = True
    timer.start()
    try:
        yield exchange
    finally:
        timer.cancel()
        _current.exchange = None


def pool(**settings: Any) -> Any:
    """A pool of connections that keep the deadline of the thread that uses them. settings: of urllib3.PoolManager."""
    import urllib3
    from urllib3.connection import HTTPConnection, HTTPSConnection

    def watched(kind: type) -> type:
        class Watched(kind):
            def _new_conn(self):
                made = super()._new_conn()
                _watch(made)
                return made

            def request(self, *arguments, **named):
                # Of a connection that is used again.
                _watch(self.sock)
                return super().request(*arguments, **named)

        return Watched

    class Plain(urllib3.HTTPConnectionPool):
        ConnectionCls = watched(HTTPConnection)

    class Encrypted(urllib3.HTTPSConnectionPool):
        ConnectionCls = watched(HTTPSConnection)

    made = urllib3.PoolManager(**settings)
    made.pool_classes_by_scheme = {"http": Plain, "https": Encrypted}
    return made


def _watch(connection: Any) -> None:
    exchange = getattr(_current, "exchange", None)
    if exchange is None or connection is None:
        return
    exchange.socket = connection
    if exchange.over:
        exchange.end()
