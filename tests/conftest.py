"""What the tests share: the demo's files, the built program, and a way to capture modules."""

import io
import os
import re
import shutil
import signal
import subprocess
import sys
import zipfile
from collections import Counter
from contextlib import redirect_stderr, redirect_stdout
from datetime import date
from pathlib import Path

import numpy as np
import pytest
from filelock import FileLock
from hypothesis import settings

from zygal.artifact.formats import Writing, write_artifact
from zygal.artifact.onnx.arrange import arrange
from zygal.bundle.contents import runner
from zygal.classifier.metadata import Metadata
from zygal.cli.main import main
from zygal.conversion.free_batch import freed
from zygal.demo.workspace import write_workspace
from zygal.engines.artifact import RuntimeEngine
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.sources import read_source

# It runs layer by layer; the other one compiles each layer for each size. `test_keras_source.py` runs on both.
os.environ.setdefault("KERAS_BACKEND", "torch")

# The same cases on every run, so that a change is judged by what it changed; --hypothesis-profile=default seeks new
# ones.
settings.register_profile("repeatable", derandomize=True, deadline=None)
settings.load_profile("repeatable")

# A shell starts background jobs, and all that they start, without a way to interrupt them.
signal.signal(signal.SIGINT, signal.default_int_handler)


@pytest.hookimpl(tryfirst=True)
def pytest_collection_modifyitems(items):
    """Of tests marked `alike`, the fourth of the cases whose turn is today is run by every test run; the others are
    slow."""
    today, seen = date.today().toordinal(), Counter()
    for item in items:
        if item.get_closest_marker("alike"):
            place = seen[item.parent, item.function]
            seen[item.parent, item.function] += 1
            if (place + today) % 4:
                item.add_marker("slow")


def once(tmp_path_factory, name, make):
    """A folder that all workers share, filled by the first that needs it; read-only by agreement."""
    base = tmp_path_factory.getbasetemp()
    base = base.parent if "PYTEST_XDIST_WORKER" in os.environ else base
    folder, complete = base / name, base / f"{name}.complete"
    with FileLock(base / f"{name}.lock"):
        if not complete.exists():
            make(folder)
            complete.touch()
    return folder


@pytest.fixture(scope="session")
def shipped(tmp_path_factory):
    """The demo's files with the artifact made."""

    def make(folder):
        folder.mkdir()
        write_workspace(folder)
        words = "convert channel_marks.pt2 -o channel_marks.onnx --labels labels.txt --inlet channel_marks.inlet.toml"
        done = program(*words.split(), cwd=folder)
        assert done.returncode == 0, done.stderr

    return once(tmp_path_factory, "shipped", make)


@pytest.fixture(scope="session")
def shrunk(shipped, tmp_path_factory):
    """The demo's files with its artifact in 8 bits, a picture and the JSON result, and what the program said."""

    def make(folder):
        shutil.copytree(shipped, folder)
        words = "shrink channel_marks.onnx -o small.onnx --images reference --draw curve.png --json s.json"
        done = program(*words.split(), cwd=folder)
        assert done.returncode == 0, done.stderr
        (folder / "said.txt").write_text(done.stderr)

    return once(tmp_path_factory, "shrunk", make)


@pytest.fixture
def workspace(shipped, tmp_path):
    """A copy of the demo's files that a test may spoil."""
    return Path(shutil.copytree(shipped, tmp_path / "workspace"))


def program(*arguments, cwd, timeout=600, **more):
    """Runs the installed program on files, as a user does."""
    command = [str(Path(sys.executable).with_name("zygal")), *map(str, arguments)]
    return subprocess.run(command, cwd=cwd, capture_output=True, text=True, timeout=timeout, **more)


def called(*arguments, cwd):
    """What the program gives, without starting it anew: for many calls in a row."""
    out, fault, before, handler = io.StringIO(), io.StringIO(), Path.cwd(), signal.getsignal(signal.SIGTERM)
    os.chdir(cwd)
    try:
        with redirect_stdout(out), redirect_stderr(fault):
            code = main(list(map(str, arguments)))
    except SystemExit as end:
        code = end.code
    finally:
        os.chdir(before)
        signal.signal(signal.SIGTERM, handler)
    return subprocess.CompletedProcess(arguments, code, out.getvalue(), fault.getvalue())


def refused(done, *words):
    """Asserts that a run ended as invalid input: exit code 2 and one sentence that has the words, behind progress if it
    took longer."""
    assert done.returncode == 2, (done.returncode, done.stdout, done.stderr)
    sentences = [
        line
        for line in done.stderr.splitlines()
        if not re.fullmatch(r"zygal: [a-z -]+: \d[\d ]*( %|( of [\d ]+)?(, .*)?)", line)
    ]
    assert len(sentences) == 1 and sentences[0].startswith("zygal: "), done.stderr
    assert "Traceback" not in done.stderr
    for word in words:
        assert word in done.stderr, (word, done.stderr)


