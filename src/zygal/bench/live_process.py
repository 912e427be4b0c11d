"""A live model in a process of its own, as a user would run it: what the artifact's sessions leave behind in memory,
and their threads, change nothing about it. It runs and times one call for each line that it is sent.

    python -m zygal.bench.live_process '{"source": ..., "weights": ..., "shape": [...], "way": ...}'
"""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any, TextIO

import numpy as np

from zygal.bench.measure import Elapsed
from zygal.errors import BenchError, ZygalError
from zygal.files.writing import scratch_folder

WAYS = {
    "module": "the module itself, evaluation mode, no gradients",
    "captured": "the captured program, no gradients",
    "called": "the captured program, call by call, no gradients",
    "archive": "the scripted or traced archive, no gradients",
    "compiled": "compiled prediction on a batch",
    "eager": "layer by layer, not compiled",
}
"""What the ways to run a live model are, for the reader of a table."""


PATIENCE_SECONDS = 20.0


class LiveProcess:
    """The other end. name: what the user called the model. about: what it said of itself when it was ready."""

    def __init__(self, name: str, process: subprocess.Popen, folder: Path):
        self.name, self._process, self._folder = name, process, folder
        self.process_id = process.pid
        self.about = self._answer()
        self._sent: set[int] = set()

    def prepare(self, batch: np.ndarray) -> None:
        """Hands a batch over, once for each size. Raises BenchError if the model does not take it."""
        size = len(batch)
        if size not in self._sent:
            np.save(self._folder / f"{size}.npy", batch)
            self._sent.add(size)
            self._ask("load", size)

    def call(self, size: int, threads: int) -> Callable[[], Elapsed]:
        """One call with a batch of that size that was handed over."""
        line = json.dumps(["run", size, threads]) + "\n"

        def run() -> Elapsed:
            self._write(line)
            return Elapsed(self._answer()["seconds"])

        return run

    def _ask(self, *words: Any) -> dict[str, Any]:
        self._write(json.dumps(words) + "\n")
        return self._answer()

    def _write(self, line: str) -> None:
        try:
            self._process.stdin.write(line)
            self._process.stdin.flush()
        except OSError as fault:
            raise BenchError(f"the process that runs {self.name} ended unexpectedly.") from fault

    def _answer(self) -> dict[str, Any]:
        line = self._process.stdout.readline()
        if not line:
            raise BenchError(f"the process that runs {self.name} ended unexpectedly (code {self._process.wait()}).")
        answer = json.loads(line)
        if "error" in answer:
            raise BenchError(answer["error"])
        return answer


@contextmanager
def live_process(source: str, weights: str | None, shape: tuple[int, ...], way: str | None) -> Iterator[LiveProcess]:
    """Starts the process, and ends it afterwards. Raises BenchError with what the model's reader says."""
    task = {"source": source, "weights": weights, "shape": list(shape), "way": way}
    with scratch_folder() as folder:
        command = [sys.executable, "-m", "zygal.bench.live_process", json.dumps(task | {"folder": str(folder)})]
        process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
        try:
            yield LiveProcess(source, process, folder)
        finally:
            # At the end of its input it ends by itself, and removes its temporary files.
            with suppress(OSError):
                process.stdin.close()
            try:
                process.wait(PATIENCE_SECONDS)
            except subprocess.TimeoutExpired:
                process.terminate()
                process.wait()


def _serve(task: dict[str, Any], answers: TextIO) -> None:
    from zygal.engines.live import open_live_engine
    from zygal.machine.libraries import silence_libraries
    from zygal.sources.opened import source_file

    def answer(**values: Any) -> None:
        answers.write(json.dumps(values) + "\n")
        answers.flush()

    silence_libraries(False)
    try:
        with source_file(task["source"], task["weights"], tuple(task["shape"]), "--compare") as source:
            engine = open_live_engine(source, image_shape=tuple(task["shape"]))
            way = task["way"] or engine.ways[0]
            if way not in engine.ways:
                raise BenchError(
                    f"--compare-as {way} does not apply to {source.name}; it can be run as {' or '.join(engine.ways)}."
                )
            answer(
                framework=f"{engine.name} {engine.version}",
                way=way,
                notes=list(source.notes),
                batch_size=engine.batch_size,
                keeps_threads=engine.use_threads(1),
            )
            calls: dict[int, Callable[[], object]] = {}
            for line in sys.stdin:
                word, size, *rest = json.loads(line)
                if word == "load":
                    batch = np.load(Path(task["folder"]) / f"{size}.npy")
                    engine.run(batch)
                    calls[size] = engine.prepared(batch, way)
                    answer()
                    continue
                engine.use_threads(rest[0])
                call = calls[size]
                began = time.perf_counter()
                call()
                answer(seconds=time.perf_counter() - began)
    except ZygalError as fault:
        answer(error=str(fault))


def main() -> None:
    """What the process does: runs a trained model as it is told, line by line."""
    # The parent says when it ends; what the user's code prints is no answer.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(1))
    answers = os.fdopen(os.dup(1), "w")
    os.dup2(2, 1)
    _serve(json.loads(sys.argv[1]), answers)


if __name__ == "__main__":
    main()
