"""Bundles: the same bytes from the same inputs, what they refuse, and the runners in Python and JavaScript, run for
real."""

import importlib.util
import json
import os
import re
import shutil
import subprocess
import sys
import zipfile
from dataclasses import replace
from importlib.resources import files
from pathlib import Path

import numpy as np
import pytest
from conftest import called, capture, program, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image, ImageCms

from zygal.bundle.abilities import cannot_do
from zygal.bundle.archive import MANIFEST, Bundle, write_bundle
from zygal.bundle.contents import SCRIPT_RUNNERS, runner
from zygal.bundle.model import inlet_data
from zygal.errors import BundleError, ZygalError
from zygal.inlet import Inlet, apply_inlet, read_inlet
from zygal.inlet.specification import Crop, Decode, Pad, Resize, Tensor, Values

RUNNERS = files("zygal.bundle") / "runners"
RECIPES = sorted((files("zygal.inlet") / "recipes").iterdir(), key=lambda path: path.name)
TITLE = "Channel marks"


def module(path):
    spec = importlib.util.spec_from_file_location("classify", path)
    made = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(made)
    return made


RUNNER = module(RUNNERS / "classify.py")


def test_the_same_inputs_give_the_same_bytes_wherever_they_lie(signed, tmp_path):
    other = Path(shutil.copytree(signed, tmp_path / "elsewhere"))
    for file in other.rglob("*"):
        os.utime(file, (1e9, 1e9))
    done = program(
        "pack",
        "channel_marks.onnx",
        "keras_marks.onnx",
        "--images",
        "reference",
        "--signoff",
        "signoff.signoff",
        "-o",
        "again.zip",
        cwd=other,
    )
    assert done.returncode == 0 and (other / "again.zip").read_bytes() == (signed / "both.zip").read_bytes()
    with zipfile.ZipFile(signed / "both.zip") as archive:
        names = archive.namelist()
        assert (
            names[0] == MANIFEST
            and names[1:] == sorted(names[1:])
            and len([name for name in names if name.startswith("reference/")]) <= 20
        )
        manifest = json.loads(archive.read(MANIFEST))
        assert set(manifest["files"]) == set(names[1:]) and manifest["signoff"]["title"] == TITLE
        # Nothing of the machine or of its folders is inside.
        assert not any(str(signed).encode() in archive.read(name) for name in names)
        readme = archive.read("README.md").decode()
    assert (
        "float32 [N, 3, 64, 64]" in readme
        and "do not apply a softmax again" in readme
        and "channel_marks/channel_marks.onnx: signed off" in readme
    )


def test_reference_images_differ_in_kind(signed):
    with zipfile.ZipFile(signed / "both.zip") as archive:
        models = json.loads(archive.read("classifier.json"))["models"]
    chosen = [signed / each["image"] for each in models[0]["references"]]
    assert len(chosen) == 10 and {"RGBA", "L", "P", "RGB"} <= {Image.open(path).mode for path in chosen}
    assert len({each["predicted"] for each in models[0]["references"]}) >= 5
    assert any(Image.open(path).getexif().get(0x0112, 1) > 1 for path in chosen)


def test_the_check_passes_and_says_what_it_found(signed):
    done = program("pack", "--check", "both.zip", "--signoff", "signoff.signoff", "--json", "check.json", cwd=signed)
    assert done.returncode == 0 and "PASS: files, signoff, runner." in done.stdout
    document = json.loads((signed / "check.json").read_text())
    assert sum("0 of 10 images fail" in line for line in document["check"]["runner_said"]) == 2
    assert all(gate["passed"] for gate in document["gates"]) and not document["check"]["faults"]


def rewritten(source, target, change):
    """A copy of a zip archive whose members went through `change(name, data)`; None leaves one out."""
    with zipfile.ZipFile(source) as before, zipfile.ZipFile(target, "w") as after:
        for name in before.namelist():
            data = change(name, before.read(name))
            if data is not None:
                after.writestr(name, data)
    return target


@pytest.mark.parametrize(
    "name, change, words",
    [
        (
            "an artifact",
            lambda name, data: data[:-1] + b"x" if name.endswith(".onnx") else data,
            "channel_marks.onnx has other bytes",
        ),
        (
            "a runner",
            lambda name, data: data + b"\nimport os\n" if name == "classify.py" else data,
            "classify.py has other bytes",
        ),
        ("a missing image", lambda name, data: None if name.startswith("reference/mark-00") else data, "is missing"),
    ],
)
def test_a_bundle_that_was_tampered_with_fails_by_name_and_nothing_of_it_is_run(signed, tmp_path, name, change, words):
    rewritten(signed / "both.zip", tmp_path / "bad.zip", change)
    done = called("pack", "--check", "bad.zip", cwd=tmp_path)
    assert (
        done.returncode == 1
        and words in done.stdout
        and "FAIL: files." in done.stdout
        and "runner: not checked" in done.stdout
        or "Not checked: sign-off and runner" in done.stdout
    )


