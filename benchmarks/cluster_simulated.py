"""Simulated against measured total times of runs on 1, 2 and 4 local workers.

    python benchmarks/cluster_simulated.py [ROUNDS] [IMAGES]

For each number of workers, in one process and in turn: the workers are measured as `zygal bench --cluster` does it, and
a run on the demo's images is made into a file of rows. Each run is simulated with the times measured before it and with
those measured after it, because the speed of a shared machine changes. Printed are the simulated and the measured
seconds of each round, and the ratio of their sums.
"""

import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

from demo_artifact import demo_artifact

from zygal.cluster.connection import connected
from zygal.cluster.measure import measure_cluster
from zygal.cluster.pool import ClusterPool
from zygal.cluster.simulation import Plan, simulate
from zygal.prediction.classification import Classification, open_predictions
from zygal.prediction.classifier import open_artifact
from zygal.prediction.prediction import Thresholds


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
                chosen = Classification(classifier, top=3, pool=pool)
                times = [measure_cluster(pool, chosen, names, 12, lambda part: None).times]
                for turn in range(rounds):
                    # Other thresholds are other work, which every worker must open first.
                    run = replace(chosen, thresholds=Thresholds(0.5 + turn / 1000))
                    began = time.perf_counter()
                    with open_predictions(Path(target) / f"{workers}-{turn}.csv", run, listed) as file:
                        for _ in file.write_rest():
                            pass
                    measured.append(time.perf_counter() - began)
                    times.append(measure_cluster(pool, chosen, names, 12, lambda part: None).times)
                    simulated.append(
                        sum(simulate(each, Plan(images, workers), turn).seconds for each in times[-2:]) / 2
                    )
            pairs = ", ".join(f"{one:.1f} and {other:.1f} s" for one, other in zip(simulated, measured))
            print(
                f"{workers} workers: simulated and measured {pairs}; ratio of the sums "
                f"{sum(simulated) / sum(measured):.3f}",
                flush=True,
            )


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
