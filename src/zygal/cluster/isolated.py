"""Blocks run in a process of its own, which says what it is about to do: an image that kills it is found and left
out."""

from __future__ import annotations

import os
import pickle
import signal
import subprocess
import sys
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from zygal.cluster.kit import Kit, unpack_kit
from zygal.errors import ImageError, ZygalError
from zygal.machine.system import be_ended_first
from zygal.prediction.blocks import Block

WHOLE_BLOCK = -1


@dataclass(frozen=True)
class About:
    """The process is about to read an image of a block, or, at WHOLE_BLOCK, to run the block."""

    block: int
    place: int


@dataclass(frozen=True)
class Result:
    """What the work in the process gave."""

    value: Any


def run_isolated(kit: Kit, paths: dict[str, Path], blocks: Sequence[Block]) -> list[Any]:
    """The results of all blocks. An image whose reading ends the process gets that as its fault; so do all images of a
    block that ends it when it is run. Raises what the work raises."""
    blocks, results = list(blocks), []
    while len(results) < len(blocks):
        found, about, code = _one_process(kit, paths, blocks[len(results) :])
        start = len(results)
        results += found
        if len(results) < len(blocks):
            number = start + (about.block if about else 0)
            blocks[number] = _with_fault(blocks[number], about.place if about else WHOLE_BLOCK, _ending(code))
    return results


def _with_fault(block: Block, place: int, ending: str) -> Block:
    if place == WHOLE_BLOCK:
        return replace(
            block,
            faults={
                each: f"the process that ran its block of {len(block)} images {ending}" for each in range(len(block))
            },
        )
    return replace(block, faults={**block.faults, place: f"the process that decoded it {ending}"})


def _ending(code: int) -> str:
    if code >= 0:
        return f"ended with code {code}"
    with suppress(ValueError):
        name = signal.Signals(-code).name
        return f"was ended by {name}" + (" (perhaps for lack of memory)" if name == "SIGKILL" else "")
    return f"was ended by signal {-code}"


def _one_process(kit: Kit, paths: dict[str, Path], blocks: Sequence[Block]) -> tuple[list[Any], About | None, int]:
    """What one process got done, what it was about to do when it ended, and how it ended. Raises the error of the
    work."""
    process = subprocess.Popen(
        [sys.executable, "-m", "zygal.cluster.isolated"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    results: list[Any] = []
    about = None
    try:
        with suppress(OSError):
            pickle.dump((kit.work, paths, blocks), process.stdin)
            process.stdin.close()
        while True:
            try:
                message = pickle.load(process.stdout)
            except (EOFError, pickle.UnpicklingError):
                return results, about, process.wait()
            if isinstance(message, ZygalError):
                raise message
            if isinstance(message, Result):
                results.append(message.value)
            else:
                about = message
    finally:
        process.kill()
        process.wait()
        process.stdout.close()


def main() -> None:
    """Reads the work and the blocks from standard input, and writes messages to standard output."""
    be_ended_first()
    sent = os.fdopen(os.dup(1), "wb")
    # What libraries print does not belong between the messages.
    os.dup2(2, 1)

    def send(message: Any) -> None:
        pickle.dump(message, sent)
        sent.flush()

    work, paths, blocks = pickle.load(sys.stdin.buffer)
    try:
        _run(unpack_kit(work, paths), blocks, send)
    except ZygalError as fault:
        send(fault)


def _run(work: Any, blocks: Sequence[Block], send: Callable[[Any], None]) -> None:
    classifier = getattr(work, "classifier", None)
    for number, block in enumerate(blocks):
        for place in range(len(block) if classifier else 0):
            if place not in block.faults:
                send(About(number, place))
                with suppress(ImageError):
                    block.read(place, classifier)
        send(About(number, WHOLE_BLOCK))
        send(Result(work(block)))


if __name__ == "__main__":
    from zygal.cluster import isolated

    # The messages are those of the module, not of the program.
    isolated.main()