def test_a_runner_that_is_not_ours_is_run_only_on_demand(signed, tmp_path):
    """Manifest and file agree, but the program is another one."""
    with Bundle(signed / "both.zip") as bundle:
        content = {name: bundle.read(name) for name in bundle.names}
        record = bundle.manifest["signoff"]
    trace = tmp_path / "trace"
    content["classify.py"] = f"import pathlib\npathlib.Path({str(trace)!r}).touch()\nprint('mine')\n".encode()
    write_bundle(tmp_path / "other.zip", content, record)
    done = called("pack", "--check", "other.zip", cwd=tmp_path)
    assert (
        done.returncode == 1
        and "add --run-code if you trust the bundle" in " ".join(done.stdout.split())
        and "FAIL: runner." in done.stdout
        and not trace.exists()
    )
    done = called("pack", "--check", "other.zip", "--run-code", cwd=tmp_path)
    assert "mine" in done.stdout and trace.exists()
    # Another artifact than the one that was signed off, with a manifest that fits.
    name = "channel_marks/channel_marks.onnx"
    write_bundle(tmp_path / "swapped.zip", {**content, name: content["keras_marks/keras_marks.onnx"]}, record)
    done = called("pack", "--check", "swapped.zip", "--signoff", str(signed / "signoff.signoff"), cwd=tmp_path)
    assert done.returncode == 1 and "FAIL: signoff" in done.stdout


def test_what_is_no_bundle_is_refused(signed, tmp_path):
    (tmp_path / "half.zip").write_bytes((signed / "both.zip").read_bytes()[:5000])
    with zipfile.ZipFile(tmp_path / "plain.zip", "w") as archive:
        archive.writestr("a.txt", "x")
    write_bundle(tmp_path / "up.zip", {"../escape.txt": b"x"}, None)
    write_bundle(tmp_path / "empty.zip", {"a.txt": b"x"}, None)
    write_bundle(tmp_path / "odd.zip", {"classifier.json": b'{"models": [3]}'}, None)
    write_bundle(tmp_path / "gone.zip", {"classifier.json": b'{"models": [{"file": "x.onnx"}]}'}, None)
    with zipfile.ZipFile(tmp_path / "packed.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(
            MANIFEST,
            json.dumps({"kind": "zygal.bundle", "version": 1, "zygal_version": "0", "signoff": None, "files": {}}),
        )
    for name, words in (
        ("odd.zip", "must be an object"),
        ("gone.zip", "names the artifact 'x.onnx'"),
        ("packed.zip", "holds compressed files"),
    ):
        refused(called("pack", "--check", name, cwd=tmp_path), words)
    for name, words in (
        ("half.zip", "not a whole zip"),
        ("plain.zip", "without MANIFEST.json"),
        ("up.zip", "leads out of the bundle"),
        ("empty.zip", "no classifier.json"),
        ("none.zip", "cannot be read"),
    ):
        refused(called("pack", "--check", name, cwd=tmp_path), words)
    refused(called("pack", cwd=tmp_path), "name the artifacts to pack")
    refused(called("pack", str(signed / "channel_marks.onnx"), "-o", "b.zip", cwd=tmp_path), "--images is missing")
    refused(
        called(
            "pack", str(signed / "channel_marks.onnx"), "--images", str(signed / "wrong"), "-o", "b.zip", cwd=tmp_path
        ),
        "holds no images",
    )
    refused(
        called("pack", "channel_marks.onnx", "--check", "both.zip", cwd=signed), "ARTIFACT does not apply to --check"
    )
    refused(
        called(
            "pack",
            "keras_marks.onnx",
            "--images",
            "reference",
            "--signoff",
            "signoff.signoff",
            "-o",
            "b.zip",
            cwd=signed,
        ),
        "none of the artifacts to pack",
    )
    result = json.loads((signed / "signoff.signoff" / "result.json").read_text())
    (tmp_path / "result.json").write_text(json.dumps(result | {"signed_off": False}))
    refused(
        called(
            "pack",
            "channel_marks.onnx",
            "--images",
            "reference",
            "--signoff",
            str(tmp_path / "result.json"),
            "-o",
            "b.zip",
            cwd=signed,
        ),
        "was not signed off",
    )
    (signed / "photograph.zip").write_bytes(b"PK\x03\x04 something else")
    refused(
        called("pack", "channel_marks.onnx", "--images", "reference", "-o", "photograph.zip", cwd=signed),
        "exists and is not a bundle",
    )
    done = called(
        "convert", "channel_marks.pt2", "-o", "nameless.onnx", "--inlet", "channel_marks.inlet.toml", cwd=signed
    )
    assert done.returncode == 0
    refused(called("pack", "nameless.onnx", "--images", "reference", "-o", "b.zip", cwd=signed), "holds no labels")


