"""Throughput of the inlet beside a plain loop with Pillow and NumPy that does the same work.

    python benchmarks/inlet_speed.py

Both run on the demo's images and on photographs of 1600 x 1200, in turn, in one process; printed are ratios
of medians: one thread against the loop, and all cores of this process against one.
"""

import statistics
import tempfile
import time
from pathlib import Path

import numpy as np
from PIL import Image, ImageOps

import zygal.demo
from zygal.inlet import apply_to_all, read_inlet
from zygal.machine.pool import ThreadPool
from zygal.machine.processor import allowed_cores

DATA = Path(zygal.demo.__file__).parent / "data"
MEAN, STD = np.array([0.46, 0.48, 0.50], np.float32), np.array([0.24, 0.23, 0.25], np.float32)
ROUNDS = 9


def plain_loop(paths):
    """What a careful person writes for the demo's inlet."""
    tensors = []
    for path in paths:
        picture = ImageOps.exif_transpose(Image.open(path))
        if picture.mode in ("RGBA", "LA") or "transparency" in picture.info:
            ground = Image.new("RGBA", picture.size, (255, 255, 255, 255))
            picture = Image.alpha_composite(ground, picture.convert("RGBA"))
        picture = picture.convert("RGB")
        width, height = picture.size
        short = min(width, height)
        picture = picture.resize((72 * width // short, 72 * height // short), Image.Resampling.BILINEAR)
        left, top = (picture.width - 64) // 2, (picture.height - 64) // 2
        picture = picture.crop((left, top, left + 64, top + 64))
        numbers = (np.asarray(picture, np.float32) / 255 - MEAN) / STD
        tensors.append(numbers.transpose(2, 0, 1))
    return np.stack(tensors)


def ours(paths, inlet, threads):
    return np.stack([made.tensor for made in apply_to_all(paths, inlet, ThreadPool(threads))])


def main():
    inlet = read_inlet(DATA / "channel_marks.inlet.toml")
    with tempfile.TemporaryDirectory() as name:
        small = sorted((DATA / "reference").iterdir()) * 5
        large = []
        for number, path in enumerate(small[:24]):
            large.append(Path(name) / f"{number}.jpg")
            Image.open(path).convert("RGB").resize((1600, 1200)).save(large[-1], quality=92)
        for what, paths in (("200 images of the demo", small), ("24 photographs of 1600 x 1200", large)):
            runs = {
                "loop": lambda paths=paths: plain_loop(paths),
                "one": lambda paths=paths: ours(paths, inlet, 1),
                "all": lambda paths=paths: ours(paths, inlet, allowed_cores()),
            }
            results = {key: run() for key, run in runs.items()}
            assert all(np.array_equal(result, results["loop"]) for result in results.values())
            seconds = {key: [] for key in runs}
            for _ in range(ROUNDS):
                for key, run in runs.items():
                    started = time.perf_counter()
                    run()
                    seconds[key].append(time.perf_counter() - started)
            median = {key: statistics.median(each) for key, each in seconds.items()}
            print(
                f"{what}: one thread {len(paths) / median['one']:.0f} images/s, {median['loop'] / median['one']:.2f} x "
                f"the plain loop; {allowed_cores()} threads {median['one'] / median['all']:.2f} x one thread, "
                f"{median['loop'] / median['all']:.2f} x the loop"
            )


if __name__ == "__main__":
    main()
