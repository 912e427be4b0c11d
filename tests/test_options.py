"""Each option in each mode of its command is used, or refused by name; what a file of defaults sets is said."""

import json

import numpy as np
import pytest
from conftest import called, refused

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.commands.bench.request import BenchRequest
from zygal.graph import Batch, GraphBuilder, TensorType

MATCH = ("match", "channel_marks.onnx", "--witness", "channel_marks.witness")
WITH_IMAGES = (*MATCH, "--images", "reference")
TALLY = ("tally", "channel_marks.onnx", "--images", "labelled.csv")
CLASSIFY = ("classify", "channel_marks.onnx", "reference/mark-05.jpg")
VECTORS = ("classify", "channel_marks.onnx", "reference", "--as", "vectors", "-o", "v.npy")
BENCH = ("bench", "channel_marks.onnx", "--seconds", "0.2", "--batches", "1", "--threads", "1")
SERVED = ("bench", "channel_marks.onnx", "--endpoint", "http://127.0.0.1:9/v2/models/m", "--arrival-rate", "10")

WITHOUT_EFFECT = [
    (MATCH, "--endpoint-limit", "0.1"),
    (MATCH, "--timeout", "3s"),
    (MATCH, "--tensor-limit", "0.3"),
    (MATCH, "--end-limit", "0.3"),
    (WITH_IMAGES, "--agree-limit", "90%"),
    (WITH_IMAGES, "--order-limit", "90%"),
    (WITH_IMAGES, "--endpoint-limit", "0.1"),
    (TALLY, "--margin", "2%"),
    (TALLY, "--threshold", "40%"),
    (TALLY, "--top", "50"),
    (TALLY, "--timeout", "3s"),
    (TALLY, "--compare-scores", "x"),
    (TALLY, "--compare-inlet", "channel_marks.inlet.toml"),
    (TALLY, "--weights", "labels.txt"),
    (TALLY, "--pair", "special,special"),
    (CLASSIFY, "--threshold", "40%"),
    (CLASSIFY, "--top", "50"),
    (CLASSIFY, "--timeout", "3s"),
    (CLASSIFY, "--hash-images", None),
    (CLASSIFY, "--column", "path"),
    (CLASSIFY, "--weights", "labels.txt"),
    ((*CLASSIFY, "--regions", "r.png"), "--top", "2"),
    ((*CLASSIFY, "--regions", "r.png"), "--min-margin", "20%"),
    (VECTORS, "--top", "2"),
    (VECTORS, "--min-probability", "40%"),
    (VECTORS, "--min-margin", "40%"),
    (VECTORS, "--threshold", "40%"),
    (VECTORS, "--labels", "labels.txt"),
    (VECTORS, "--multi-label", None),
    (VECTORS, "--hash-images", None),
    (VECTORS, "--compare", "channel_marks.onnx"),
    (BENCH, "--image-size", "64,64"),
    (BENCH, "--max-slowdown", "30%"),
    (BENCH, "--force", None),
    (BENCH, "--max-batch", "4"),
    (BENCH, "--max-wait", "5ms"),
    (BENCH, "--inlet", "channel_marks.inlet.toml"),
    (BENCH, "--weights", "labels.txt"),
    (BENCH, "--compare-as", "module"),
    (BENCH, "--timeout", "3s"),
    (BENCH, "--plan-workers", "3"),
    (BENCH, "--plan-images", "1e5"),
    (BENCH, "--failures-per-hour", "1"),
    (BENCH, "--late-share", "1%"),
    (SERVED, "--levels", "off"),
    (SERVED, "--execution", "parallel"),
    (SERVED, "--max-slowdown", "30%"),
    (SERVED, "--threads", "1"),
    (SERVED, "--layers", None),
    (SERVED, "--csv", "x.csv"),
    (SERVED, "--max-batch", "3"),
    (SERVED, "--images", "reference"),
    (SERVED, "--until-within", "5%"),
]


@pytest.mark.parametrize(
    "command, option, value",
    WITHOUT_EFFECT,
    ids=[f"{command[0]}{len(command)} {option}" for command, option, _ in WITHOUT_EFFECT],
)
def test_an_option_without_effect_is_refused_by_name(command, option, value, workspace):
    refused(called(*command, option, *([] if value is None else [value]), cwd=workspace), option)


def test_limits_of_whole_artifacts_do_not_apply_to_small_ones(workspace):
    assert (
        called(
            "convert",
            "channel_marks.pt2",
            "-o",
            "plain.onnx",
            "--inlet",
            "channel_marks.inlet.toml",
            "--labels",
            "labels.txt",
            cwd=workspace,
        ).returncode
        == 0
    )
    assert (
        called(
            "shrink", "plain.onnx", "-o", "small.onnx", "--images", "reference", "--half", "-q", cwd=workspace
        ).returncode
        == 0
    )
    command = ("match", "small.onnx", "--witness", "channel_marks.witness", "--images", "reference")
    for option in ("--model-limit", "--end-limit"):
        refused(called(*command, option, "0.5", cwd=workspace), option, "in lower precision")
    assert called(*command, "--agree-limit", "90%", "--order-limit", "80%", cwd=workspace).returncode == 0


def test_the_same_options_have_an_effect_where_they_have_their_object(workspace):
    for command in (
        (*WITH_IMAGES, "--tensor-limit", "0.3", "--end-limit", "0.3", "--model-limit", "1e-3", "--own-rounding"),
        (*TALLY, "--top", "2,10", "--compare", "channel_marks.onnx", "--margin", "20%"),
        (*CLASSIFY, "--top", "10", "--min-margin", "5%"),
        (*CLASSIFY, "--multi-label", "--threshold", "40%"),
    ):
        done = called(*command, cwd=workspace)
        assert done.returncode == 0, done.stderr


