"""Simulated against measured total times of runs on 1, 2 and 4 local workers.

    python benchmarks/cluster_simulated.py [ROUNDS] [IMAGES]

For each number of workers, in one process and in turn: the workers are measured as `zygal bench --cluster` does it, a run on the demo's
images is simulated with these times, and the run is made into a file of rows. Printed are the simulated and the measured seconds of
each round, and the ratio of their sums.
"""

import os
import sys
import tempfile
import time
from pathlib import Path

from demo_artifact import demo_artifact

from zygal.cluster.connection import connected
from zygal.cluster.measure import measure_cluster
from zygal.cluster.pool import ClusterPool
from zygal.cluster.simulation import Plan, simulate
from zygal.prediction.classification import Classification, open_predictions
from zygal.prediction.classifier import open_artifact


def main(rounds=3, images=12_000):
    with demo_artifact() as artifact, tempfile.TemporaryDirectory() as target:
        os.chdir(artifact.parent)
        names = sorted(f"reference/{path.name}" for path in Path("reference").iterdir())
        listed = (names * (images // len(names) + 1))[:images]
        classifier = open_artifact(artifact)
        for workers in (1, 2, 4):
            simulated, measured = [], []
            with connected(f"local:{workers}") as client:
                pool = ClusterPool(client)
                pool.admit(classifier)
                run = Classification(classifier, top=3, pool=pool)
                for turn in range(rounds):
                    before = measure_cluster(pool, run, names, 15, lambda part: None)
                    began = time.perf_counter()
                    with open_predictions(Path(target) / f"{workers}-{turn}.csv", run, listed) as file:
                        for _ in file.write_rest():
                            pass
                    measured.append(time.perf_counter() - began)
                    simulated.append(simulate(before.times, Plan(images, workers), turn).seconds)
            pairs = ", ".join(f"{one:.1f} and {other:.1f} s" for one, other in zip(simulated, measured))
            print(f"{workers} workers: simulated and measured {pairs}; ratio of the sums {sum(simulated) / sum(measured):.3f}", flush=True)


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
