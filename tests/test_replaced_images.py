"""classify: replaced images are answered anew, files that are no images are passed over, and outputs that are no
classes."""

import csv
import json
import os
import shutil

import numpy as np
import pytest
from conftest import called, refused
from PIL import Image

from zygal.engines.artifact import RuntimeEngine
from zygal.inlet import apply_inlet, read_inlet


@pytest.fixture
def folder(shipped, tmp_path):
    shutil.copytree(shipped / "reference", tmp_path / "images")
    for name in ("channel_marks.onnx", "channel_marks.inlet.toml"):
        shutil.copy(shipped / name, tmp_path)
    return tmp_path


def classified(folder, output, *more):
    done = called("classify", "channel_marks.onnx", "images", "-o", output, "--json", "out.json", *more, cwd=folder)
    assert done.returncode == 0, done.stderr
    return json.loads((folder / "out.json").read_text()), done.stderr


@pytest.mark.parametrize("ending", ["csv", "jsonl", "parquet"])
def test_of_a_finished_file_only_the_blocks_of_replaced_images_are_made_again(ending, folder, monkeypatch):
    name = f"rows.{ending}"
    classified(folder, name)
    before = (folder / name).read_bytes()
    found, notes = classified(folder, name)
    assert found["images_replaced"] == 0 and "complete already" in notes and (folder / name).read_bytes() == before
    shutil.copyfile(folder / "images/mark-07.png", folder / "images/mark-18.png")
    ran, run = [], RuntimeEngine.run
    monkeypatch.setattr(RuntimeEngine, "run", lambda engine, batch: ran.append(len(batch)) or run(engine, batch))
    found, notes = classified(folder, name)
    assert found["images_replaced"] == 1 and "rows were made again" in notes
    assert sum(ran) == 4 + 8  # The test images that tell what the scores are, and one block.
    assert found["counts"]["read"] == 40 and found["rows"] == 40
    classified(folder, f"fresh.{ending}")
    assert (folder / name).read_bytes() == (folder / f"fresh.{ending}").read_bytes() != before
    assert sorted(each.name for each in folder.glob(f"{name}*")) == [name, f"{name}.run.images", f"{name}.run.json"]


def test_an_image_that_is_gone_or_only_touched(folder):
    classified(folder, "rows.csv", "--hash-images")
    os.utime(folder / "images/mark-05.jpg", (1, 1))
    found, _ = classified(folder, "rows.csv", "--hash-images")
    assert found["images_replaced"] == 0
    found, _ = classified(folder, "rows.csv")
    assert found["images_replaced"] == 1
    (folder / "images/mark-05.jpg").unlink()
    refused(called("classify", "channel_marks.onnx", "images", "-o", "rows.csv", cwd=folder), "other images")
    (folder / "rows.csv.run.images").write_text("nonsense\n")
    shutil.copyfile(folder / "images/mark-06.jpg", folder / "images/mark-05.jpg")
    refused(called("classify", "channel_marks.onnx", "images", "-o", "rows.csv", cwd=folder), "--overwrite")


def test_what_is_no_image_by_content_is_passed_over_in_folders_but_not_when_it_is_named(folder):
    images = folder / "images"
    (images / "notes").write_text("not a picture")
    (images / "earlier.csv").write_text("path,class_1\n")
    (images / "page.jpg").write_text("<html>not found</html>")
    Image.new("RGB", (80, 80), "red").save(images / "without_an_ending", "PNG")
    done = called("classify", "channel_marks.onnx", "images", "-o", "rows.csv", cwd=folder)
    assert done.returncode == 3 and "skipped: 2 (images/earlier.csv, images/notes)" in done.stderr, done.stderr
    rows = {row["path"]: row["error"] for row in csv.DictReader((folder / "rows.csv").open())}
    assert len(rows) == 42 and not rows["images/without_an_ending"] and rows["images/page.jpg"]
    refused(called("classify", "channel_marks.onnx", "images/notes", cwd=folder), "is not an image")


def test_an_output_that_is_not_classes_is_written_as_vectors(folder):
    pyarrow = pytest.importorskip("pyarrow.parquet")
    (folder / "images/broken.jpg").write_bytes(b"\xff\xd8\xff")
    inlet, engine = read_inlet(folder / "channel_marks.inlet.toml"), RuntimeEngine(folder / "channel_marks.onnx", 1)
    for name in ("v.npy", "v.parquet"):
        done = called("classify", "channel_marks.onnx", "images", "--as", "vectors", "-o", name, cwd=folder)
        assert done.returncode == 3 and "40 vectors of 10 numbers" in done.stdout, done.stderr
    vectors, names = np.load(folder / "v.npy"), (folder / "v.npy.names.txt").read_text().splitlines()
    assert vectors.shape == (40, 10) and vectors.dtype == np.float32 and len(names) == 40
    table = pyarrow.read_table(folder / "v.parquet").to_pylist()
    assert [row["path"] for row in table if row["vector"] is not None] == names and len(table) == 41
    for row, vector in zip(names, vectors):
        wanted = engine.run(apply_inlet(folder / row, inlet).tensor[None])[0]
        assert np.abs(vector - wanted).max() < 1e-5
    assert np.array_equal(np.array([row["vector"] for row in table if row["vector"]], np.float32), vectors)


WRONG = {
    "no file": (("--as", "vectors"), "give its name with -o"),
    "another ending": (("--as", "vectors", "-o", "v.csv"), ".parquet or .npy"),
    "labels": (("--as", "vectors", "-o", "v.npy", "--labels", "images"), "--labels does not apply"),
    "hashes of nothing": (("--hash-images",), "needs -o FILE"),
}


@pytest.mark.parametrize("name", WRONG)
def test_options_that_do_not_go_together(name, folder):
    more, words = WRONG[name]
    refused(called("classify", "channel_marks.onnx", "images", *more, cwd=folder), words)


INPUTS = {
    "a photograph": (
        "match",
        "channel_marks.onnx",
        "--witness",
        "w.witness",
        "--images",
        "images",
        "--sheet",
        "images/mark-03.png",
    ),
    "the inlet itself": (
        "match",
        "channel_marks.onnx",
        "--witness",
        "w.witness",
        "--images",
        "images",
        "--inlet",
        "channel_marks.inlet.toml",
        "--write-inlet",
        "channel_marks.inlet.toml",
    ),
    "training code": ("witness", "m.pt2", "--images", "images", "--training-code", "code.py:load", "-o", "code.py"),
    "a table of labels": ("bench", "channel_marks.onnx", "--seconds", "0.1", "--csv", "labelled.csv"),
}


@pytest.mark.parametrize("name", INPUTS)
def test_outputs_never_replace_inputs_or_other_peoples_files(name, folder, shipped):
    for source, target in (
        ("channel_marks.witness", "w.witness"),
        ("channel_marks.pt2", "m.pt2"),
        ("training_code.py", "code.py"),
        ("labelled.csv", "labelled.csv"),
    ):
        if (shipped / source).exists():
            shutil.copy(shipped / source, folder / target)
    (folder / "labelled.csv").write_text("path,label\na.jpg,b\n")
    before = {each: each.read_bytes() for each in folder.rglob("*") if each.is_file()}
    refused(called(*INPUTS[name], cwd=folder), "--overwrite")
    assert {each: each.read_bytes() for each in folder.rglob("*") if each.is_file()} == before
