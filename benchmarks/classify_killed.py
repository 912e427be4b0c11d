"""Kills `zygal classify` at random moments and resumes it, until it ends; the file must be that of an undisturbed run.

    python benchmarks/classify_killed.py [KILLS] [ENDING]

50 kills unless another number is given, over as many runs as that takes; .csv unless another ending is given.
"""

import random
import subprocess
import sys
import time
from pathlib import Path

from demo_artifact import demo_artifact

ZYGAL = Path(sys.executable).with_name("zygal")


def main(kills: int = 50, ending: str = ".csv") -> None:
    chance = random.Random(0)
    with demo_artifact() as artifact:
        folder = artifact.parent
        (folder / "reference" / "broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 cut off")
        images = sorted(path.relative_to(folder).as_posix() for path in (folder / "reference").iterdir())
        (folder / "images.txt").write_text("".join(image + "\n" for image in images * 40))
        command = [ZYGAL, "classify", "channel_marks.onnx", "--list", "images.txt", "-o"]
        began = time.perf_counter()
        subprocess.run([*command, f"whole{ending}"], cwd=folder, capture_output=True)
        whole, took = (folder / f"whole{ending}").read_bytes(), time.perf_counter() - began
        killed = runs = resumed = 0
        while killed < kills:
            runs += 1
            output = f"run{runs}{ending}"
            for _ in range(1000):
                process = subprocess.Popen(
                    [*command, output], cwd=folder, stdout=subprocess.PIPE, stderr=subprocess.PIPE
                )
                try:
                    _, errors = process.communicate(timeout=chance.uniform(0, took))
                    resumed += b"is resumed after row" in errors
                    break
                except subprocess.TimeoutExpired:
                    process.kill()
                    _, errors = process.communicate()
                    resumed += b"is resumed after row" in errors
                    killed += 1
            left = sorted(path.name for path in folder.glob(f"*{output}*"))
            assert process.returncode == 3 and left == [output, f"{output}.run.json"], (
                process.returncode,
                left,
                errors,
            )
            assert (folder / output).read_bytes() == whole, f"{output} differs"
        print(
            f"{killed} kills in {runs} runs of {len(images) * 40} rows ({took:.1f} s undisturbed), {resumed} calls "
            f"went on: all {runs} files are byte for byte that of the undisturbed run"
        )


if __name__ == "__main__":
    main(*(int(each) if each.isdigit() else each for each in sys.argv[1:]))
