"""The installed program on files in a temporary folder, as people use and misuse it."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import onnx
import pytest
from conftest import called, capture, program, refused
from PIL import Image

import zygal.demo
from zygal import Witness

MATCH = ("match", "channel_marks.onnx", "--witness", "channel_marks.witness")
CONVERT = ("convert", "channel_marks.pt2", "-o", "new.onnx")


def test_help_of_every_command_shows_an_example(tmp_path):
    done = program("--help", cwd=tmp_path)
    assert done.returncode == 0
    for command in ("demo", "survey", "convert", "witness", "match", "bench"):
        assert command in done.stdout
        assert f"  zygal {command} " in program(command, "--help", cwd=tmp_path).stdout


ELSEWHERE = """
import builtins, os, signal
found = builtins.__import__

def import_less(name, globals=None, locals=None, fromlist=(), level=0):
    # Other packages have files of their own for each system.
    if name in ("fcntl", "resource") and (globals or {}).get("__name__", "").startswith("zygal"):
        raise ImportError(name)
    return found(name, globals, locals, fromlist, level)

builtins.__import__ = import_less
for name in ("O_NONBLOCK", "O_NOFOLLOW", "O_CLOEXEC", "sched_getaffinity"):
    delattr(os, name)
del signal.SIGUSR1, signal.SIGUSR2
"""
"""What macOS or Windows lack."""


@pytest.mark.slow
def test_the_demo_runs_where_a_system_has_less(tmp_path):
    (tmp_path / "less").mkdir()
    (tmp_path / "less" / "sitecustomize.py").write_text(ELSEWHERE)
    environment = os.environ | {"PYTHONPATH": str(tmp_path / "less")}
    done = program("demo", "demo", "-q", cwd=tmp_path, timeout=600, env=environment)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]


@pytest.mark.slow
def test_the_demo_runs_with_the_lowest_versions_that_are_stated(tmp_path):
    """Under the lowest Python, with the lowest release of every package that `pyproject.toml` allows."""
    python = tmp_path / "lowest" / "bin" / "python"
    project = Path(__file__).parents[1]
    for step in (
        ["venv", "-q", "--no-python-downloads", "--python", "3.10", tmp_path / "lowest"],
        ["pip", "install", "-q", "--python", python, "--resolution", "lowest-direct", project],
    ):
        # Where pyenv looks after several releases of Python, it gives out the one that is asked for.
        environment = os.environ | {"PYENV_VERSION": "3.10"}
        command = [sys.executable, "-m", "uv", *map(str, step)]
        done = subprocess.run(command, capture_output=True, text=True, env=environment)
        if done.returncode and ("No interpreter found" in done.stderr or "Failed to fetch" in done.stderr):
            pytest.skip("needs Python 3.10 and a package index: " + done.stderr.strip().splitlines()[-1])
        assert done.returncode == 0, done.stderr
    command = [str(python.with_name("zygal")), "demo", "demo", "-q"]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=900)
    assert done.returncode == 0, done.stdout[-2000:] + done.stderr[-2000:]


@pytest.mark.slow
def test_the_demo_runs_as_it_says(tmp_path):
    done = program("demo", "example", "--json", "demo.json", cwd=tmp_path, timeout=400)
    assert done.returncode == 0, done.stdout + done.stderr
    steps = json.loads((tmp_path / "demo.json").read_text())["steps"]
    assert [step["exit_code"] for step in steps] == [0, 0, 0, 0, 1, 2, *[0] * 13]
    for step in steps:
        assert "$ " + " ".join(step["command"]) in done.stdout
    assert (
        done.stdout.count("Likely cause: ") == 1
        and "(exact)" in done.stdout
        and "PASS: A, B, C, L on 40 images." in done.stdout
    )
    assert "the same picture has two labels" in done.stdout and "channel_marks.onnx is better" in done.stdout
    shipped_bytes = sum(path.stat().st_size for path in Path(zygal.demo.__file__).parent.rglob("*") if path.is_file())
    assert shipped_bytes < 3_000_000


@pytest.mark.slow
def test_survey_says_what_to_feed_and_fetch(shipped, tmp_path):
    expected = {
        "channel_marks.pt2": ["image   float32 [N, 3, 64, 64]   NCHW", "10 classes, logits", "56 280", "PyTorch 2.13"],
        "channel_marks.onnx": ["scores   float32 [N, 10]", "port-hand", "opset 17", "EXIF rotation applied"],
        "channel_marks.witness": ["40 recorded", "training_code.py:load_image", "float32 [40, 3, 64, 64]"],
        "channel_marks.inlet.toml": ["float32 [N, 3, 64, 64], NCHW", "short side to 72 (bilinear)"],
        "labels.txt": ["10: port-hand"],
    }
    for name, words in expected.items():
        done = program("survey", name, "--json", tmp_path / "out.json", cwd=shipped)
        assert done.returncode == 0 and json.loads((tmp_path / "out.json").read_text())["file"] == name
        for word in words:
            assert word in done.stdout, (name, word, done.stdout)


@pytest.mark.slow
def test_match_tells_holding_from_breaking(shipped, tmp_path):
    held = program(*MATCH, "--images", "reference", "--json", tmp_path / "held.json", cwd=shipped)
    assert held.returncode == 0 and held.stdout.count("PASS") == 7
    document = json.loads((tmp_path / "held.json").read_text())
    assert document["passed"] and document["gates"][1]["measured"] < 1e-5 and len(document["images"]) == 40
    assert {"label", "class_index", "score"} == set(document["images"][0]["recorded_top"][0])
    for wrong, field in (
        ("swapped_channels", "decode.colour"),
        ("squashed", "short side"),
    ):
        broke = program(
            *MATCH,
            "--images",
            "reference",
            "--inlet",
            f"wrong/{wrong}.toml",
            "--json",
            tmp_path / "broke.json",
            cwd=shipped,
        )
        document = json.loads((tmp_path / "broke.json").read_text())
        assert broke.returncode == 1 and "FAIL: A, C on 40 images" in broke.stdout
        assert field in document["inlet_cause"]["findings"][0]
        assert document["inlet_cause"]["largest_difference_after_grey_levels"] == 0
    alone = program(*MATCH, cwd=shipped)
    assert alone.returncode == 0 and "A and C: not checked" in alone.stdout


def test_one_unreadable_image_is_named_and_the_rest_goes_on(workspace):
    photograph = workspace / "reference" / "mark-05.jpg"
    photograph.write_bytes(photograph.read_bytes()[:2000])
    done = program(*MATCH, "--images", "reference", cwd=workspace)
    assert done.returncode == 3 and "zygal: not readable: mark-05.jpg" in done.stderr
    assert "PASS: A, B, C, L on 39 images; 1 file could not be read (exit code 3)." in done.stdout


def test_images_that_are_not_the_recorded_ones(workspace):
    shutil.copy(workspace / "reference" / "mark-06.jpg", workspace / "reference" / "mark-05.jpg")
    refused(program(*MATCH, "--images", "reference", cwd=workspace), "mark-05.jpg", "1 of the 40")
    (workspace / "reference" / "mark-05.jpg").unlink()
    refused(program(*MATCH, "--images", "reference", cwd=workspace), "mark-05.jpg", "not in reference")


@pytest.mark.slow
def test_bench_writes_units_into_its_keys(shipped, tmp_path):
    arguments = ("bench", "channel_marks.onnx", "--batches", "1,2", "--threads", "1", "--seconds", "0.2")
    done = program(*arguments, "--json", tmp_path / "bench.json", cwd=shipped)
    assert done.returncode == 0 and "images/s" in done.stdout and "Conclusions" in done.stdout
    # On a busy machine so short a run may conclude nothing, and then says so.
    assert "lowest latency" in done.stdout or "every setting is too imprecise" in done.stdout
    cell = json.loads((tmp_path / "bench.json").read_text())["cells"][1]
    assert cell["batch_images"] == 2 and cell["latency_median_seconds"] > 0 and cell["peak_memory_bytes"] > 0


@pytest.mark.slow
def test_a_fixed_batch_is_freed_with_proof_or_kept_on_request(tmp_path):
    from torch import nn

    module = nn.Sequential(nn.Conv2d(3, 4, 8, 8), nn.Flatten(), nn.Linear(64, 5), nn.Softmax(1))
    capture(module, tmp_path / "fixed.pt2", dynamic=False)
    done = program("convert", "fixed.pt2", "-o", "freed.onnx", cwd=tmp_path)
    assert done.returncode == 0 and "verified at two other sizes" in done.stderr and "[N, 3, 32, 32]" in done.stdout
    assert "probabilities" in program("survey", "freed.onnx", cwd=tmp_path).stdout
    done = program("convert", "fixed.pt2", "-o", "fixed.onnx", "--keep-batch", cwd=tmp_path)
    assert done.returncode == 0 and "keeps the fixed batch" in done.stderr and "[2, 3, 32, 32]" in done.stdout
    done = program("bench", "fixed.onnx", "--threads", "1", "--seconds", "0.1", cwd=tmp_path)
    assert done.returncode == 0 and "only that batch size was measured" in done.stderr


def test_a_pinned_batch_names_the_layer(tmp_path):
    from torch import nn

    class Pinned(nn.Module):
        def forward(self, x):
            return x.flatten(1)[:, :12].reshape(4, 6).reshape(2, 12) * x.new_tensor([[1.0], [2.0]])

    capture(Pinned(), tmp_path / "pinned.pt2", dynamic=False)
    refused(
        program("convert", "pinned.pt2", "-o", "no.onnx", cwd=tmp_path), "fixed batch of 2", "--keep-batch", "layer "
    )
    assert program("convert", "pinned.pt2", "-o", "yes.onnx", "--keep-batch", cwd=tmp_path).returncode == 0


def damaged(workspace):
    """Files that people really have, by name."""
    content = (workspace / "channel_marks.pt2").read_bytes()
    flipped = bytearray(content)
    flipped[5000] ^= 16
    files = {
        "empty.pt2": b"",
        "text.pt2": b"hello\n",
        "cut.pt2": content[: len(content) // 2],
        "flipped.pt2": bytes(flipped),
        "cut.onnx": (workspace / "channel_marks.onnx").read_bytes()[:9000],
        "cut.witness": (workspace / "channel_marks.witness").read_bytes()[:9000],
        "few.txt": b"a\nb\n",
        "pickle.pt": b"\x80\x02\x8a\nl\xfc\x9cF\xf9 j\xa8P\x19.\x80\x02M\xe9\x03.",
    }
    for name, data in files.items():
        (workspace / name).write_bytes(data)
    recorded = Witness.read(workspace / "channel_marks.witness")
    replace(recorded, tensors=None).write(workspace / "scores.witness")
    noise = np.random.default_rng(0).standard_normal((2, 3, 16, 16)).astype(np.float32)
    few = replace(recorded, images=recorded.images[:2], scores=recorded.scores[:2], tensors=noise)
    few.write(workspace / "noise.witness")
    (workspace / "two").mkdir()
    for image in few.images:
        shutil.copy(workspace / "reference" / image.name, workspace / "two")
    np.save(workspace / "scores.npy", recorded.scores)
    np.save(workspace / "pickled.npy", np.array([{}], object), allow_pickle=True)
    shutil.copytree(workspace / "reference", workspace / "renamed")
    (workspace / "renamed" / "mark-00.jpg").rename(workspace / "renamed" / "other.jpg")
    shutil.make_archive(str(workspace / "other"), "zip", workspace / "wrong")
    (workspace / "nothing").mkdir()


RECOVER = ("inlet", "recover", "-o", "new.toml", "--witness")
ARRAYS = ("witness", "--images", "reference", "--from-arrays")
BAD = [
    (("convert", "none.pt2", "-o", "new.onnx"), ["none.pt2", "no such file"]),
    (("convert", "reference", "-o", "new.onnx"), ["is a folder"]),
    (("convert", "empty.pt2", "-o", "new.onnx"), ["empty file"]),
    (("convert", "text.pt2", "-o", "new.onnx"), ["a text file"]),
    (("convert", "other.zip", "-o", "new.onnx"), ["a zip archive"]),
    (("convert", "cut.pt2", "-o", "new.onnx"), ["truncated or damaged"]),
    (("convert", "flipped.pt2", "-o", "new.onnx"), ["weight_", "checksum"]),
    (("convert", "pickle.pt", "-o", "new.onnx"), ["a PyTorch pickle", "torch.export"]),
    (("convert", "channel_marks.witness", "-o", "new.onnx"), ["is a witness", "--witness"]),
    ((*CONVERT, "--labels", "few.txt"), ["2 labels", "10 outputs"]),
    ((*CONVERT, "--inlet", "labels.txt"), ["not valid TOML"]),
    ((*CONVERT, "--input-name", "x", "--output-name", "x"), ["--input-name and --output-name are both x"]),
    (("convert", "channel_marks.pt2", "-o", "nowhere/new.onnx"), ["nowhere", "does not exist"]),
    (("convert", "channel_marks.pt2", "-o", "nothing"), ["is a folder"]),
    (("convert", "channel_marks.pt2", "-o", "/proc/new.onnx"), ["cannot be written"]),
    ((*CONVERT, "--json", "nowhere/out.json"), ["nowhere"]),
    (("match", "channel_marks.pt2", "--witness", "channel_marks.witness"), ["zygal convert"]),
    (("match", "cut.onnx", "--witness", "channel_marks.witness"), ["truncated or damaged"]),
    (("match", "channel_marks.onnx", "--witness", "cut.witness"), ["truncated or damaged"]),
    (("match", "channel_marks.onnx", "--witness", "channel_marks.onnx"), ["a witness is needed"]),
    ((*MATCH, "--images", "nothing"), ["holds no images"]),
    ((*MATCH, "--images", "nowhere"), ["does not exist"]),
    ((*MATCH, "--images", "reference", "--inlet", "few.txt"), ["not valid TOML"]),
    ((*MATCH, "--images", "reference", "--inlet", "wrong/unscaled_values.toml"), ["units of 0 to 1"]),
    ((*MATCH, "--sheet", "new.png"), ["--images"]),
    ((*RECOVER, "scores.witness", "--images", "reference"), ["--artifact"]),
    ((*RECOVER, "channel_marks.witness", "--images", "renamed"), ["mark-00.jpg is now other.jpg"]),
    ((*RECOVER, "channel_marks.witness", "--images", "nothing"), ["holds no images"]),
    (("inlet", "draw", "labels.txt", "--inlet", "channel_marks.inlet.toml", "-o", "new.png"), ["not an image"]),
    (("inlet", "draw", "reference/mark-05.jpg", "--inlet", "labels.txt", "-o", "new.png"), ["not valid TOML"]),
    (("inlet",), ["required"]),
    ((*ARRAYS, "scores.npy", "-o", "new.witness"), ["--names"]),
    ((*ARRAYS, "scores.npy", "--names", "labels.txt", "-o", "new.witness"), ["port-hand is not an image in reference"]),
    ((*ARRAYS, "pickled.npy", "--names", "labels.txt", "-o", "new.witness"), ["not an array"]),
    ((*ARRAYS, "channel_marks.pt2", "-o", "new.witness"), ["neither .npy nor .csv"]),
    (("witness", "--images", "reference", "-o", "new.witness", "--inlet", "channel_marks.inlet.toml"), ["SOURCE"]),
    (("convert", "channel_marks.pt2", "-o", "new.onnx", "--raw-pixels"), ["--inlet"]),
    (("bench", "channel_marks.pt2"), ["zygal convert"]),
    (("bench", "channel_marks.onnx", "--batches", "one"), ["whole numbers"]),
    (("survey", "reference/mark-00.jpg"), ["is an image"]),
    (("demo", "reference"), ["holds other files"]),
    (("demo", "labels.txt"), ["is a file"]),
    (("convert",), ["required"]),
    (("polish", "x"), ["there is no command polish"]),
]


def test_bad_input_gets_one_sentence_and_leaves_no_file_behind(workspace):
    damaged(workspace)
    before = sorted(workspace.rglob("*"))
    for arguments, words in BAD:
        refused(called(*arguments, cwd=workspace), *words)
    assert sorted(workspace.rglob("*")) == before


@pytest.mark.slow
def test_an_inlet_is_recovered_drawn_and_put_inside(workspace):
    done = program(*RECOVER, "channel_marks.witness", "--images", "reference", "--json", "r.json", cwd=workspace)
    assert done.returncode == 0 and "(exact)" in done.stdout, done.stderr
    document = json.loads((workspace / "r.json").read_text())
    assert document["by_tensors"]["max_error_grey_levels"] == 0 and document["inlet"]["decode"]["exif"] == "apply"
    done = program("inlet", "draw", "reference/mark-05.jpg", "--inlet", "new.toml", "-o", "strip.png", cwd=workspace)
    assert done.returncode == 0 and "crop 64 x 64, centre" in done.stdout
    done = program(
        "convert", "channel_marks.pt2", "-o", "raw.onnx", "--inlet", "new.toml", "--raw-pixels", cwd=workspace
    )
    assert done.returncode == 0 and "uint8 [N, H, W, 3]" in done.stdout
    match = ("match", "raw.onnx", "--witness", "channel_marks.witness", "--images", "reference")
    done = program(*match, "--sheet", "sheet.png", "--json", "m.json", cwd=workspace)
    gates = [gate for gate in json.loads((workspace / "m.json").read_text())["gates"] if gate["name"] == "P"]
    assert done.returncode == 0 and [gate["passed"] for gate in gates] == [True, True] and gates[1]["measured"] == 0
    assert {Image.open(workspace / name).width for name in ("strip.png", "sheet.png")} == {1280}
    bench = ("bench", "raw.onnx", "--batches", "1", "--threads", "1", "--seconds", "0.1")
    assert program(*bench, "--image-size", "90,120", cwd=workspace).returncode == 0
    refused(program(*bench, cwd=workspace), "--image-size")


@pytest.mark.slow
def test_an_inlet_that_explains_nothing_fails_its_gate_and_is_not_written(workspace):
    damaged(workspace)
    done = called(*RECOVER, "noise.witness", "--images", "two", "--json", "r.json", cwd=workspace)
    document = json.loads((workspace / "r.json").read_text())
    assert done.returncode == document["exit_code"] == 1 and "FAIL: inlet on 2 images." in done.stdout
    assert document["gates"][0]["measured"] > 0.5 and not document["written"] and not (workspace / "new.toml").exists()
    assert (
        "  zygal witness channel_marks.pt2 --images two --training-code FILE.py:FUNCTION -o noise.witness"
        in done.stdout
    )


@pytest.mark.slow
def test_a_corrected_inlet_is_written_and_holds(workspace):
    match = (*MATCH, "--images", "reference")
    done = program(*match, "--inlet", "wrong/swapped_channels.toml", "--write-inlet", "right.toml", cwd=workspace)
    said = " ".join(done.stdout.split())
    assert (
        done.returncode == 1
        and 'decode.colour should be "rgb", the inlet says "bgr"' in said
        and "from 26 to 0" in said
    )
    assert program(*match, "--inlet", "right.toml", cwd=workspace).returncode == 0


@pytest.mark.slow
def test_the_first_layer_that_departs_is_named(workspace):
    done = program(
        "witness",
        "channel_marks.pt2",
        "--images",
        "reference",
        "-o",
        "layers.witness",
        "--layers",
        "--inlet",
        "channel_marks.inlet.toml",
        cwd=workspace,
    )
    assert done.returncode == 0 and "outputs of 66 layers" in done.stdout
    done = program(
        "convert",
        "channel_marks.pt2",
        "-o",
        "raw.onnx",
        "--inlet",
        "channel_marks.inlet.toml",
        "--raw-pixels",
        cwd=workspace,
    )
    for artifact in ("channel_marks.onnx", "raw.onnx"):
        model = onnx.load(workspace / artifact)
        node = next(node for node in model.graph.node if node.output[0] == "batch_norm_8")
        weight = next(tensor for tensor in model.graph.initializer if tensor.name == node.input[1])
        bent = onnx.numpy_helper.to_array(weight) * np.float32(1.1)
        weight.CopyFrom(onnx.numpy_helper.from_array(bent, weight.name))
        onnx.save(model, workspace / "bent.onnx")
        done = program("match", "bent.onnx", "--witness", "layers.witness", cwd=workspace)
        assert done.returncode == 1 and "layer features.1.project.1 is the first whose output differs" in done.stdout
    assert program("match", "channel_marks.onnx", "--witness", "layers.witness", cwd=workspace).returncode == 0


@pytest.mark.slow
def test_a_recording_made_of_arrays(workspace):
    recorded = Witness.read(workspace / "channel_marks.witness")
    names = [image.name for image in recorded.images]
    np.save(workspace / "tensors.npy", recorded.tensors)
    rows = [",".join([name, *map(repr, row.tolist())]) for name, row in zip(names, recorded.scores)]
    (workspace / "scores.csv").write_text("\n".join(["file," + ",".join("abcdefghij"), *rows]))
    done = program(*ARRAYS, "scores.csv", "--tensors", "tensors.npy", "-o", "new.witness", cwd=workspace)
    assert done.returncode == 0, done.stderr
    again = Witness.read(workspace / "new.witness")
    assert again.images == recorded.images and np.array_equal(again.tensors, recorded.tensors)
    assert np.abs(again.scores - recorded.scores).max() < 1e-6
    assert (
        program(
            "match", "channel_marks.onnx", "--witness", "new.witness", "--images", "reference", cwd=workspace
        ).returncode
        == 0
    )
    # Scores alone: only C can be compared.
    replace(recorded, tensors=None).write(workspace / "scores.witness")
    done = program("match", "channel_marks.onnx", "--witness", "scores.witness", "--images", "reference", cwd=workspace)
    assert done.returncode == 0 and "A and B: not checked" in done.stdout


def test_a_missing_framework_is_said_with_its_extra(workspace):
    (workspace / "hidden").mkdir()
    (workspace / "hidden" / "torch.py").write_text("raise ImportError('not installed here')")
    done = program(
        "witness",
        "channel_marks.pt2",
        "--images",
        "reference",
        "-o",
        "new.witness",
        "--inlet",
        "channel_marks.inlet.toml",
        cwd=workspace,
        env=os.environ | {"PYTHONPATH": str(workspace / "hidden")},
    )
    refused(done, "'.[torch]'", "checkout")
    assert not (workspace / "new.witness").exists()


@pytest.mark.parametrize("kind", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupt_leaves_nothing_half_written(kind, workspace):
    (workspace / "slow.py").write_text(
        "import time, numpy\nfrom pathlib import Path\n"
        "def load(path):\n    Path('started').touch(); time.sleep(30)\n    return numpy.zeros((3, 64, 64))\n"
    )
    before = {path for path in workspace.rglob("*") if "__pycache__" not in path.parts}
    command = [
        str(Path(sys.executable).with_name("zygal")),
        "witness",
        "channel_marks.pt2",
        "--images",
        "reference",
        "-o",
        "new.witness",
        "--training-code",
        "slow.py:load",
    ]
    process = subprocess.Popen(command, cwd=workspace, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    for _ in range(600):
        if (workspace / "started").exists():
            break
        time.sleep(0.1)
    process.send_signal(kind)
    _, errors = process.communicate(timeout=30)
    assert process.returncode == 128 + kind and "interrupted" in errors.splitlines()[-1] and "Traceback" not in errors
    left = {path for path in workspace.rglob("*") if "__pycache__" not in path.parts}
    assert left - before == {workspace / "started"}
