"""How fast artifacts in 8 bits are, and what shrinking takes: large networks at 224 x 224.

    python benchmarks/shrink_speed.py ARTIFACT... [--images DIR] [--threads 2] [--rounds 20]

Each float artifact [N, 3, 224, 224] is shrunk by the program in a process of its own, with 200 images; its time and peak memory are printed.
Then float and 8 bits run in turn at batches 1 and 8. Without --images, pictures of the demo are drawn.
"""

import argparse
import resource
import subprocess
import sys
import tempfile
import time
from multiprocessing import Pool
from pathlib import Path

import numpy as np

from zygal.demo.marks import draw_mark
from zygal.engines.session import SessionSettings, open_session

INLET = """\
[decode]
colour = "rgb"
[[frame]]
resize = "short-side"
to = 256
filter = "bilinear"
[[frame]]
crop = [224, 224]
[values]
range = [0, 1]
mean = [0.46, 0.48, 0.50]
std = [0.24, 0.23, 0.25]
[tensor]
layout = "NCHW"
"""


def draw(task):
    folder, index = task
    picture, _ = draw_mark(4, index)
    picture.save(Path(folder) / f"{index:05d}.png")


def seconds(run, rounds):
    took = []
    for _ in range(rounds):
        began = time.perf_counter()
        run()
        took.append(time.perf_counter() - began)
    return took


def in_turn(usual, small, batch, rounds):
    """The median of the ratios of runs that follow each other, and the middle half."""
    for session in (usual, small):
        session.run(None, {session.inputs[0].name: batch})
    ratios = []
    for _ in range(rounds):
        pair = [np.median(seconds(lambda: session.run(None, {session.inputs[0].name: batch}), 3)) for session in (usual, small)]
        ratios.append(pair[0] / pair[1])
    return np.percentile(ratios, [50, 25, 75])


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("artifacts", nargs="+", type=Path)
    parser.add_argument("--images")
    parser.add_argument("--threads", type=int, default=2)
    parser.add_argument("--rounds", type=int, default=20)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        images = Path(options.images) if options.images else folder / "images"
        if not options.images:
            images.mkdir()
            with Pool() as pool:
                pool.map(draw, [(str(images), index) for index in range(200)], chunksize=20)
        (folder / "inlet.toml").write_text(INLET)
        for artifact in options.artifacts:
            small = folder / f"{artifact.stem}.small{artifact.suffix}"
            command = [sys.executable, "-m", "zygal", "shrink", artifact, "-o", small, "--images", images, "--inlet", folder / "inlet.toml",
                       "--threads", options.threads, "--count", 200]  # fmt: skip
            began = time.perf_counter()
            subprocess.run(list(map(str, command)), check=True)
            took, peak = time.perf_counter() - began, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1e6
            print(f"{artifact.name}: shrunk in {took:.0f} s, peak {peak:.2f} GB, size {small.stat().st_size / artifact.stat().st_size:.3f}")
            sessions = [open_session(path, SessionSettings(options.threads)) for path in (artifact, small)]
            for size in (1, 8):
                batch = np.random.default_rng(0).normal(size=(size, 3, 224, 224)).astype(np.float32)
                middle, low, high = in_turn(*sessions, batch, options.rounds)
                print(f"{artifact.name}: batch {size}, {options.threads} threads: {middle:.2f} times as fast (middle half {low:.2f} to {high:.2f})", flush=True)


if __name__ == "__main__":
    main()
