"""Two local workers against one process with two threads: `zygal classify` on the demo's images, in turn within one
run.

    python benchmarks/cluster_speed.py [ROUNDS] [IMAGES]

Printed are the ratios of images a second: of the runs themselves, as the program tells them, and of whole commands,
which include the start of workers.
"""

import json
import subprocess
import sys
import time
from pathlib import Path

import numpy as np
from demo_artifact import demo_artifact

ZYGAL = Path(sys.executable).with_name("zygal")


def main(rounds=5, images=16_000):
    with demo_artifact() as artifact:
        folder = artifact.parent
        names = sorted(path.relative_to(folder).as_posix() for path in (folder / "reference").iterdir())
        (folder / "images.txt").write_text(
            "".join(name + "\n" for name in (names * (images // len(names) + 1))[:images])
        )
        ways = {"threads": ("--threads", "2"), "workers": ("--cluster", "local:2")}
        found = {name: [] for name in ways}
        for turn in range(rounds):
            for name in list(ways)[:: 1 if turn % 2 else -1]:
                found[name].append(classified(folder, name, ways[name]))
        assert (folder / "threads.csv").read_bytes() == (folder / "workers.csv").read_bytes()
        for place, what in enumerate(("of the runs", "of whole commands")):
            one, two = (np.array([each[place] for each in found[name]]) for name in ways)
            print(
                f"{what}: two threads {np.median(one):.0f} images/s, two workers {np.median(two):.0f} images/s; ratio "
                f"{np.median(two / one):.2f} ({', '.join(f'{each:.2f}' for each in two / one)})"
            )


def classified(folder, name, options):
    began = time.perf_counter()
    subprocess.run(
        [
            ZYGAL,
            "classify",
            "channel_marks.onnx",
            "--list",
            "images.txt",
            "-o",
            f"{name}.csv",
            "--overwrite",
            "--json",
            "out.json",
            *options,
        ],
        cwd=folder,
        check=True,
        capture_output=True,
    )
    took = time.perf_counter() - began
    result = json.loads((folder / "out.json").read_text())
    return result["images_per_second"], result["rows"] / took


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