@pytest.mark.parametrize(
    "rate, words",
    [
        ("0", "must be > 0"),
        ("-1", "must be > 0"),
        ("nan", "must be > 0"),
        ("0.01", "too few to say anything"),
        ("5,0", "must be > 0"),
    ],
)
def test_rates_that_bring_nothing_are_refused_before_anything_is_measured(rate, words, workspace, monkeypatch):
    monkeypatch.setattr("zygal.commands.bench.here.measure", lambda *a: pytest.fail("it measured"))
    for command in (BENCH, SERVED[:-2]):
        refused(called(*command, f"--arrival-rate={rate}", cwd=workspace), words)


def test_an_inlet_is_taken_from_an_artifact_wherever_one_is_taken(workspace):
    assert (
        called("convert", "channel_marks.pt2", "-o", "bare.onnx", "--labels", "labels.txt", cwd=workspace).returncode
        == 0
    )
    inlet = ("--inlet", "channel_marks.onnx")
    for command in (
        ("match", "bare.onnx", "--witness", "channel_marks.witness", "--images", "reference"),
        ("tally", "bare.onnx", "--images", "labelled.csv"),
        ("classify", "bare.onnx", "reference/mark-05.jpg"),
        ("inlet", "draw", "reference/mark-05.jpg", "-o", "s.png"),
    ):
        done = called(*command, *inlet, cwd=workspace)
        assert done.returncode == 0, done.stderr
        refused(
            called(
                *command[:-2] if "-o" in command else command,
                "--inlet",
                "bare.onnx",
                *(("-o", "t.png") if "-o" in command else ()),
                cwd=workspace,
            ),
            "bare.onnx holds no inlet",
        )


def test_names_may_stand_behind_options(workspace):
    (workspace / "second.onnx").write_bytes((workspace / "channel_marks.onnx").read_bytes())
    assert (
        called(
            "pack", "channel_marks.onnx", "--images", "reference", "second.onnx", "-o", "b.zip", cwd=workspace
        ).returncode
        == 0
    )
    assert (
        called("classify", "channel_marks.onnx", "--top", "2", "reference/mark-05.jpg", cwd=workspace).returncode == 0
    )


def test_what_a_file_of_defaults_sets_is_named_and_need_not_apply(workspace):
    (workspace / "zygal.toml").write_text(
        "[match]\nmodel-limit = 0.5\nagree-limit = 0.5\nendpoint-limit = 0.1\n[tally]\nmargin = "
        "0.2\n[bench]\nmax-slowdown = 0.5\n"
    )
    done = called(*WITH_IMAGES, "--json", "m.json", cwd=workspace)
    assert done.returncode == 0 and "model-limit = 0.5" in done.stderr and "zygal.toml" in done.stderr
    assert any("model-limit = 0.5" in each for each in json.loads((workspace / "m.json").read_text())["notes"])
    own = called(*WITH_IMAGES, "--model-limit", "0.01", cwd=workspace)
    assert "model-limit" not in own.stderr and "0.01" in own.stdout and "agree-limit = 0.5" in own.stderr
    assert called(*TALLY, cwd=workspace).returncode == 0
    (workspace / "zygal.toml").write_text('[tally]\nimages = "https://host/labelled.csv"\n')
    refused(called("tally", "channel_marks.onnx", cwd=workspace), "images cannot be a URL in this file")


def test_what_is_an_image_is_the_same_everywhere(workspace):
    """An image without an ending, and a text with an image's ending, in every command that lists a folder."""
    folder = workspace / "labelled" / "special"
    (folder / "photograph").write_bytes(next(folder.glob("*.jpg")).read_bytes())
    (folder / "notes.txt").write_text("no image")
    counts = {}
    done = called(
        "classify", "channel_marks.onnx", "labelled/special", "-o", "r.csv", "--json", "c.json", cwd=workspace
    )
    counts["classify"] = json.loads((workspace / "c.json").read_text())["counts"]["read"]
    done = called("tally", "channel_marks.onnx", "--images", "labelled", "--json", "t.json", cwd=workspace)
    assert done.returncode == 0, done.stderr
    document = json.loads((workspace / "t.json").read_text())
    counts["tally"] = next(each["support"] for each in document["exclusive"]["classes"] if each["name"] == "special")
    from zygal.inlet.images import list_images

    counts["witness"] = len(list_images(folder))
    assert (
        len(set(counts.values())) == 1
        and "photograph" in list_images(folder)
        and "notes.txt" not in list_images(folder)
    )


def test_a_request_knows_what_was_given():
    plain = BenchRequest(artifact="a", max_slowdown=0.5)
    assert plain.given("max_slowdown") and not plain.given("batches") and plain.given("artifact") is not False
    assert not BenchRequest(artifact="a", max_slowdown=0.5, configured=frozenset(("max_slowdown",))).given(
        "max_slowdown"
    )


def test_an_open_image_size_takes_one(workspace):
    builder = GraphBuilder()
    x = builder.input("image", TensorType(np.dtype("float32"), (Batch(), 3, 8, 8)))
    pooled = builder.add("GlobalAveragePool", (x,), "pooled", "l")
    graph = builder.finish([builder.add("Flatten", (pooled,), "scores", "l")])
    write_artifact(graph, workspace / "fixed.onnx", Metadata())
    refused(called("bench", "fixed.onnx", "--image-size", "8,8", cwd=workspace), "--image-size has no effect")
