"""What the client of served models sustains: the stand-in in a process of its own, on this machine.

    python benchmarks/endpoint.py [--seconds 20]

Prints the largest difference to the local artifact, the rates that are offered and answered, and the client's rate as a
multiple of 200 requests/s.
"""

import argparse
import json
import re
import subprocess
import sys
import tempfile
from pathlib import Path

from zygal.demo.workspace import write_workspace


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--seconds", type=float, default=20.0)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder) / "demo"
        write_workspace(folder)
        zygal = [sys.executable, "-m", "zygal"]
        subprocess.run(
            [
                *zygal,
                "convert",
                "channel_marks.pt2",
                "-o",
                "channel_marks.onnx",
                "--inlet",
                "channel_marks.inlet.toml",
                "--labels",
                "labels.txt",
                "-q",
            ],
            cwd=folder,
            check=True,
        )
        server = subprocess.Popen(
            [sys.executable, "-m", "zygal.demo.endpoint", "channel_marks.onnx", "--port", "0"],
            cwd=folder,
            stdout=subprocess.PIPE,
            text=True,
        )
        try:
            url = re.search(r"served at (\S+);", server.stdout.readline())[1]
            subprocess.run(
                [
                    *zygal,
                    "match",
                    "channel_marks.onnx",
                    "--endpoint",
                    url,
                    "--witness",
                    "channel_marks.witness",
                    "--json",
                    "match.json",
                    "-q",
                ],
                cwd=folder,
                check=True,
            )
            gate = next(
                each for each in json.loads((folder / "match.json").read_text())["gates"] if each["name"] == "E"
            )
            print(f"largest difference to the local artifact: {gate['measured']} of the spread")
            subprocess.run(
                [
                    *zygal,
                    "bench",
                    "channel_marks.onnx",
                    "--endpoint",
                    url,
                    "--arrival-rate",
                    "200,300,400",
                    "--batches",
                    "1",
                    "--seconds",
                    str(options.seconds),
                    "--json",
                    "load.json",
                    "-q",
                ],
                cwd=folder,
                check=True,
            )
            for run in json.loads((folder / "load.json").read_text())["runs"]:
                print(
                    f"offered {run['offered_images_per_second']:.0f}/s, answered "
                    f"{run['answered_images_per_second']:.0f}/s ({run['answered_images_per_second'] / 200:.2f} times "
                    f"200), p50 {1e3 * run['latency_p50_seconds']:.1f} ms, p99 {1e3 * run['latency_p99_seconds']:.1f} "
                    f"ms, failed {sum(run['failures'].values())}, falling behind: {run['falling_behind']}"
                )
        finally:
            server.terminate()


if __name__ == "__main__":
    main()
