"""Two runs timed in turn, so that a noisy machine is noisy for both."""

import time

import numpy as np


def interleaved(first, second, rounds=7):
    """Medians of both runs in seconds, taken A B B A after both are warm."""
    runs, readings = (first, second), ([], [])
    for run in runs:
        run()
        run()
    for turn in range(rounds):
        for side in (0, 1) if turn % 2 else (1, 0):
            started = time.perf_counter()
            runs[side]()
            readings[side].append(time.perf_counter() - started)
    return [float(np.median(each)) for each in readings]