@settings(max_examples=150)
@given(st.data())
def test_a_damaged_bundle_is_refused_or_fails(signed, tmp_path_factory, data):
    """Whatever bytes are changed, the check ends with a sentence or a failed gate."""
    from zygal.bundle.check import check_bundle

    content = bytearray((signed / "both.zip").read_bytes())
    for _ in range(data.draw(st.integers(1, 3))):
        content[data.draw(st.integers(0, len(content) - 1))] ^= data.draw(st.integers(1, 255))
    path = tmp_path_factory.getbasetemp() / "drawn.zip"
    path.write_bytes(content[: data.draw(st.integers(len(content) // 2, len(content)))])
    try:
        assert not check_bundle(path).gates[0].passes
    except ZygalError as fault:
        assert "\n" not in str(fault)


def test_the_python_runner_is_short_and_stands_alone(unpacked):
    text = (unpacked / "classify.py").read_text()
    assert len(text.splitlines()) < 240 and set(re.findall(r"^(?:    )*(?:import|from) (\w+)", text, re.M)) <= {
        "hashlib",
        "json",
        "os",
        "sys",
        "pathlib",
        "numpy",
        "PIL",
        "onnxruntime",
    }
    done = subprocess.run(
        [sys.executable, "-E", "-s", "classify.py", "--check"],
        cwd=unpacked,
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert (
        done.returncode == 0 and done.stdout.count("pass  reference/") == 20 and "tensor differs" not in done.stdout
    ), done.stdout + done.stderr
    (unpacked / "reference" / "mark-00.jpg").write_bytes((unpacked / "reference" / "mark-01.jpg").read_bytes())
    done = subprocess.run(
        [sys.executable, "-E", "-s", "classify.py", "--check"],
        cwd=unpacked,
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert done.returncode == 1 and "FAIL  reference/mark-00.jpg: file CHANGED, tensor differs" in done.stdout
    done = subprocess.run(
        [sys.executable, "-E", "-s", "classify.py", "--model", "whale", "x.jpg"],
        cwd=unpacked,
        capture_output=True,
        text=True,
        timeout=120,
    )
    assert done.returncode != 0 and "there is no model whale; there are channel_marks, keras_marks" in done.stderr


def test_the_runners_classify_as_zygal_does(unpacked, signed):
    done = subprocess.run(
        [sys.executable, "-E", "-s", "classify.py", "reference/mark-05.jpg"],
        cwd=unpacked,
        capture_output=True,
        text=True,
        timeout=120,
    )
    ours = called("classify", "channel_marks.onnx", "reference/mark-05.jpg", "--json", "-", cwd=signed)
    first = json.loads(ours.stdout)["predictions"][0]
    said = ", ".join(
        f"{name} {share:.3f}" for name, share in ((each["name"], each["probability"]) for each in first["top"])
    )
    assert done.stdout == f"reference/mark-05.jpg: {said}\n"


sizes = st.integers(8, 90)
resizes = (
    st.builds(
        Resize,
        size=st.tuples(sizes, sizes),
        filter=st.sampled_from(["bilinear", "bicubic", "lanczos", "box", "nearest"]),
        order=st.sampled_from(["by-shrinkage", "columns"]),
    )
    | st.builds(
        Resize,
        short_side=sizes,
        filter=st.sampled_from(["bilinear", "bicubic"]),
        long_side=st.sampled_from(["down", "nearest", "up"]),
    )
    | st.builds(
        Resize,
        within=st.tuples(sizes, sizes),
        filter=st.just("bilinear"),
        long_side=st.sampled_from(["down", "nearest", "up"]),
    )
    | st.builds(
        Resize,
        cover=st.tuples(sizes, sizes),
        filter=st.just("bilinear"),
        long_side=st.sampled_from(["down", "nearest", "up"]),
    )
)
float_resizes = st.builds(
    Resize,
    size=st.tuples(sizes, sizes),
    filter=st.sampled_from(["bilinear", "bicubic"]),
    antialias=st.booleans(),
    edges=st.sampled_from(["inside", "repeat"]),
    cubic=st.sampled_from([-0.5, -0.75]),
    rounding=st.just("none"),
)
windows = st.builds(
    Crop, size=st.tuples(st.integers(2, 8), st.integers(2, 8)), centring=st.sampled_from(["down", "nearest", "up"])
) | st.builds(Crop, aspect=st.sampled_from([(1, 1), (3, 4)]), centring=st.sampled_from(["down", "nearest", "up"]))
pads = st.builds(
    Pad,
    size=st.tuples(st.integers(500, 510), st.integers(500, 510)),
    colour=st.sampled_from(["#000000", "#7a7a7a", "#10ff80"]),
    centring=st.sampled_from(["down", "nearest", "up"]),
)
decodes = st.builds(
    Decode,
    colour=st.sampled_from(["rgb", "bgr", "grey"]),
    exif=st.sampled_from(["apply", "ignore"]),
    transparency=st.sampled_from(["drop", "#ffffff", "#206080"]),
    grey_channels=st.sampled_from([1, 3]),
)


@st.composite
def inlets(draw):
    decode = draw(decodes)
    decode = decode if decode.colour == "grey" else replace(decode, grey_channels=1)
    frame = (
        (draw(resizes), *draw(st.sampled_from([(), (draw(windows),), (draw(pads),)])))
        if draw(st.booleans())
        else (draw(float_resizes), *((draw(windows),) if draw(st.booleans()) else ()))
    )
    channels = decode.grey_channels if decode.colour == "grey" else 3
    numbers = st.floats(0.1, 2).map(lambda value: round(value, 3))
    statistics = draw(st.booleans())
    values = Values(
        draw(st.sampled_from([(0.0, 1.0), (-1.0, 1.0), (0.0, 255.0)])),
        *((tuple(draw(numbers) for _ in range(channels)),) * 2 if statistics else (None, None)),
    )
    return Inlet(decode, frame, values, Tensor(draw(st.sampled_from(["NCHW", "NHWC"])), "float32"))


IMAGES = [f"mark-{number}" for number in ("00.jpg", "06.jpg", "07.png", "11.jpg", "18.png", "23.png")]


@settings(max_examples=120)
@given(inlets(), st.sampled_from(IMAGES))
def test_the_python_runner_preprocesses_as_zygal_does(shipped, inlet, name):
    """Bit for bit where 8-bit pixels are resized; within a thousandth of a grey level in floats."""
    assert cannot_do(inlet, False) == []
    path = shipped / "reference" / name
    ours = apply_inlet(path, inlet)
    tensor = RUNNER.tensor_of(path, {"inlet": inlet_data(inlet), "raw_pixels": False})
    assert tensor.shape == ours.tensor.shape and tensor.dtype == ours.tensor.dtype
    if inlet.frame[0].rounding == "none" and inlet.frame[0].filter != "nearest":
        levels = np.abs(tensor.astype(float) - ours.tensor) / np.abs(ours.grey_level).min()
        assert levels.max() < 1e-3
    else:
        assert tensor.tobytes() == ours.tensor.tobytes()


@pytest.mark.parametrize(
    "recipe", RECIPES, ids=lambda path: path.name.partition(".")[0] if hasattr(path, "name") else ""
)
def test_a_recipe_is_done_exactly_or_refused_by_name(recipe, shipped, tmp_path):
    if not recipe.name.endswith(".toml"):
        return
    inlet = read_inlet(recipe)
    if not cannot_do(inlet, False):
        path = shipped / "reference" / "mark-06.jpg"
        tensor = RUNNER.tensor_of(path, {"inlet": inlet_data(inlet), "raw_pixels": False})
        assert np.abs(tensor.astype(float) - apply_inlet(path, inlet).tensor).max() < 1e-5


def test_preprocessing_that_the_runners_cannot_do_goes_into_the_artifact(signed, tmp_path):
    """OpenCV's resize is refused by name; with --raw-pixels the same bundle runs, and so it does without runners."""
    text = (
        (signed / "channel_marks.inlet.toml")
        .read_text()
        .replace('filter = "bilinear"', 'filter = "bilinear"\nantialias = false\nrounding = "fixed"')
    )
    (tmp_path / "opencv.inlet.toml").write_text(text)
    common = ("--inlet", "opencv.inlet.toml", "--labels", str(signed / "labels.txt"))
    for name, more in (("plain.onnx", ()), ("raw.onnx", ("--raw-pixels",))):
        assert called("convert", signed / "channel_marks.pt2", "-o", name, *common, *more, cwd=tmp_path).returncode == 0
    refused(
        called("pack", "plain.onnx", "--images", signed / "reference", "-o", "a.zip", cwd=tmp_path),
        "rounding fixed",
        "--raw-pixels",
    )
    assert (
        called(
            "pack", "plain.onnx", "--images", signed / "reference", "-o", "a.zip", "--no-runners", cwd=tmp_path
        ).returncode
        == 0
    )
    done = called("pack", "--check", "a.zip", cwd=tmp_path)
    assert done.returncode == 0 and "without runners" in done.stdout
    assert called("pack", "raw.onnx", "--images", signed / "reference", "-o", "b.zip", cwd=tmp_path).returncode == 0
    done = called("pack", "--check", "b.zip", cwd=tmp_path)
    assert done.returncode == 0 and "0 of 10 images fail" in done.stdout


@pytest.mark.slow
def test_the_javascript_runner_gives_the_same_scores(unpacked, node_modules):
    os.symlink(node_modules, unpacked / "node_modules")
    done = subprocess.run(
        ["node", "classify.mjs", "--check"], cwd=unpacked, capture_output=True, text=True, timeout=300
    )
    assert (
        done.returncode == 0 and done.stdout.count("pass  reference/") == 20 and "tensor differs" not in done.stdout
    ), done.stdout + done.stderr
    largest = [float(found) for found in re.findall(r"largest difference (\S+) of the spread", done.stdout)]
    assert len(largest) == 2 and max(largest) <= 1e-5
    one, other = (
        subprocess.run(command, cwd=unpacked, capture_output=True, text=True, timeout=120).stdout
        for command in (
            ["node", "classify.mjs", "reference/mark-05.jpg"],
            [sys.executable, "-E", "-s", "classify.py", "reference/mark-05.jpg"],
        )
    )
    assert one == other and "west-cardinal" in one


@pytest.mark.slow
def test_eight_bits_may_differ_by_steps_but_not_in_the_class(signed, shrunk, node_modules, tmp_path):
    """WebAssembly rounds in other places than this processor; the float limit stays what it is."""
    shutil.copy(shrunk / "small.onnx", signed)
    assert (
        called(
            "pack", "small.onnx", "channel_marks.onnx", "--images", "reference", "-o", "small.zip", cwd=signed
        ).returncode
        == 0
    )
    with zipfile.ZipFile(signed / "small.zip") as archive:
        archive.extractall(tmp_path)
    limits = {
        each["name"]: each["limit_of_spread"]
        for each in json.loads((tmp_path / "classifier.json").read_text())["models"]
    }
    assert limits == {"small": 0.02, "channel_marks": 1e-5}
    os.symlink(node_modules, tmp_path / "node_modules")
    for command in (["node", "classify.mjs", "--check"], [sys.executable, "-E", "-s", "classify.py", "--check"]):
        done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True, timeout=200)
        assert done.returncode == 0 and done.stdout.count("0 of 10 images fail") == 2, done.stdout + done.stderr


CASES = 40


@pytest.mark.slow
def test_preprocessing_inside_the_artifact_is_held_to_the_limit_of_match(signed, node_modules, tmp_path):
    """OpenCV's whole numbers are exact on every processor; sums that are rounded may fall on the other side."""
    fixed = (
        (signed / "channel_marks.inlet.toml")
        .read_text()
        .replace('filter = "bilinear"', 'filter = "bilinear"\nantialias = false\nrounding = "fixed"')
    )
    (tmp_path / "fixed.toml").write_text(fixed)
    for name, inlet in (("fixed", tmp_path / "fixed.toml"), ("rounded", signed / "channel_marks.inlet.toml")):
        done = called(
            "convert",
            signed / "channel_marks.pt2",
            "-o",
            f"{name}.onnx",
            "--inlet",
            inlet,
            "--labels",
            signed / "labels.txt",
            "--raw-pixels",
            cwd=tmp_path,
        )
        assert done.returncode == 0, done.stderr
    assert (
        called(
            "pack", "fixed.onnx", "rounded.onnx", "--images", signed / "reference", "-o", "raw.zip", cwd=tmp_path
        ).returncode
        == 0
    )
    with zipfile.ZipFile(tmp_path / "raw.zip") as archive:
        archive.extractall(tmp_path)
    assert {
        each["name"]: each["limit_of_spread"]
        for each in json.loads((tmp_path / "classifier.json").read_text())["models"]
    } == {"fixed": 1e-5, "rounded": 0.01}
    os.symlink(node_modules, tmp_path / "node_modules")
    done = subprocess.run(
        ["node", "classify.mjs", "--check"], cwd=tmp_path, capture_output=True, text=True, timeout=200
    )
    assert done.returncode == 0 and done.stdout.count("0 of 10 images fail") == 2, done.stdout + done.stderr


@pytest.mark.slow
def test_the_javascript_runner_preprocesses_as_zygal_does(shipped, node_modules, tmp_path):
    """Inlets drawn as for the Python runner, all in one process."""
    for name in SCRIPT_RUNNERS:
        (tmp_path / name).write_bytes(runner(name))
    os.symlink(node_modules, tmp_path / "node_modules")
    cases = []

    @settings(max_examples=CASES, database=None)
    @given(inlets(), st.sampled_from(IMAGES))
    def draw(inlet, name):
        cases.append((inlet, name))

    draw()
    (tmp_path / "cases.json").write_text(
        json.dumps([[inlet_data(inlet), str(shipped / "reference" / name)] for inlet, name in cases])
    )
    (tmp_path / "run.mjs").write_text(
        DECODER
        + """
const cases = JSON.parse(await readFile("cases.json"));
for (const [index, [inlet, path]] of cases.entries()) {
  const {data} = tensorOf(await decode(await readFile(path), inlet.decode), {inlet, raw_pixels: false});
  await writeFile(`${index}.bin`, new Uint8Array(data.buffer, data.byteOffset, data.byteLength));
}
"""
    )
    done = subprocess.run(["node", "run.mjs"], cwd=tmp_path, capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    assert len(cases) >= CASES
    for index, (inlet, name) in enumerate(cases):
        ours = apply_inlet(shipped / "reference" / name, inlet)
        found = np.fromfile(tmp_path / f"{index}.bin", np.float32).reshape(ours.tensor.shape)
        levels = np.abs(found.astype(float) - ours.tensor) / np.abs(ours.grey_level).min()
        exact = inlet.frame[0].rounding != "none" or inlet.frame[0].filter == "nearest"
        assert found.tobytes() == ours.tensor.tobytes() if exact else levels.max() < 1e-3, (inlet, name, levels.max())


def image_files(folder):
    """Files of the kinds that people have."""
    y, x = np.mgrid[0:61, 0:97]
    colours = np.stack(
        [127 + 120 * np.sin(x / 9 + y / 17), 127 + 120 * np.cos(x / 5 - y / 11), 127 + 100 * np.sin(x * y / 300)], -1
    )
    picture = Image.fromarray(
        np.clip(colours + np.random.default_rng(0).normal(0, 12, colours.shape), 0, 255).astype(np.uint8)
    )
    grey, alpha, palette = (
        picture.convert("L"),
        Image.fromarray((x * 2.6).clip(0, 255).astype(np.uint8)),
        picture.quantize(60),
    )
    clear, faint, turned = picture.copy(), grey.copy(), Image.Exif()
    clear.putalpha(alpha)
    faint.putalpha(alpha)
    turned[0x0112] = 6
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    saved = {
        "j444.jpg": (picture, {"subsampling": 0}),
        "j422.jpg": (picture, {"subsampling": 1}),
        "j420.jpg": (picture, {"subsampling": 2, "quality": 50}),
        "progressive.jpg": (picture, {"progressive": True}),
        "grey.jpg": (grey, {}),
        "cmyk.jpg": (picture.convert("CMYK"), {}),
        "turned.jpg": (picture, {"exif": turned}),
        "profile.jpg": (picture, {"icc_profile": profile}),
        "plain.png": (picture, {}),
        "grey.png": (grey, {}),
        "clear.png": (clear, {}),
        "faint.png": (faint, {}),
        "palette.png": (palette, {}),
        "palette_clear.png": (palette, {"transparency": bytes(range(0, 240, 4))}),
        "one_colour_clear.png": (picture, {"transparency": picture.getpixel((3, 3))}),
        "bits.png": (grey.convert("1"), {}),
        "sixteen.png": (Image.fromarray(np.asarray(grey).astype(np.uint16) * 257), {}),
        "lossy.webp": (picture, {"quality": 70}),
        "clear.webp": (clear, {"lossless": True, "exact": True}),
        "turned.webp": (picture, {"lossless": True, "exif": turned}),
        "plain.gif": (palette, {}),
        "clear.gif": (palette, {"transparency": 5}),
        "plain.tif": (picture, {"compression": "tiff_lzw"}),
        "plain.bmp": (picture, {}),
    }
    for name, (each, options) in saved.items():
        each.save(folder / name, **options)
    return list(saved)


DECODES = (
    Decode(exif="apply", transparency="#206080"),
    Decode(exif="ignore", transparency="drop"),
    Decode(colour="grey", exif="apply", transparency="#ffffff"),
)
REFUSED_IN_NODE = {
    "cmyk.jpg": "8 bits a channel, in grey or RGB",
    "sixteen.png": "8 bits a channel",
    "plain.bmp": "unsupported image format",
}


@pytest.mark.slow
def test_every_kind_of_image_file_is_decoded_as_by_zygal_or_refused(node_modules, tmp_path):
    """In Python and in Node, bit for bit: subsampled and progressive JPEG files, palettes, transparency of every sort,
    EXIF rotation, colour profiles."""
    names = image_files(tmp_path)
    cases = [
        (name, Inlet(decode, (Resize(size=(40, 50)),), Values((0.0, 255.0)), Tensor("NHWC", "float32")))
        for name in names
        for decode in DECODES
    ]
    for name in SCRIPT_RUNNERS:
        (tmp_path / name).write_bytes(runner(name))
    os.symlink(node_modules, tmp_path / "node_modules")
    (tmp_path / "cases.json").write_text(
        json.dumps([[inlet_data(inlet), str(tmp_path / name)] for name, inlet in cases])
    )
    (tmp_path / "run.mjs").write_text(
        DECODER
        + """
const faults = [];
for (const [index, [inlet, path]] of JSON.parse(await readFile("cases.json")).entries()) try {
  const {data} = tensorOf(await decode(await readFile(path), inlet.decode), {inlet, raw_pixels: false});
  await writeFile(`${index}.bin`, new Uint8Array(data.buffer, data.byteOffset, data.byteLength));
} catch (fault) { faults.push([index, fault.message]); }
console.log(JSON.stringify(faults));
"""
    )
    done = subprocess.run(["node", "run.mjs"], cwd=tmp_path, capture_output=True, text=True, timeout=300)
    assert done.returncode == 0, done.stderr
    refused_in_node = dict(json.loads(done.stdout))
    for index, (name, inlet) in enumerate(cases):
        if name == "sixteen.png":
            with pytest.raises(SystemExit, match="more than 8 bits"):
                RUNNER.tensor_of(tmp_path / name, {"inlet": inlet_data(inlet), "raw_pixels": False})
        else:
            ours = apply_inlet(tmp_path / name, inlet).tensor
            assert (
                RUNNER.tensor_of(tmp_path / name, {"inlet": inlet_data(inlet), "raw_pixels": False}).tobytes()
                == ours.tobytes()
            ), (name, inlet.decode)
        expected = REFUSED_IN_NODE.get(
            name, "of a GIF are lost" if name == "clear.gif" and inlet.decode.transparency == "drop" else None
        )
        if expected:
            assert expected in refused_in_node[index], name
        else:
            assert index not in refused_in_node and (tmp_path / f"{index}.bin").read_bytes() == ours.tobytes(), (
                name,
                inlet.decode,
            )


def test_reference_images_are_of_kinds_that_every_runner_decodes(signed, tmp_path):
    (tmp_path / "images").mkdir()
    image_files(tmp_path / "images")
    (tmp_path / "images" / "sixteen.png").unlink()
    assert (
        called("pack", signed / "channel_marks.onnx", "--images", "images", "-o", "kinds.zip", cwd=tmp_path).returncode
        == 0
    )
    with zipfile.ZipFile(tmp_path / "kinds.zip") as archive:
        chosen = {Path(name).name for name in archive.namelist() if name.startswith("reference/")}
    assert len(chosen) == 10 and not chosen & {"cmyk.jpg", "plain.bmp", "plain.tif", "clear.gif", "plain.gif"}


# The decoder of classify.mjs, with what it imports.
DECODER = """
import {readFile, writeFile} from "node:fs/promises";
import sharp from "sharp";
import {tensorOf} from "./classifier.mjs";
""" + re.search(r"async function decode.*?\n}\n", (RUNNERS / "classify.mjs").read_text(), re.S)[0]


def test_a_flatbuffer_is_packed_with_a_runner_of_its_own(signed, tmp_path):
    """Alone, and together with the ONNX artifact; what takes 8-bit numbers at its ends is refused."""
    common = ("--inlet", signed / "channel_marks.inlet.toml", "--labels", signed / "labels.txt")
    assert called("convert", signed / "channel_marks.pt2", "-o", "mobile.tflite", *common, cwd=tmp_path).returncode == 0
    for name, artifacts in (
        ("one.zip", ("mobile.tflite",)),
        ("two.zip", ("mobile.tflite", signed / "channel_marks.onnx")),
    ):
        done = called("pack", *artifacts, "--images", signed / "reference", "-o", name, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        done = called("pack", "--check", name, cwd=tmp_path)
        assert done.returncode == 0 and done.stdout.count("0 of 10 images fail") == len(artifacts), done.stdout
    with zipfile.ZipFile(tmp_path / "one.zip") as archive:
        assert (
            "classify.mjs" not in archive.namelist()
            and "classify_mobile.py" in archive.namelist()
            and "no ONNX model" in archive.read("other_languages.md").decode()
        )
    with zipfile.ZipFile(tmp_path / "two.zip") as archive:
        assert {"classify.mjs", "classify_mobile.py", "classify.py"} <= set(archive.namelist())


@pytest.mark.slow
def test_other_kinds_of_scores_are_read_as_zygal_reads_them(signed, node_modules, tmp_path):
    """One logit, one probability, several labels, log-probabilities, and a batch that the artifact insists on."""
    import torch

    class Small(torch.nn.Module):
        def __init__(self, outputs, ending):
            super().__init__()
            self.first, self.last, self.ending = torch.nn.Conv2d(3, 16, 7, 4), torch.nn.Linear(16, outputs), ending

        def forward(self, x):
            return self.ending(8 * self.last(torch.relu(self.first(x)).mean((2, 3))))

    endings = {
        "logit": (1, torch.nn.Identity()),
        "yes": (1, torch.nn.Sigmoid()),
        "labels": (3, torch.nn.Sigmoid()),
        "log": (3, torch.nn.LogSoftmax(1)),
        "fixed": (3, torch.nn.Identity()),
    }
    (tmp_path / "one.txt").write_text("buoy\n")
    (tmp_path / "three.txt").write_text("port\nstarboard\nspecial\n")
    for name, (outputs, ending) in endings.items():
        capture(Small(outputs, ending), tmp_path / f"{name}.pt2", (3, 64, 64), dynamic=name != "fixed")
        done = called(
            "convert",
            f"{name}.pt2",
            "-o",
            f"{name}.onnx",
            "--inlet",
            signed / "channel_marks.inlet.toml",
            "--labels",
            "one.txt" if outputs == 1 else "three.txt",
            *(["--keep-batch"] if name == "fixed" else []),
            cwd=tmp_path,
        )
        assert done.returncode == 0, done.stderr
    assert (
        called(
            "pack",
            *(f"{name}.onnx" for name in endings),
            "--images",
            signed / "reference",
            "-o",
            "all.zip",
            cwd=tmp_path,
        ).returncode
        == 0
    )
    assert called("pack", "--check", "all.zip", cwd=tmp_path).returncode == 0
    with zipfile.ZipFile(tmp_path / "all.zip") as archive:
        archive.extractall(tmp_path)
    os.symlink(node_modules, tmp_path / "node_modules")
    image = str(signed / "reference" / "mark-05.jpg")
    for name in endings:
        ours = called("classify", f"{name}.onnx", image, "--json", "-", cwd=tmp_path)
        first = json.loads(ours.stdout)["predictions"][0]
        said = ", ".join(f"{each['name']} {each['probability']:.3f}" for each in first["top"])
        for command in ([sys.executable, "-E", "-s", "classify.py"], ["node", "classify.mjs"]):
            done = subprocess.run(
                [*command, "--model", name, image], cwd=tmp_path, capture_output=True, text=True, timeout=120
            )
            assert done.stdout == f"{image}: {said}\n", (name, done.stdout, done.stderr)


def test_an_inlet_that_is_out_of_reach_is_named():
    reasons = {
        "decode.jpeg": Inlet(Decode(jpeg="fast")),
        "decode.polarity": Inlet(Decode(polarity="inverted")),
        "per_image": Inlet(values=Values(per_image="standardise")),
        "grid": Inlet(frame=(Resize(size=(8, 8), grid="corners"),)),
        "factor": Inlet(frame=(Resize(factor=0.5),)),
        "margins": Inlet(frame=(Crop(margins=(1, 1, 1, 1)),)),
    }
    for word, inlet in reasons.items():
        assert any(word in each or word == "margins" and "other than" in each for each in cannot_do(inlet, False)), word
    assert (
        cannot_do(Inlet(Decode(jpeg="fast")), True)
        and not cannot_do(Inlet(frame=(Resize(factor=0.5),)), True)
        and not cannot_do(Inlet(frame=(Resize(within=(8, 8)),)), False)
    )
    with pytest.raises(BundleError):
        Bundle(__file__)
