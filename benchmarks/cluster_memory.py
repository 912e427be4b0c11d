"""Peak memory of the coordinator for 10,000 and for 1,000,000 rows.

    python benchmarks/cluster_memory.py

Each in a process of its own: a list of images is read, two workers of a cluster give rows that are ready made, so that
the coordinator is all that works, and it puts them in order and writes them. The cluster is in processes of its own in
one pair of runs, and started by the command (local:2) in the other.
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from cluster_processes import Cluster
from demo_artifact import demo_artifact


def main():
    with demo_artifact() as artifact, tempfile.TemporaryDirectory() as name:
        cluster = Cluster(2)
        cluster.start()
        try:
            for address in (cluster.address, "local:2"):
                peaks = {}
                for rows in (10_000, 1_000_000):
                    listed = Path(name) / f"{rows}.txt"
                    listed.write_text(
                        "".join(f"photographs/{number // 1000:04}/image-{number:08}.jpg\n" for number in range(rows))
                    )
                    began = time.perf_counter()
                    done = subprocess.run(
                        [sys.executable, __file__, "one", address, str(artifact), str(listed)],
                        capture_output=True,
                        text=True,
                    )
                    assert done.returncode == 0, done.stderr
                    peaks[rows] = int(done.stdout)
                    print(
                        f"{address}, {rows} rows: peak {peaks[rows] / 1e6:.0f} MB, {time.perf_counter() - began:.1f} s",
                        flush=True,
                    )
                print(f"{address}: difference {(peaks[1_000_000] - peaks[10_000]) / 1e6:+.1f} MB")
        finally:
            cluster.stop()


def one(address, artifact, listed):
    from zygal.bench.own_process import _peak_bytes
    from zygal.cluster.connection import connected
    from zygal.cluster.measure import CannedRows
    from zygal.cluster.pool import ClusterPool
    from zygal.prediction.blocks import blocks_of
    from zygal.prediction.classification import Classification, MakePredictions, MakeRows
    from zygal.prediction.classifier import open_artifact
    from zygal.prediction.listing import Listing
    from zygal.prediction.resumable import open_rows
    from zygal.prediction.rows import RowWriter, columns_of
    from zygal.prediction.stream import ScoreBlock

    classifier = open_artifact(artifact)
    with connected(address) as client:
        pool = ClusterPool(client)
        pool.admit(classifier)
        run = Classification(classifier, top=3, pool=pool)
        writer = RowWriter(".csv", columns_of(3, False, False))
        images = sorted(str(path) for path in (Path(artifact).parent / "reference").iterdir())[:8]
        made = ScoreBlock(classifier, None, MakeRows(MakePredictions(classifier, run.thresholds, 3), writer))(
            next(iter(blocks_of(images)))
        )
        with open_rows(f"{listed}.csv", {"rows": "ready made"}, writer.heading(), overwrite=True) as rows:
            for each in pool.map(CannedRows(made), blocks_of(Listing(lists=(listed,)))):
                rows.append(each.data, each.names, each.states, each.counts)
            rows.finish(None)
    print(_peak_bytes())


if __name__ == "__main__":
    if sys.argv[1:2] == ["one"]:
        one(*sys.argv[2:])
    else:
        main()
