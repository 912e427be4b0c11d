"""How long the demo's plan takes, what a second run takes, how large the page is, and whether the runners give the
scores of classify.

    python benchmarks/signoff.py [--node-modules DIR]

Each run is a process of its own. The share of the speed step is that of the first run. With --node-modules (where
package.json of a bundle was installed) the JavaScript runner is run too.
"""

import argparse
import json
import re
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

from zygal.demo.workspace import write_workspace


def run(*arguments, cwd):
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "zygal", *map(str, arguments)], cwd=cwd, capture_output=True, text=True
    )
    return time.perf_counter() - began, done


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--node-modules", type=Path)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        write_workspace(folder / "demo")
        demo = folder / "demo"
        first, done = run("signoff", "signoff.toml", cwd=demo)
        assert done.returncode == 0, done.stdout + done.stderr
        page = (demo / "signoff.signoff" / "page.html").stat().st_size
        steps = json.loads((demo / "signoff.signoff" / "result.json").read_text())["steps"]
        again, _ = run("signoff", "signoff.toml", "--reuse-speed", cwd=demo)
        print(
            f"first run {first:.1f} s, of which speed {steps['speed']['seconds']:.1f} s "
            f"({100 * steps['speed']['seconds'] / first:.0f} %); second run without measuring speed {again:.2f} "
            f"s ({again / first:.3f} of the first)"
        )
        print(f"page {page / 1e6:.2f} MB")
        run(
            "pack",
            "channel_marks.onnx",
            "--images",
            "reference",
            "--signoff",
            "signoff.signoff",
            "-o",
            "bundle.zip",
            cwd=demo,
        )
        with zipfile.ZipFile(demo / "bundle.zip") as archive:
            archive.extractall(folder / "bundle")
        commands = {"Python": [sys.executable, "-E", "-s", "classify.py", "--check"]}
        if options.node_modules:
            shutil.copytree(options.node_modules, folder / "bundle" / "node_modules", symlinks=True)
            commands["Node"] = ["node", "classify.mjs", "--check"]
        for name, command in commands.items():
            said = subprocess.run(command, cwd=folder / "bundle", capture_output=True, text=True).stdout
            print(
                f"{name} runner: {said.splitlines()[-1]}; tensors that are identical: "
                f"{len(re.findall('tensor identical', said))}"
            )


if __name__ == "__main__":
    main()
