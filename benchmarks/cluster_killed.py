"""Kills workers, the scheduler and the command at random while `zygal classify --cluster` runs, and resumes it until it
ends.

    python benchmarks/cluster_killed.py [KILLS]

50 kills unless another number is given, in runs on two workers, over as many runs as that takes. Every file must be
byte for byte that of an undisturbed run on this machine without a cluster.
"""

import os
import random
import signal
import subprocess
import sys
import time
from collections import Counter
from pathlib import Path

from cluster_processes import Cluster
from demo_artifact import demo_artifact

ZYGAL = Path(sys.executable).with_name("zygal")
REPEATS = 150


def main(kills=50):
    chance, killed, runs = random.Random(0), Counter(), 0
    with demo_artifact() as artifact:
        folder = artifact.parent
        (folder / "reference" / "broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 cut off")
        images = sorted(path.relative_to(folder).as_posix() for path in (folder / "reference").iterdir())
        (folder / "images.txt").write_text("".join(image + "\n" for image in images * REPEATS))
        command = [ZYGAL, "classify", "channel_marks.onnx", "--list", "images.txt", "-o"]
        subprocess.run([*command, "whole.csv"], cwd=folder, capture_output=True)
        whole = (folder / "whole.csv").read_bytes()
        cluster, calls, resumed = Cluster(2), 0, 0
        try:
            while sum(killed.values()) < kills:
                runs += 1
                output = f"run{runs}.csv"
                for _ in range(100):
                    cluster.start()
                    process = subprocess.Popen(
                        [*command, output, "--cluster", cluster.address],
                        cwd=folder,
                        stdout=subprocess.PIPE,
                        stderr=subprocess.PIPE,
                    )
                    calls += 1
                    disturb(process, cluster, chance, killed)
                    _, errors = process.communicate()
                    resumed += b"is resumed after row" in errors
                    assert b"Traceback" not in errors, errors.decode()
                    if process.returncode == 3:
                        break
                    assert process.returncode in (2, -signal.SIGKILL), (process.returncode, errors.decode())
                else:
                    raise AssertionError(f"{output} does not come to an end: {errors.decode()}")
                assert (folder / output).read_bytes() == whole, f"{output} differs"
                print(f"run {runs}: {dict(killed)}", flush=True)
        finally:
            cluster.stop()
        print(
            f"{sum(killed.values())} kills ({', '.join(f'{name} {number}' for name, number in killed.items())}) in "
            f"{runs} runs of {len(images) * REPEATS} rows, {calls} calls, {resumed} went on with rows of an earlier "
            f"one: all {runs} files are byte for byte that of the undisturbed run"
        )


def disturb(process, cluster, chance, killed):
    """Kills something every few seconds, until the call has ended or something other than a worker was hit."""
    while True:
        try:
            process.wait(chance.uniform(2, 9))
            return
        except subprocess.TimeoutExpired:
            pass
        victim = chance.choice(["worker", "worker", "scheduler", "command"])
        workers = cluster.worker_processes()
        if victim == "worker" and not workers:
            continue
        killed[victim] += 1
        pid = {
            "worker": lambda: chance.choice(workers),
            "scheduler": lambda: cluster.scheduler.pid,
            "command": lambda: process.pid,
        }[victim]()
        try:
            os.kill(pid, signal.SIGKILL)
        except ProcessLookupError:
            killed[victim] -= 1
        if victim != "worker":
            process.wait()
            # Workers end when their scheduler is gone.
            time.sleep(1)
            return


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
