"""How fast artifacts in 8 bits are, and what shrinking takes: large networks at 224 x 224.

    python benchmarks/shrink_speed.py ARTIFACT... [--images DIR] [--threads 2] [--rounds 20]

Each float artifact [N, 3, 224, 224] is shrunk by the program in a process of its own, with 200 images; its time and
peak memory are printed. Then float and 8 bits run in turn at batches 1 and 8. Without --images, pictures of the demo
are drawn.
"""

import argparse
import resource
import subprocess
import sys
import tempfile
import time
from functools import partial
from multiprocessing import Pool
from pathlib import Path

import numpy as np
from in_turn import interleaved

from zygal.demo.marks import draw_mark
from zygal.engines.session import SessionSettings, open_session

INLET = Path(__file__).parents[1] / "src/zygal/demo/data/channel_marks.inlet.toml"


def large_inlet():
    """The demo's preprocessing for pictures of 224 x 224."""
    return INLET.read_text().replace("72", "256").replace("[64, 64]", "[224, 224]")


def draw(task):
    folder, index = task
    picture, _ = draw_mark(4, index)
    picture.save(Path(folder) / f"{index:05d}.png")


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("artifacts", nargs="+", type=Path)
    parser.add_argument("--images")
    parser.add_argument("--threads", type=int, default=2)
    parser.add_argument("--rounds", type=int, default=20)
    parser.add_argument("--agree", default="99%")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        images = Path(options.images) if options.images else folder / "images"
        if not options.images:
            images.mkdir()
            with Pool() as pool:
                pool.map(draw, [(str(images), index) for index in range(200)], chunksize=20)
        (folder / "inlet.toml").write_text(large_inlet())
        for artifact in options.artifacts:
            small = folder / f"{artifact.stem}.small{artifact.suffix}"
            command = [
                sys.executable,
                "-m",
                "zygal",
                "shrink",
                artifact,
                "-o",
                small,
                "--images",
                images,
                "--inlet",
                folder / "inlet.toml",
                "--threads",
                options.threads,
                "--count",
                200,
                "--agree",
                options.agree,
            ]
            began = time.perf_counter()
            subprocess.run(list(map(str, command)), check=True)
            took, peak = time.perf_counter() - began, resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1e6
            print(
                f"{artifact.name}: shrunk in {took:.0f} s, peak {peak:.2f} GB, size "
                f"{small.stat().st_size / artifact.stat().st_size:.3f}"
            )
            sessions = [open_session(path, SessionSettings(options.threads)) for path in (artifact, small)]
            for size in (1, 8):
                batch = np.random.default_rng(0).normal(size=(size, 3, 224, 224)).astype(np.float32)
                usual, eight = interleaved(
                    *(partial(each.run, None, {each.inputs[0].name: batch}) for each in sessions), options.rounds
                )
                print(
                    f"{artifact.name}: batch {size}, {options.threads} threads: {1e3 * usual:.1f} ms in float, "
                    f"{1e3 * eight:.1f} ms in 8 bits, {usual / eight:.2f} times as fast",
                    flush=True,
                )


if __name__ == "__main__":
    main()
