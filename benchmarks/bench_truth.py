"""Medians of the bench over those of a bare loop written by hand around the runtime, in turn, in one process.

    python benchmarks/bench_truth.py [ROUNDS]

Printed for two batches on one and two threads: the median of the ratios of the rounds, and their quartiles.
"""

import sys
import time

import numpy as np
import onnxruntime
from demo_artifact import demo_artifact

from zygal.bench.feeds import Given
from zygal.bench.measure import Effort, measure
from zygal.bench.reference_workload import reference_workload
from zygal.bench.settings import Setting
from zygal.bench.subjects import ArtifactSubject

SECONDS = 0.25


def by_hand(session, feed, seconds):
    took, end = [], time.perf_counter() + seconds
    while time.perf_counter() < end:
        started = time.perf_counter()
        session.run(None, feed)
        took.append(time.perf_counter() - started)
    return np.median(took)


def by_bench(cells, seconds):
    """As in a run of the bench: beside itself and the reference workload, in turn."""
    return np.median(measure({0: cells}, Effort(seconds)).readings[0, "artifact"].seconds())


def main():
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    with demo_artifact() as artifact:
        subject = ArtifactSubject(artifact, Given())
        for threads in (1, 2):
            options = onnxruntime.SessionOptions()
            options.intra_op_num_threads = threads
            bare = onnxruntime.InferenceSession(str(artifact), options, providers=["CPUExecutionProvider"])
            for batch in (1, 8):
                setting, feed, ratios = Setting(batch, threads), subject.feeds.of(batch), []
                cells = {
                    "artifact": subject.run_at(setting),
                    "twin": subject.again().run_at(setting),
                    "reference workload": reference_workload(threads),
                }
                for turn in range(rounds):
                    found = {}
                    for side in ("hand", "bench") if turn % 2 else ("bench", "hand"):
                        # The threads of the other session come to rest.
                        time.sleep(0.1)
                        found[side] = by_hand(bare, feed, SECONDS) if side == "hand" else by_bench(cells, 3 * SECONDS)
                    ratios.append(found["bench"] / found["hand"])
                low, middle, high = np.percentile(ratios, [25, 50, 75])
                print(
                    f"batch {batch} on {threads} threads: {middle:.4f} (quartiles {low:.3f} to {high:.3f}, "
                    f"{rounds} rounds)"
                )


if __name__ == "__main__":
    main()
