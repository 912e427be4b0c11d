"""A scheduler and workers as processes of their own, for scripts that end some of them."""

import os
import signal
import socket
import subprocess
import sys
import time
from contextlib import suppress

import psutil


def free_port():
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


class Cluster:
    """A scheduler on one port for good, and workers, each with a process that watches over it."""

    def __init__(self, workers, port=None, nanny=True):
        self.count, self.port, self.nanny = workers, port or free_port(), nanny
        self.scheduler, self.workers = None, []

    @property
    def address(self):
        return f"tcp://127.0.0.1:{self.port}"

    def start(self):
        """Starts what does not run."""
        if self.scheduler is None or self.scheduler.poll() is not None:
            self.scheduler = self._process(
                "dask_scheduler", "--host", "127.0.0.1", "--port", str(self.port), "--no-dashboard"
            )
            deadline = time.monotonic() + 60
            while time.monotonic() < deadline:
                with socket.socket() as probe:
                    if probe.connect_ex(("127.0.0.1", self.port)) == 0:
                        break
                time.sleep(0.1)
        self.workers = [each for each in self.workers if each.poll() is None]
        while len(self.workers) < self.count:
            self.workers.append(
                self._process(
                    "dask_worker",
                    self.address,
                    "--nthreads",
                    "1",
                    "--no-dashboard",
                    "--host",
                    "127.0.0.1",
                    "--memory-limit",
                    "0",
                    "--nanny" if self.nanny else "--no-nanny",
                )
            )

    def _process(self, module, *arguments):
        return subprocess.Popen(
            [sys.executable, "-m", f"distributed.cli.{module}", *arguments],
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            start_new_session=True,
        )

    def worker_processes(self):
        """The processes that do the work: the children of those that watch, or the workers themselves."""
        if not self.nanny:
            return [each.pid for each in self.workers if each.poll() is None]
        return [child for each in self.workers for child in children(each.pid)]

    def stop(self):
        for each in [*self.workers, self.scheduler]:
            if each is not None:
                with suppress(ProcessLookupError):
                    os.killpg(each.pid, signal.SIGKILL)
                each.wait()


def children(pid):
    try:
        found = psutil.Process(pid).children()
        # The engine's helper that frees shared memory is no worker.
        return [each.pid for each in found if not any("resource_tracker" in word for word in each.cmdline())]
    except psutil.Error:
        return []
