"""Answers about images: what is said, in every form, of whatever files there are, and through every interruption."""

import csv
import io
import json
import os
import random
import resource
import shutil
import subprocess
import sys
import time
from itertools import islice
from pathlib import Path

import numpy as np
import pyarrow.parquet
import pytest
from conftest import called, capture, program, refused
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from scipy.special import expit, log_softmax, softmax

from zygal.classifier.scores import recorded_scores_kind, to_probabilities
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import OutputError
from zygal.inlet import apply_to_all, read_inlet
from zygal.prediction.classification import Classification, open_predictions
from zygal.prediction.classifier import open_artifact, open_compared
from zygal.prediction.listing import Listing
from zygal.prediction.regions import region_map
from zygal.sources.opened import SourceFile

ZYGAL = Path(sys.executable).with_name("zygal")


def rows_of(path):
    with open(path, newline="") as file:
        return list(csv.DictReader(file))


@given(st.lists(st.lists(st.floats(-800, 800, width=32), min_size=4, max_size=4), min_size=2, max_size=6))
def test_probabilities_are_made_exactly_once(rows):
    logits = np.array(rows)
    wanted = softmax(logits, axis=1)
    assert np.allclose(to_probabilities(logits, "logits"), wanted, rtol=1e-12, atol=1e-300)
    assert np.allclose(
        to_probabilities(log_softmax(logits, axis=1), "log-probabilities"), wanted, rtol=1e-9, atol=1e-300
    )
    assert np.array_equal(to_probabilities(wanted, "probabilities"), wanted)
    assert np.allclose(to_probabilities(logits, "independent logits"), expit(logits), rtol=1e-12, atol=1e-300)
    assert recorded_scores_kind(wanted) == "probabilities"


