"""Peak memory of `zygal classify` over many rows beside few: the same files named again and again.

    python benchmarks/classify_memory.py [ROWS]

200,000 rows beside 2,000 unless another number is given; each in a process of its own, the second one larger by what
does not stay flat.
"""

import subprocess
import sys
from pathlib import Path

from demo_artifact import demo_artifact

ZYGAL = Path(sys.executable).with_name("zygal")
FEW = 2_000
# The largest memory of a child is asked for in a process that has only this one.
MEASURED = (
    "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL); "
    "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
)


def main(many: int = 200_000) -> None:
    with demo_artifact() as artifact:
        folder = artifact.parent
        images = sorted(path.relative_to(folder).as_posix() for path in (folder / "reference").iterdir())
        for ending in (".csv", ".parquet"):
            peaks = {}
            for rows in (FEW, many):
                (folder / "images.txt").write_text("".join(images[place % len(images)] + "\n" for place in range(rows)))
                command = [ZYGAL, "classify", artifact.name, "--list", "images.txt", "-o", f"rows{rows}{ending}"]
                done = subprocess.run(
                    [sys.executable, "-c", MEASURED, *command], cwd=folder, capture_output=True, check=True
                )
                peaks[rows] = int(done.stdout) * 1024 / 1e6
            print(
                f"{ending}: peak of {peaks[FEW]:.1f} MB for {FEW:,} rows, {peaks[many]:.1f} MB for {many:,} rows: "
                f"{peaks[many] - peaks[FEW]:+.1f} MB",
                flush=True,
            )


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
