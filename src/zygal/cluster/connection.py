"""The cluster that a user names: a running scheduler, or workers that are started here for one command."""

from __future__ import annotations

import logging
import queue
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import Any

from zygal.errors import ClusterError, first_line, install_extra
from zygal.files.documents import parse_json
from zygal.files.opening import read_bytes
from zygal.machine.libraries import silence_loggers

LOCAL = "local:"
MOST_LOCAL_WORKERS = 256
CONNECT_SECONDS = 10.0
FIRST_WORKER_SECONDS = 60.0
SCHEDULER_FILE = ".json"
_MOST_BYTES = 10_000_000
_SCHEMES = ("tcp://", "tls://", "ucx://", "ws://", "wss://")


def check_address(address: str) -> None:
    """Raises ClusterError unless it is local:N, an address of a scheduler, or the file of one."""
    if address.startswith(LOCAL):
        _local_workers(address)
    elif address.endswith(SCHEDULER_FILE):
        scheduler_address(address)
    elif not address.startswith(_SCHEMES) or not address.partition("://")[2]:
        raise ClusterError(
            f"--cluster {address} is no cluster; give the address of a scheduler, like tcp://HOST:8786, the "
            f".json file that it wrote, or local:N for N workers here."
        )


def scheduler_address(address: str) -> str:
    """What a user named, as an address: of a scheduler's own file (`dask scheduler --scheduler-file FILE.json`) the one
    in it. Raises FileError or ClusterError."""
    if not address.endswith(SCHEDULER_FILE):
        return address
    found = parse_json(read_bytes(address, "a scheduler's file", _MOST_BYTES), address, ClusterError).get("address")
    if not isinstance(found, str) or not found.startswith(_SCHEMES):
        raise ClusterError(
            f"{address} is not the file of a scheduler; give the one that dask scheduler --scheduler-file wrote."
        )
    return found


@contextmanager
def connected(address: str) -> Iterator[Any]:
    """A client of the engine, with at least one worker. Raises ClusterError."""
    check_address(address)
    try:
        import dask
        from distributed import Client, LocalCluster
    except ImportError as fault:
        raise ClusterError(
            f"--cluster needs the package distributed, which is not installed; {install_extra('cluster')}."
        ) from fault
    silence_loggers("distributed", "tornado", "asyncio")
    # The engine keeps the last messages of every connection, here with the names of images in them.
    settings = {
        "distributed.comm.timeouts.connect": f"{CONNECT_SECONDS}s",
        "distributed.worker.profile.enabled": False,
        "distributed.admin.low-level-log-length": 10,
    }
    with dask.config.set(settings):
        if not address.startswith(LOCAL):
            where = scheduler_address(address)
            _check_certificates(where)
            yield from _client(Client, where, address)
            return
        try:
            cluster = LocalCluster(
                n_workers=_local_workers(address),
                threads_per_worker=1,
                processes=True,
                dashboard_address="127.0.0.1:0",
                silence_logs=logging.CRITICAL,
                host="127.0.0.1",
                memory_limit=0,
                preload=["zygal.cluster.local_worker"],
            )
        except Exception as fault:  # Ports, processes or memory that the system does not give.
            raise ClusterError(
                f"the workers of --cluster {address} cannot be started ({first_line(fault)})."
            ) from fault
        try:
            yield from _client(Client, cluster, address)
        finally:
            with suppress(Exception):
                cluster.close(timeout=10)


def _check_certificates(address: str) -> None:
    from distributed.security import Security

    if address.startswith("tls://") and Security().get_connection_args("client").get("ssl_context") is None:
        raise ClusterError(
            f"{address} needs certificates; name them in the configuration of the engine (distributed.comm.tls)."
        )


def _client(make: Any, where: Any, address: str) -> Iterator[Any]:
    try:
        client = _within(2 * CONNECT_SECONDS, lambda: make(where, timeout=f"{CONNECT_SECONDS}s", set_as_default=False))
    except (OSError, TimeoutError) as fault:
        raise ClusterError(
            f"no scheduler answers at {address} ({first_line(fault).rstrip('?')}); start one there, or check "
            f"the address."
        ) from fault
    except Exception as fault:  # Certificates, other protocols, other releases of the engine.
        raise ClusterError(
            f"the scheduler at {address} cannot be used ({first_line(fault)}); check the address and the "
            f"configuration of the engine."
        ) from fault
    try:
        try:
            client.wait_for_workers(1, timeout=FIRST_WORKER_SECONDS)
        except Exception as fault:
            raise ClusterError(
                f"the scheduler at {address} has no workers after {FIRST_WORKER_SECONDS:g} s; start some."
            ) from fault
        yield client
    finally:
        with suppress(Exception):
            client.close(timeout=5)


def _within(seconds: float, start: Callable[[], Any]) -> Any:
    """What a call gives within a time: the engine waits without end for a server that speaks another protocol. Raises
    TimeoutError, and what the call raises."""
    found: queue.Queue[tuple[Any, Exception | None]] = queue.Queue()

    def run() -> None:
        try:
            found.put((start(), None))
        except Exception as fault:
            found.put((None, fault))

    threading.Thread(target=run, daemon=True).start()
    try:
        client, fault = found.get(timeout=seconds)
    except queue.Empty:
        raise TimeoutError(f"what listens there does not answer within {seconds:g} s") from None
    if fault is not None:
        raise fault
    return client


def _local_workers(address: str) -> int:
    count = address.removeprefix(LOCAL)
    if not count.isdecimal() or not 1 <= int(count) <= MOST_LOCAL_WORKERS:
        raise ClusterError(
            f"--cluster {address} needs a number of workers from 1 to {MOST_LOCAL_WORKERS}, like local:4."
        )
    return int(count)
