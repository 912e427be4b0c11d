"""Two runs timed in turn, so that a noisy machine is noisy for both."""

import time

import numpy as np
import onnxruntime


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


def session(model, threads):
    """Of a path or of bytes."""
    settings = onnxruntime.SessionOptions()
    settings.intra_op_num_threads, settings.log_severity_level = threads, 3
    # A pool that goes on spinning after a run would take the processor from what is measured next.
    settings.add_session_config_entry("session.force_spinning_stop", "1")
    return onnxruntime.InferenceSession(model, settings, providers=["CPUExecutionProvider"])


def measured(runs, rounds):
    """Seconds [rounds, runs], all runs in turn in each round."""
    for run in runs:
        run()
    readings = np.zeros((rounds, len(runs)))
    for turn in range(rounds):
        for place in range(len(runs)) if turn % 2 else reversed(range(len(runs))):
            # What the run before left behind, such as threads that still wait for work, is over then.
            time.sleep(0.005)
            started = time.perf_counter()
            runs[place]()
            readings[turn, place] = time.perf_counter() - started
    return readings