def needs_jax():
    """Skips what Keras computes otherwise with PyTorch behind it; `test_keras_source.py` runs it with JAX."""
    if os.environ["KERAS_BACKEND"] != "jax":
        pytest.skip("runs with JAX behind Keras")


def capture(module, path, shape=(3, 32, 32), dynamic=True, seed=0, training=False):
    """Captures a module with the live framework, in evaluation mode unless said otherwise, and saves the program."""
    import torch

    torch.manual_seed(seed)
    example = (torch.randn(2, *shape),)
    module(*example)  # Gives lazy layers their sizes.
    axes = ({0: torch.export.Dim("batch", min=1)},) if dynamic else None
    torch.export.save(torch.export.export(module.train(training), example, dynamic_shapes=axes), path)
    return path


def differences(path, tmp_path, module, shape=(3, 32, 32), batches=(1, 5)):
    """As `differences_from`, from a live module of PyTorch."""
    import torch

    def live(x):
        with torch.inference_mode():
            return module(torch.from_numpy(x)).numpy()

    return differences_from(live, path, tmp_path, shape, batches)


def differences_from(live, path, tmp_path, shape, batches=(1, 3)):
    """Largest differences from a live model, as parts of its spread: (reference before the passes, after
    them, arranged for opsets 17 and 23, the artifact on the runtime), each over two batch sizes."""
    with read_source(path) as source:
        before = source.graph
        size = before.types[before.inputs[0]].shape[0]
        before = freed(source, size, 17) if isinstance(size, int) else before
        after = run_passes(before)
        feed, fetch = after.inputs[0], after.outputs[0]
        arranged = [arrange(after, Writing(opset)) for opset in (17, 23)]
        named = arranged[0].renamed({feed: "image", arranged[0].outputs[0]: "scores"})
        write_artifact(named, tmp_path / "module.onnx", Metadata())
        engine = RuntimeEngine(tmp_path / "module.onnx", 1)
        worst = np.zeros(5)
        for batch in batches:
            x = np.random.default_rng(batch).standard_normal((batch, *shape), np.float32)
            wanted = live(x)
            found = (
                run_graph(before, {feed: x})[before.outputs[0]],
                run_graph(after, {feed: x})[fetch],
                *(run_graph(each, {feed: x})[each.outputs[0]] for each in arranged),
                engine.run(x),
            )
            assert all(each.shape == wanted.shape and each.dtype == wanted.dtype for each in found)
            worst = np.maximum(worst, [np.abs(each - wanted).max() / max(np.ptp(wanted), 1e-30) for each in found])
    return worst


def liven(module, seed=0):
    """Gives every parameter and statistic a value at which an error shows: no identity scale, no zero bias."""
    import torch

    chance = torch.Generator().manual_seed(seed)
    for name, tensor in [*module.named_parameters(), *module.named_buffers()]:
        if tensor.dtype.is_floating_point and tensor.ndim <= 1:
            low, high = (0.6, 1.6) if "var" in name or "weight" in name else (-0.5, 0.5)
            tensor.data.uniform_(low, high, generator=chance)
    return module.eval()


@pytest.fixture(scope="session")
def signed(shipped, tmp_path_factory):
    """The demo's files with a sign-off without speed, the second model converted, and a bundle of both."""

    def make(folder):
        shutil.copytree(shipped, folder)
        text = (folder / "signoff.toml").read_text()
        (folder / "signoff.toml").write_text(text[: text.index("[speed]")])
        for words in (
            "signoff",
            "convert keras/channel_marks.keras -o keras_marks.onnx --labels labels.txt "
            "--inlet keras/channel_marks.inlet.toml",
            "pack channel_marks.onnx keras_marks.onnx --images reference --signoff signoff.signoff -o both.zip",
        ):
            done = called(*words.split(), cwd=folder)
            assert done.returncode == 0, done.stderr

    return once(tmp_path_factory, "signed", make)


@pytest.fixture
def unpacked(signed, tmp_path):
    with zipfile.ZipFile(signed / "both.zip") as archive:
        archive.extractall(tmp_path / "bundle")
    return tmp_path / "bundle"


@pytest.fixture(scope="session")
def node_modules(tmp_path_factory):
    """What the bundled package.json asks for, from the registry of JavaScript packages."""
    if not shutil.which("node") or not shutil.which("npm"):
        pytest.skip("needs Node and npm")
    kept = os.environ.get("ZYGAL_NODE_MODULES")
    if kept:
        return Path(kept)
    folder = tmp_path_factory.mktemp("node")
    (folder / "package.json").write_bytes(runner("package.json"))
    # Beyond what a bundle needs: a browser's remote control, and a checker of accessibility.
    done = subprocess.run(
        ["npm", "install", "--no-audit", "--no-fund", "--ignore-scripts", "playwright-core", "axe-core"],
        cwd=folder,
        capture_output=True,
        text=True,
        timeout=400,
    )
    assert done.returncode == 0, done.stderr
    return folder / "node_modules"
