"""How often the bench tells an artifact from itself, and from one that is 5 % slower.

    python benchmarks/bench_repeatability.py [TRIES] [SECONDS] [THREADS]

Each try benches the demo's artifact at a batch of 20 in two ways. Beside it, in the same run: a copy, and an artifact that
does extra work, so much that it takes 5 % longer, as measured at the beginning. And in runs of their own, judged by an
earlier run: the same artifact again, and the slower one. Counted is how often each is called slower or faster, and the slower one slower.
"""

import sys
import tempfile
from pathlib import Path

import numpy as np
from demo_artifact import demo_artifact, with_extra_work

from zygal.bench.documents import document
from zygal.bench.earlier import read_earlier
from zygal.bench.feeds import Given
from zygal.bench.grid import bench_grid
from zygal.bench.measure import Effort, measure, paired
from zygal.bench.regression import SAME, SLOWER, judge
from zygal.bench.settings import Grid, Setting
from zygal.bench.statistics import ratio_of
from zygal.bench.subjects import ArtifactSubject
from zygal.cli.output import write_json

BATCH = 20
MUCH_WORK, CALIBRATION_SECONDS = 100, 20


def five_per_cent_slower(artifact, setting):
    """An artifact with so much extra work that it takes 5 % longer, and how long it takes, from a long run of its own."""
    plain = ArtifactSubject(artifact, Given()).run_at(setting)

    def beside(products):
        path = with_extra_work(artifact, products, artifact.with_name(f"slower_{products}.onnx"))
        runs = {"plain": plain, "extra": ArtifactSubject(path, Given()).run_at(setting)}
        readings = measure({0: runs}, Effort(CALIBRATION_SECONDS)).readings
        return path, ratio_of(*paired(readings[0, "plain"], readings[0, "extra"]))

    (_, none), (_, much) = beside(0), beside(MUCH_WORK)
    return beside(round(MUCH_WORK * (1.05 - none.value) / (much.value - none.value)))


def main():
    tries, seconds, threads = (float(each) for each in (sys.argv[1:] + ["40", "10", "1"][len(sys.argv) - 1 :]))
    grid, setting = Grid((BATCH,), (int(threads),)), Setting(BATCH, int(threads))
    counts = {
        name: 0 for name in ("a copy beside it", "the slower one beside it", "the same again", "the slower one later")
    }
    ratios = {name: [] for name in counts}
    with demo_artifact() as artifact, tempfile.TemporaryDirectory() as name:
        slower, known = five_per_cent_slower(artifact, setting)
        print(f"the slower artifact takes {known.value:.3f} times as long ({known.low:.3f} - {known.high:.3f})")
        for number in range(int(tries)):
            others = [ArtifactSubject(path, Given()) for path in (artifact, slower)]
            bench = bench_grid(ArtifactSubject(artifact, Given()), grid, seconds, others=others)
            (cell,) = bench.cells
            for what, other in zip(list(counts)[:2], bench.beside):
                ratio = other.ratios[setting]
                ratios[what].append(ratio.value)
                counts[what] += other.told_apart(cell) and (what.startswith("a copy") or ratio.value > 1)
            earlier = Path(name) / "earlier.json"
            write_json(str(earlier), document(bench_grid(ArtifactSubject(artifact, Given()), grid, seconds)))
            for what, path in zip(list(counts)[2:], (artifact, slower)):
                later = bench_grid(ArtifactSubject(path, Given()), grid, seconds)
                (change,) = judge(later, read_earlier(earlier)).changes
                ratios[what].append(change.ratio)
                counts[what] += change.verdict == SLOWER if "slower" in what else change.verdict != SAME
            print(f"{number + 1}: stolen {bench.load.stolen:.3f} {later.load.stolen:.3f}; " + "; ".join(f"{what} {ratios[what][-1]:.3f} ({count})" for what, count in counts.items()),
                  file=sys.stderr, flush=True)  # fmt: skip
    for what, count in counts.items():
        middle, spread = np.median(ratios[what]), np.std(ratios[what])
        called = "called slower" if "slower" in what else "called different"
        print(
            f"{what}: {called} in {count} of {int(tries)} tries; its time {middle:.3f} times as long (deviation {spread:.3f})"
        )


if __name__ == "__main__":
    main()
