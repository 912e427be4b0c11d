"""From image files to scores: the time of each stage, and the gain of overlapping the stages."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from zygal.bench.measure import Effort, measure, paired
from zygal.errors import BenchError, ImageError
from zygal.inlet import Inlet, apply_to_all
from zygal.inlet.apply import in_order, pictures, raw_pixels
from zygal.inlet.decode import open_image
from zygal.inlet.frame import as_array
from zygal.inlet.values import to_tensor
from zygal.machine.processor import allowed_cores
from zygal.statistics.quantiles import Ratio, ratio_of

ALONE = "pipeline"
STAGES = ("decode", "frame", "values", "inference")
PASS_SECONDS, MOST_IMAGES = 0.4, 512


@dataclass(frozen=True)
class Pipeline:
    """stages: the median seconds per image of each, one after another on one thread but for the inference. images: how
    many files a pass takes. sequential: images per second, with inference on `threads`. overlapped: images per second,
    by the threads of the inference, while the inlet works on `inlet_threads`. gain: how many times as fast the best of
    these is. unread: files that are no images, with the reason."""

    batch: int
    threads: int
    inlet_threads: int
    images: int
    stages: dict[str, float]
    sequential: float
    overlapped: dict[int, float]
    gain: Ratio | None
    unreadable: tuple[tuple[str, str], ...]
    interrupted: bool

    @property
    def best(self) -> int:
        """The threads of the inference with which overlapping brings most."""
        return max(self.overlapped, key=self.overlapped.get)

    def share(self, stage: str) -> float:
        """The part of the time that a stage takes."""
        return self.stages[stage] / sum(self.stages.values())


def measure_pipeline(
    paths: Sequence[Path],
    inlet: Inlet,
    infer: Mapping[int, Callable[[np.ndarray], object]],
    batch: int,
    threads: int,
    seconds: float,
    raw: bool = False,
    progress: Callable[[float], None] = lambda part: None,
) -> Pipeline:
    """Measures passes over image files. infer: runs the artifact on a batch of tensors, by numbers of threads.

    raw: the artifact holds the inlet but for the decoding; images of different sizes are then run one by one.
    Raises BenchError if not one file can be read.
    """
    passes = _Passes(inlet, 1 if raw else batch, raw)
    paths, unreadable = passes.choose(paths)
    runs = {count: partial(passes.overlapped, paths, run) for count, run in infer.items()}
    runs = {0: partial(passes.sequential, paths, infer[threads])} | runs
    measured = measure({ALONE: runs}, Effort(seconds), progress)
    readings = {name: each for (_, name), each in measured.readings.items()}
    if len(readings) < 2:
        raise KeyboardInterrupt
    rates = {name: len(paths) / float(np.median(each.seconds())) for name, each in readings.items()}
    sequential = rates.pop(0)
    best = max(rates, key=rates.get)
    return Pipeline(
        batch=passes.batch,
        threads=threads,
        inlet_threads=allowed_cores(),
        images=len(paths),
        stages={stage: float(np.median(took)) for stage, took in passes.took.items() if took},
        sequential=sequential,
        overlapped=rates,
        gain=ratio_of(*paired(readings[best], readings[0])),
        unreadable=tuple(unreadable),
        interrupted=measured.interrupted,
    )


class _Passes:
    def __init__(self, inlet: Inlet, batch: int, raw: bool):
        self.inlet, self.batch, self.raw = inlet, batch, raw
        self.took: dict[str, list[float]] = {stage: [] for stage in STAGES}

    def choose(self, paths: Sequence[Path]) -> tuple[list[Path], list[tuple[str, str]]]:
        """As many whole batches of readable files as a pass has time for, from all over the list."""
        spread = [paths[index] for index in np.random.default_rng(0).permutation(len(paths))]
        chosen, unreadable, started = [], [], time.perf_counter()
        for path in spread[:MOST_IMAGES]:
            try:
                self._tensor(path)
            except ImageError as fault:
                unreadable.append((path.name, str(fault)))
                continue
            chosen.append(path)
            if time.perf_counter() - started > PASS_SECONDS and len(chosen) >= self.batch:
                break
        if not chosen:
            raise BenchError(f"none of the {len(unreadable)} files tried can be read as an image ({unreadable[0][1]})")
        whole = len(chosen) // self.batch * self.batch
        # Of fewer files than a batch takes, some go twice.
        chosen = chosen[:whole] if whole else [chosen[index % len(chosen)] for index in range(self.batch)]
        self.took = {stage: [] for stage in STAGES}
        return chosen, unreadable

    def sequential(self, paths: Sequence[Path], infer: Callable[[np.ndarray], object]) -> None:
        for start in range(0, len(paths), self.batch):
            tensors = np.stack([self._tensor(path) for path in paths[start : start + self.batch]])
            began = time.perf_counter()
            infer(tensors)
            self.took["inference"].append((time.perf_counter() - began) / self.batch)

    def overlapped(self, paths: Sequence[Path], infer: Callable[[np.ndarray], object]) -> None:
        """The inlet works ahead on all cores while batches are run."""
        tensors = []
        for tensor in self._ahead(paths):
            tensors.append(tensor)
            if len(tensors) == self.batch:
                infer(np.stack(tensors))
                tensors = []

    def _ahead(self, paths: Sequence[Path]):
        for made in apply_to_all(paths, self.inlet, pixels_only=self.raw):
            if isinstance(made, ImageError):
                # It could be read a moment ago.
                raise made
            yield made.tensor

    def _tensor(self, path: Path) -> np.ndarray:
        """One image through the inlet, each stage timed."""
        moments = [time.perf_counter()]
        if self.raw:
            tensor = raw_pixels(path, self.inlet.decode)
            moments.append(time.perf_counter())
        else:
            steps = pictures(open_image(path, self.inlet.decode), self.inlet, path)
            _, picture = next(steps)
            moments.append(time.perf_counter())
            for _, made in steps:
                picture = made
            pixels = in_order(as_array(picture), self.inlet)
            moments.append(time.perf_counter())
            tensor, _ = to_tensor(pixels, self.inlet.values, self.inlet.tensor)
            moments.append(time.perf_counter())
        for stage, began, ended in zip(STAGES, moments, moments[1:]):
            self.took[stage].append(ended - began)
        return tensor
