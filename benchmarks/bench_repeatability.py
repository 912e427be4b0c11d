"""How often the bench tells an artifact from itself, and from one that is 5 % slower.

    python benchmarks/bench_repeatability.py [TRIES] [SECONDS] [THREADS] [beside | later]

Each try benches the demo's artifact at a batch of 20 in two ways. Beside it, in the same run: a copy, and an artifact
that does extra work, so much that it takes 5 % longer, as measured at the beginning. And in runs of their own, judged
by an earlier run: the same artifact again, and the slower one. Counted is how often each is called slower or faster,
and the slower one slower.
"""

import sys
import tempfile
from pathlib import Path

import numpy as np
from demo_artifact import demo_artifact, with_extra_work

from zygal.bench.baseline import read_baseline
from zygal.bench.documents import document
from zygal.bench.feeds import Given
from zygal.bench.grid import bench_grid
from zygal.bench.measure import Effort, measure, paired
from zygal.bench.regression import SAME, SLOWER, judge
from zygal.bench.settings import Grid, Setting
from zygal.bench.subjects import ArtifactSubject
from zygal.cli.terminal import write_json
from zygal.statistics.quantiles import ratio_of

BATCH = 20
MUCH_WORK, CALIBRATION_SECONDS = 100, 20


def five_per_cent_slower(artifact, setting):
    """An artifact with so much extra work that it takes 5 % longer, and how long it takes, from a long run of its
    own."""
    plain = ArtifactSubject(artifact, Given()).run_at(setting)

    def compared(products):
        path = with_extra_work(artifact, products, artifact.with_name(f"slower_{products}.onnx"))
        runs = {"plain": plain, "extra": ArtifactSubject(path, Given()).run_at(setting)}
        readings = measure({0: runs}, Effort(CALIBRATION_SECONDS)).readings
        return path, ratio_of(*paired(readings[0, "plain"], readings[0, "extra"]))

    (_, none), (_, much) = compared(0), compared(MUCH_WORK)
    return compared(round(MUCH_WORK * (1.05 - none.value) / (much.value - none.value)))


def main():
    given = sys.argv[1:4] + ["40", "15", "1"][len(sys.argv[1:4]) :]
    tries, seconds, threads = int(given[0]), float(given[1]), int(given[2])
    ways = sys.argv[4:] or ["beside", "later"]
    grid = Grid((BATCH,), (threads,))
    found = {}
    with demo_artifact() as artifact:
        slower, known = five_per_cent_slower(artifact, Setting(BATCH, threads))
        print(f"the slower artifact takes {known.value:.3f} times as long ({known.low:.3f} - {known.high:.3f})")
        for number in range(tries):
            for way in ways:
                for what, (ratio, called) in {"beside": compared, "later": later}[way](
                    artifact, slower, grid, seconds
                ).items():
                    found.setdefault(what, []).append((ratio, called))
                    print(f"{number + 1}: {what} {ratio:.3f} {'told apart' * called}", file=sys.stderr, flush=True)
    for what, readings in found.items():
        ratios, called = zip(*readings)
        print(
            f"{what} in {sum(called)} of {tries} tries; its time {np.median(ratios):.3f} times as long (deviation "
            f"{np.std(ratios):.3f})"
        )


def compared(artifact, slower, grid, seconds):
    others = [ArtifactSubject(path, Given()) for path in (artifact, slower)]
    bench = bench_grid(ArtifactSubject(artifact, Given()), grid, seconds, others=others)
    (cell,) = bench.cells
    copy, slow = (other.ratios[cell.setting] for other in bench.compared)
    return {
        "a copy beside it is called different": (copy.value, bench.compared[0].told_apart(cell)),
        "the slower one beside it is called slower": (
            slow.value,
            bench.compared[1].told_apart(cell) and slow.value > 1,
        ),
    }


def later(artifact, slower, grid, seconds):
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "earlier.json"
        write_json(str(path), document(bench_grid(ArtifactSubject(artifact, Given()), grid, seconds)))
        earlier = read_baseline(path)
    (same,), (slow,) = (
        judge(bench_grid(ArtifactSubject(each, Given()), grid, seconds), earlier).changes for each in (artifact, slower)
    )
    return {
        "the same in a run of its own is called different": (same.ratio, same.verdict != SAME),
        "the slower one in a run of its own is called slower": (slow.ratio, slow.verdict == SLOWER),
    }


if __name__ == "__main__":
    main()