@pytest.mark.parametrize("source", ["channel_marks", "keras/channel_marks"])
def test_rows_say_what_the_runtime_gives(source, shipped, tmp_path):
    folder = Path(source).parent
    artifact = tmp_path / "a.onnx"
    kind = ".keras" if "keras" in source else ".pt2"
    done = called(
        "convert",
        shipped / f"{source}{kind}",
        "-o",
        artifact,
        "--labels",
        shipped / "labels.txt",
        "--inlet",
        shipped / folder / "channel_marks.inlet.toml",
        cwd=tmp_path,
    )
    assert done.returncode == 0, done.stderr
    done = called("classify", artifact, shipped / "reference", "-o", "a.csv", "--top", "10", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    rows = rows_of(tmp_path / "a.csv")
    paths = sorted((shipped / "reference").iterdir())
    assert [row["path"] for row in rows] == [str(path) for path in paths]
    made = apply_to_all(paths, read_inlet(shipped / folder / "channel_marks.inlet.toml"))
    scores = RuntimeEngine(artifact, 1).run(np.stack([each.tensor for each in made]))
    wanted = scores.astype(float) if "keras" in source else softmax(scores.astype(float), axis=1)
    labels = (shipped / "labels.txt").read_text().split()
    for row, own_scores, probabilities in zip(rows, scores, wanted):
        order = np.argsort(-own_scores, kind="stable")
        assert [row[f"class_{place}"] for place in range(1, 11)] == [labels[i] for i in order]
        said = np.array([float(row[f"probability_{place}"]) for place in range(1, 11)])
        assert np.allclose(said, probabilities[order], rtol=2e-5, atol=1e-9)
        assert float(row["margin"]) == pytest.approx(said[0] - said[1], abs=1e-5)
        assert (row["uncertain"] == "yes") == (said[0] < 0.5 or said[0] - said[1] < 0.1)


@pytest.fixture
def troubled(workspace):
    """Images among files that are none."""
    folder = workspace / "photographs"
    folder.mkdir()
    for name in ("mark-00.jpg", "mark-03.png", "mark-27.png"):
        shutil.copy(workspace / "reference" / name, folder)
    whole = (folder / "mark-00.jpg").read_bytes()
    (folder / "cut.jpg").write_bytes(whole[: len(whole) // 2])
    (folder / "empty.png").touch()
    (folder / "notes.txt").write_text("no image")
    (folder / 'a,"b"\n.jpg').write_bytes(whole)
    (folder / ".hidden.jpg").write_bytes(b"")
    (folder / "later").mkdir()
    (folder / "later" / "mark-01").write_bytes((workspace / "reference/mark-01.jpg").read_bytes())
    # A picture of 60,000 by 60,000 pixels by its head.
    head = bytearray((folder / "mark-03.png").read_bytes())
    head[16:24] = (60_000).to_bytes(4, "big") * 2
    head[29:33] = __import__("zlib").crc32(bytes(head[12:29])).to_bytes(4, "big")
    (folder / "vast.png").write_bytes(head)
    return workspace


def test_every_file_has_its_row_whatever_it_is_and_all_forms_agree(troubled):
    wanted = [
        'a,"b"\n.jpg',
        "cut.jpg",
        "empty.png",
        "later/mark-01",
        "mark-00.jpg",
        "mark-03.png",
        "mark-27.png",
        "vast.png",
    ]
    forms = {}
    for ending in ("csv", "jsonl", "parquet"):
        done = called(
            "classify", "channel_marks.onnx", "photographs", "-o", f"a.{ending}", "--json", "a.json", cwd=troubled
        )
        assert done.returncode == 3 and "8 images" in done.stdout and "3 could not be read" in done.stdout, done.stdout
        assert "skipped: 1 (photographs/notes.txt)" in done.stderr
        assert json.loads((troubled / "a.json").read_text())["counts"]["unreadable"] == 3
    forms["csv"] = rows_of(troubled / "a.csv")
    forms["jsonl"] = [json.loads(line) for line in (troubled / "a.jsonl").read_text().splitlines()]
    forms["parquet"] = pyarrow.parquet.read_table(troubled / "a.parquet").to_pylist()
    assert forms["jsonl"] == forms["parquet"]
    spelt = {None: "", True: "yes", False: "no"}
    assert forms["csv"] == [
        {
            name: spelt[value] if value is None or value is True or value is False else str(value)
            for name, value in row.items()
        }
        for row in forms["jsonl"]
    ]
    rows = forms["jsonl"]
    assert [row["path"] for row in rows] == [f"photographs/{name}" for name in wanted]
    faults = {row["path"].rpartition("/")[2]: row["error"] for row in rows if row["error"]}
    assert set(faults) == {"cut.jpg", "empty.png", "vast.png"}
    assert "truncated" in faults["cut.jpg"] and "too many pixels" in faults["vast.png"]
    assert [row["uncertain"] for row in rows if row["path"].endswith("mark-27.png")] == [True]


def test_lists_and_standard_input(troubled):
    names = ["photographs/mark-03.png", "gone.jpg", "photographs", "photographs/mark-03.png"]
    (troubled / "list.txt").write_text("\r\n".join(names) + "\r\n\n")
    done = called("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "a.csv", "--top", "1", cwd=troubled)
    assert done.returncode == 3, done.stderr
    rows = rows_of(troubled / "a.csv")
    assert [row["path"] for row in rows] == names and rows[0] == rows[3] and "no such file" in rows[1]["error"].lower()
    done = program(
        "classify",
        "channel_marks.onnx",
        "--list",
        "-",
        "-o",
        "b.csv",
        "--top",
        "1",
        cwd=troubled,
        input="\n".join(names),
    )
    assert done.returncode == 3 and (troubled / "b.csv").read_bytes() == (troubled / "a.csv").read_bytes()
    done = called(
        "classify",
        "channel_marks.onnx",
        "photographs",
        "--skip",
        "*.txt",
        "--skip",
        "later",
        "-o",
        "c.csv",
        cwd=troubled,
    )
    assert len(rows_of(troubled / "c.csv")) == 7
    refused(program("classify", "channel_marks.onnx", "--list", "-", cwd=troubled, input=""), "names no images")


def test_the_order_of_a_folder_is_that_of_whole_paths(tmp_path):
    names = ["b/x.png", "b.jpg", "b/.y.png", "a b.png", "B.PNG", "b-/z.png", "c/d/e.png", "c/d.gif", "ü.png"]
    for name in names:
        (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / name).touch()
    listing = Listing([str(tmp_path)])
    assert [Path(path).relative_to(tmp_path).as_posix() for path in listing] == sorted(set(names) - {"b/.y.png"})
    assert listing.count() == 8


@pytest.mark.slow
def test_what_is_written_is_not_among_the_images_and_names_need_not_be_text(shipped, tmp_path):
    shutil.copy(shipped / "reference/mark-00.jpg", tmp_path / "a.jpg")
    shutil.copy(shipped / "reference/mark-00.jpg", os.fsencode(tmp_path) + b"/\xff.jpg")
    call = ("classify", shipped / "channel_marks.onnx", ".", "-o", "rows.csv", "--json", "rows.json")
    for _ in range(2):
        done = program(*call, cwd=tmp_path)
        assert done.returncode == 0 and "2 images" in done.stdout, done.stdout + done.stderr
    assert [row["path"] for row in rows_of(tmp_path / "rows.csv")] == ["./a.jpg", "./\\udcff.jpg"]
    done = program(
        "classify", shipped / "channel_marks.onnx", ".", "--skip", "rows.*", "--json", "few.json", cwd=tmp_path
    )
    assert done.returncode == 0 and len(json.loads((tmp_path / "few.json").read_text())["predictions"]) == 2, (
        done.stderr
    )


@pytest.mark.slow
@pytest.mark.parametrize("ending", ["csv", "parquet"])
def test_killed_at_any_moment_and_resumed_it_is_the_same_file(ending, workspace):
    names = sorted(path.relative_to(workspace).as_posix() for path in (workspace / "reference").iterdir())
    (workspace / "list.txt").write_text("".join(name + "\n" for name in [*names, "gone.jpg"] * 12))
    command = [ZYGAL, "classify", "channel_marks.onnx", "--list", "list.txt", "-o"]
    began = time.perf_counter()
    done = subprocess.run([*command, f"whole.{ending}"], cwd=workspace, capture_output=True, text=True)
    took = time.perf_counter() - began
    assert done.returncode == 3 and "12 could not be read" in done.stdout
    chance, kills, resumed = random.Random(ending), 0, 0
    account = workspace / f"again.{ending}.run.json"
    for _ in range(60):
        before = json.loads(account.read_text()) if account.exists() else {"rows": 0, "finished": False}
        safe = before["rows"]
        process = subprocess.Popen(
            [*command, f"again.{ending}"], cwd=workspace, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
        )
        try:
            out, errors = process.communicate(timeout=chance.uniform(0.4, 0.8) * took if kills < 4 else 120)
        except subprocess.TimeoutExpired:
            process.kill()
            out, errors = process.communicate()
            kills += 1
        if process.returncode != -9:
            # What was safe is not made again.
            said = "is complete already" if before["finished"] else f"is resumed after row {safe}"
            assert (said in errors) == (safe > 0)
            break
        resumed += safe > 0
    assert process.returncode == 3 and "12 could not be read" in out, errors
    assert (workspace / f"again.{ending}").read_bytes() == (workspace / f"whole.{ending}").read_bytes()
    assert not list(workspace.glob("*.unfinished")) and kills and safe > 0


@pytest.mark.parametrize("blocks, torn", [(1, b""), (2, b"reference/mark-9"), (3, b"\x00" * 5000), (4, b"whole,row\n")])
def test_after_a_power_cut_what_is_not_accounted_for_is_made_again(blocks, torn, workspace, monkeypatch):
    call = ("classify", "channel_marks.onnx", "reference", "-o")
    assert called(*call, "whole.csv", "--top", "2", cwd=workspace).returncode == 0
    monkeypatch.chdir(workspace)
    inquiry = Classification(open_artifact("channel_marks.onnx"), top=2)
    with open_predictions("part.csv", inquiry, Listing(["reference"])) as file:
        for _ in islice(file.write_rest(), blocks):
            pass
        with (
            pytest.raises(OutputError, match="being written by another"),
            open_predictions("part.csv", inquiry, Listing(["reference"])),
        ):
            pass
    account = json.loads((workspace / "part.csv.run.json").read_text())
    assert account["rows"] == 8 * blocks and not (workspace / "part.csv").exists()
    with (workspace / "part.csv.unfinished").open("ab") as file:
        file.write(torn)
    done = called(*call, "part.csv", "--top", "2", cwd=workspace)
    assert done.returncode == 0 and f"is resumed after row {8 * blocks}" in done.stderr, done.stderr
    assert (workspace / "part.csv").read_bytes() == (workspace / "whole.csv").read_bytes()
    # Cut off between the last row and the name.
    (workspace / "part.csv").rename(workspace / "part.csv.unfinished")
    assert "is complete already" in called(*call, "part.csv", "--top", "2", cwd=workspace).stderr
    assert (workspace / "part.csv").read_bytes() == (workspace / "whole.csv").read_bytes()


def test_a_full_disk_is_said_and_the_run_can_be_gone_on_with(workspace):
    call = ("classify", "channel_marks.onnx", "reference", "-o")
    assert called(*call, "whole.csv", cwd=workspace).returncode == 0
    size = (workspace / "whole.csv").stat().st_size
    done = program(
        *call,
        "part.csv",
        cwd=workspace,
        preexec_fn=lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (size // 2, size // 2)),
    )
    refused(done, "part.csv cannot be written", "too large")
    done = called(*call, "part.csv", cwd=workspace)
    assert done.returncode == 0 and "is resumed after row" in done.stderr
    assert (workspace / "part.csv").read_bytes() == (workspace / "whole.csv").read_bytes()


def test_a_file_of_another_run_is_not_gone_on_with(workspace):
    run = ("classify", "channel_marks.onnx", "reference", "-o", "a.csv")
    assert called(*run, cwd=workspace).returncode == 0
    first, account = (workspace / "a.csv").read_bytes(), workspace / "a.csv.run.json"
    done = called(*run, cwd=workspace)
    assert done.returncode == 0 and "complete already" in done.stderr and "40 images" in done.stdout
    refused(called(*run, "--top", "2", cwd=workspace), "another run", "the columns")
    refused(called(*run, "reference/mark-00.jpg", cwd=workspace), "more images")
    refused(called(*run[:2], "reference/mark-00.jpg", *run[3:], cwd=workspace), "other images")
    assert (
        called(
            "convert",
            "channel_marks.pt2",
            "-o",
            "channel_marks.onnx",
            "--inlet",
            "channel_marks.inlet.toml",
            cwd=workspace,
        ).returncode
        == 0
    )
    refused(called(*run, cwd=workspace), "another run", "the artifact")
    assert (workspace / "a.csv").read_bytes() == first
    assert called(*run, "--overwrite", cwd=workspace).returncode == 0 and (workspace / "a.csv").read_bytes() != first
    # What an interrupted run leaves, spoilt in several ways.
    whole = json.loads(account.read_text())
    data = (workspace / "a.csv").read_bytes()
    (workspace / "a.csv").unlink()
    part = whole | {"finished": False, "rows": 8, "bytes": len(b"".join(data.splitlines(keepends=True)[:9]))}
    (workspace / "a.csv.unfinished").write_bytes(data)
    account.write_text(json.dumps(part))
    refused(called(*run, cwd=workspace), "other images")
    account.write_text(json.dumps(part | {"bytes": len(data) + 1}))
    refused(called(*run, cwd=workspace), "shorter")
    account.write_text("{")
    refused(called(*run, cwd=workspace), "not a run record")
    account.unlink()
    (workspace / "a.csv").write_text("my own table")
    refused(called(*run, cwd=workspace), "not a result of zygal classify")
    assert (workspace / "a.csv").read_text() == "my own table"


@pytest.mark.slow
def test_two_beside_each_other_and_their_disagreements_first(workspace, monkeypatch):
    monkeypatch.setenv("COLUMNS", "120")
    assert (
        called(
            "convert",
            "keras/channel_marks.keras",
            "-o",
            "keras.onnx",
            "--inlet",
            "keras/channel_marks.inlet.toml",
            "--labels",
            "labels.txt",
            "--layout",
            "NCHW",
            cwd=workspace,
        ).returncode
        == 0
    )
    names = [f"reference/mark-{number:02d}.jpg" for number in (1, 2, 0)]
    done = called("classify", "channel_marks.onnx", *names, "--compare", "keras.onnx", cwd=workspace)
    assert done.returncode == 0 and "1 on which the models disagree" in done.stdout
    shown = [line.split()[0] for line in done.stdout.splitlines() if line.startswith("reference/")]
    assert shown == [names[2], *names[:2]]
    # Each model beside itself in its own framework, the second in another layout of its input.
    for artifact, source in (("channel_marks.onnx", "channel_marks.pt2"), ("keras.onnx", "keras/channel_marks.keras")):
        done = called("classify", artifact, "reference", "--compare", source, "-o", f"{artifact}.jsonl", cwd=workspace)
        assert done.returncode == 0 and ", 0 on which the models disagree" in done.stdout, done.stdout + done.stderr
        rows = [json.loads(line) for line in (workspace / f"{artifact}.jsonl").read_text().splitlines()]
        assert max(abs(row["score_1"] - row["compared_score"]) for row in rows) < 1e-5


def test_labels_in_another_order_are_compared_by_name(workspace):
    names = (workspace / "labels.txt").read_text().split()
    first = open_artifact(workspace / "channel_marks.onnx")
    (workspace / "turned.txt").write_text("\n".join(names[::-1]))
    assert (
        called(
            "convert",
            "channel_marks.pt2",
            "-o",
            "turned.onnx",
            "--inlet",
            "channel_marks.inlet.toml",
            "--labels",
            "turned.txt",
            cwd=workspace,
        ).returncode
        == 0
    )
    done = called(
        "classify", "channel_marks.onnx", "reference", "--compare", "turned.onnx", "-o", "a.csv", cwd=workspace
    )
    assert ", 0 on which" not in done.stdout
    assert {row["compared_class"] for row in rows_of(workspace / "a.csv") if row["class_1"] == names[1]} == {names[-2]}
    assert open_compared(SourceFile(workspace / "turned.onnx", "turned.onnx", ()), first).labels == tuple(names[::-1])


def test_an_artifact_that_holds_its_inlet_answers_alike(workspace):
    assert (
        called(
            "convert",
            "channel_marks.pt2",
            "-o",
            "raw.onnx",
            "--inlet",
            "channel_marks.inlet.toml",
            "--labels",
            "labels.txt",
            "--raw-pixels",
            cwd=workspace,
        ).returncode
        == 0
    )
    done = called(
        "classify", "channel_marks.onnx", "reference", "--compare", "raw.onnx", "-o", "a.jsonl", cwd=workspace
    )
    assert done.returncode == 0 and ", 0 on which the models disagree" in done.stdout, done.stdout + done.stderr


@pytest.fixture(scope="module")
def odd_models(tmp_path_factory, shipped):
    """A yes-or-no model and one with several labels, each of brightness alone."""
    import torch

    class Bright(torch.nn.Module):
        def __init__(self, weights, sigmoid):
            super().__init__()
            self.register_buffer("weights", torch.tensor(weights))
            self.sigmoid = sigmoid

        def forward(self, image):
            level = image.mean(dim=(1, 2, 3)).unsqueeze(1) - 0.5
            scores = level * self.weights
            if self.sigmoid == "by hand":
                return 1 / (1 + torch.exp(-scores))
            return torch.sigmoid(scores).reshape(-1, len(self.weights)) if self.sigmoid else scores

    folder = tmp_path_factory.mktemp("odd")
    inlet = (shipped / "channel_marks.inlet.toml").read_text()
    (folder / "in.toml").write_text(
        "\n".join(line for line in inlet.splitlines() if not line.startswith(("mean", "std")))
    )
    for level, name in ((30, "dark"), (220, "light"), (127, "middle")):
        Image.new("RGB", (90, 80), (level,) * 3).save(folder / f"{name}.png")
    for name, weights, sigmoid, labels in (
        ("one", [8.0], True, "dark\nlight"),
        ("logit", [8.0], False, "dark\nlight"),
        ("several", [8.0, 6.0, -9.0], True, "light\nbright\ndark"),
        ("bare", [8.0, 6.0, -9.0], False, "light\nbright\ndark"),
        ("by_hand", [8.0, 6.0, -9.0], "by hand", "light\nbright\ndark"),
    ):
        capture(Bright(weights, sigmoid), folder / f"{name}.pt2", (3, 64, 64))
        (folder / f"{name}.txt").write_text(labels)
        done = called(
            "convert", f"{name}.pt2", "-o", f"{name}.onnx", "--labels", f"{name}.txt", "--inlet", "in.toml", cwd=folder
        )
        assert done.returncode == 0, done.stderr
    return folder


@pytest.mark.parametrize("name", ["one", "logit"])
def test_a_yes_or_no_model_has_two_classes(name, odd_models):
    done = called(
        "classify", f"{name}.onnx", "dark.png", "light.png", "middle.png", "-o", f"{name}.csv", cwd=odd_models
    )
    assert done.returncode == 0, done.stderr
    rows = rows_of(odd_models / f"{name}.csv")
    wanted = [expit(8 * (level / 255 - 0.5)) for level in (30, 220, 127)]
    assert [row["class_1"] for row in rows] == ["dark", "light", "dark"]
    for row, share in zip(rows, wanted):
        assert float(row["probability_1"]) == pytest.approx(max(share, 1 - share), abs=1e-5)
    assert [row["uncertain"] for row in rows] == ["no", "no", "yes"]


@pytest.mark.parametrize("name, more", [("several", ()), ("bare", ("--multi-label",)), ("by_hand", ("--multi-label",))])
def test_several_labels_are_given_by_a_threshold(name, more, odd_models):
    done = called("classify", f"{name}.onnx", "dark.png", "light.png", "-o", f"{name}.csv", *more, cwd=odd_models)
    assert done.returncode == 0, done.stderr
    assert [row["labels"] for row in rows_of(odd_models / f"{name}.csv")] == ["dark", "light;bright"]
    done = called("classify", f"{name}.onnx", "middle.png", "--threshold", "0.6", *more, cwd=odd_models)
    assert "no label" in done.stdout and "1 without a label" in done.stdout
    refused(called("classify", "one.onnx", "dark.png", "--compare", "several.onnx", cwd=odd_models), "multi-label")


def test_a_region_map_finds_what_carries_the_answer(shipped, tmp_path):
    import torch

    class Corner(torch.nn.Module):
        def forward(self, image):
            corner = image[:, :, 40:56, 8:24].amax(dim=(1, 2, 3))
            return torch.stack([corner, -corner], dim=1)

    capture(Corner(), tmp_path / "corner.pt2", (3, 64, 64))
    called("convert", "corner.pt2", "-o", "corner.onnx", "--inlet", shipped / "channel_marks.inlet.toml", cwd=tmp_path)
    picture = np.full((64, 64, 3), 30, np.uint8)
    picture[46:50, 14:18] = 250
    Image.fromarray(picture).save(tmp_path / "spot.png")
    classifier = open_artifact(tmp_path / "corner.onnx")
    found = region_map(classifier, picture, 0)
    row, column = np.unravel_index(found.weight.argmax(), found.weight.shape)
    assert 44 <= row <= 52 and 12 <= column <= 20 and found.lowest < found.probability
    assert abs(found.weight[:24]).max() < 1e-6 and abs(found.weight[:, 40:]).max() < 1e-6
    done = called(
        "classify", "corner.onnx", "spot.png", "--compare", "corner.pt2", "--regions", "map.png", cwd=tmp_path
    )
    assert done.returncode == 0 and "differ by" in done.stdout, done.stderr
    assert Image.open(tmp_path / "map.png").size == (1280, 560)


@pytest.mark.parametrize(
    "arguments, words",
    [
        (("nosuch",), ["nosuch does not exist"]),
        ((), ["no images are named"]),
        (("hollow",), ["holds no images"]),
        (("labels.txt",), ["labels.txt is not an image"]),
        (("labels.txt", "channel_marks.pt2", "-o", "new.csv"), ["none of the 2 files"]),
        (("reference", "-o", "new.txt"), [".csv, .jsonl or .parquet"]),
        (("reference", "-o", "nowhere/new.csv"), ["does not exist"]),
        (("reference", "--labels", "few.txt"), ["2 labels", "10 outputs"]),
        (("reference", "--compare", "labels.txt"), ["labels.txt"]),
        (("reference", "--compare", "one.onnx"), ["have different classes"]),
        (("reference", "--compare", "keras/channel_marks.witness"), ["a witness"]),
        (("reference", "--inlet", "wrong/large.toml"), ["does not take the tensors of the inlet"]),
        (("reference", "--multi-label", "--compare", "few.onnx"), ["few.onnx"]),
        (("reference", "--top", "0"), ["--top must be at least 1"]),
        (("reference", "--regions", "new.png"), ["name one"]),
        (("reference", "--list", "gone.txt"), ["gone.txt"]),
        (("--list", "-", "-o", "new.csv"), ["standard input names no images"]),
    ],
)
def test_calls_that_make_no_sense(arguments, words, workspace, odd_models, monkeypatch):
    shutil.copy(odd_models / "one.onnx", workspace)
    monkeypatch.setattr("sys.stdin", io.TextIOWrapper(io.BytesIO(b"\n")))
    (workspace / "hollow").mkdir()
    (workspace / "few.txt").write_text("a\nb\n")
    inlet = (workspace / "channel_marks.inlet.toml").read_text()
    (workspace / "wrong/large.toml").write_text(inlet.replace("[64, 64]", "[60, 60]"))
    before = set(workspace.rglob("*"))
    refused(called("classify", "channel_marks.onnx", *arguments, cwd=workspace), *words)
    assert set(workspace.rglob("*")) == before


def test_an_artifact_without_an_inlet_says_what_it_needs(workspace):
    called("convert", "channel_marks.pt2", "-o", "bare.onnx", cwd=workspace)
    refused(called("classify", "bare.onnx", "reference", cwd=workspace), "holds no inlet", "--inlet")
    done = called(
        "classify", "bare.onnx", "reference/mark-05.jpg", "--inlet", "channel_marks.inlet.toml", cwd=workspace
    )
    assert done.returncode == 0 and "class 5" in done.stdout
    refused(called("classify", "channel_marks.pt2", "reference", cwd=workspace), "zygal convert")
