"""zygal bench as people use and misuse it."""

import csv
import json
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest
from conftest import called, program, refused
from PIL import Image

SHORT = ("--batches", "1,2", "--threads", "1", "--seconds", "0.3")


@pytest.fixture(scope="module")
def earlier(shipped, tmp_path_factory):
    """The result of a short run."""
    path = tmp_path_factory.mktemp("earlier") / "earlier.json"
    done = program("bench", "channel_marks.onnx", *SHORT, "--json", path, cwd=shipped)
    assert done.returncode == 0, done.stderr
    return path


def changed(path, folder, change):
    """A copy of a result with something changed in it."""
    content = json.loads(path.read_text())
    change(content)
    (folder / "changed.json").write_text(json.dumps(content))
    return folder / "changed.json"


@pytest.mark.slow
def test_everything_at_once(shipped, tmp_path):
    done = program(
        "bench",
        "channel_marks.onnx",
        *SHORT,
        "--witness",
        "channel_marks.witness",
        "--deadline",
        "5s",
        "--compare",
        "channel_marks.pt2",
        "--compare",
        "channel_marks.onnx",
        "--images",
        "reference",
        "--arrival-rate",
        "400,200",
        "--max-batch",
        "2",
        "--max-wait",
        "1ms",
        "--layers",
        "--json",
        tmp_path / "b.json",
        "--csv",
        tmp_path / "b.csv",
        "--draw",
        tmp_path / "drawn",
        cwd=shipped,
    )
    assert done.returncode == 0, done.stderr
    content = json.loads((tmp_path / "b.json").read_text())
    assert content["inputs_from"] == "channel_marks.witness" and content["multiply_adds_per_image"] == 9_868_064
    for cell in content["cells"]:
        assert cell["images_per_second"] == pytest.approx(cell["batch_images"] / cell["latency_median_seconds"])
        assert cell["latency_max_seconds"] >= cell["latency_quartiles_seconds"][1] > 0
    live, copy = content["compared"]
    assert live["engine"].startswith("PyTorch") and {cell["larger_than_noise"] for cell in live["cells"]} == {True}
    assert live["time_ratio"]["value"] > 1.5 > copy["time_ratio"]["value"]
    way = content["image_pipeline"]
    assert list(way["stage_seconds_per_image"]) == ["decode", "frame", "values", "inference"] and way["files"] >= 2
    offered = content["arrivals"]
    assert [run["images"] for run in offered["runs"]] == [368, 368] and offered["runs"][0]["mean_batch_images"] <= 2
    assert (
        offered["highest_rate_measured"]["latency_p99_seconds"] <= 5
        and offered["runs"][0]["latency_p99_seconds"] > 0.001
    )
    assert sum(layer["share"] for layer in content["layers"]["layers"]) == pytest.approx(1)
    assert {"features.0.expand.0", "classifier"} <= {layer["layer"] for layer in content["layers"]["layers"]}
    rows = list(csv.DictReader((tmp_path / "b.csv").open()))
    assert [row["batch_images"] for row in rows] == ["1", "2"] and float(rows[0]["latency_ci95_seconds_low"]) > 0
    for name in ("throughput", "latencies", "stages", "layers"):
        assert Image.open(tmp_path / "drawn" / f"{name}.png").width == 1280
    for words in (
        "Conclusions",
        "deadline 5.0 s",
        "multiply-adds per image",
        "it is",
        "inference alone",
        "Time by layer",
    ):
        assert words.lower() in done.stdout.lower(), words


@pytest.mark.slow
def test_raw_pixels_go_the_whole_way_one_by_one_and_their_arithmetic_is_known(shipped, tmp_path):
    convert = (
        "convert",
        "channel_marks.pt2",
        "--inlet",
        "channel_marks.inlet.toml",
        "--raw-pixels",
        "-o",
        tmp_path / "raw.onnx",
    )
    assert program(*convert, cwd=shipped).returncode == 0
    done = program(
        "bench",
        tmp_path / "raw.onnx",
        "--image-size",
        "90,120",
        *SHORT,
        "--images",
        "reference",
        "--layers",
        "--json",
        tmp_path / "b.json",
        cwd=shipped,
    )
    assert done.returncode == 0 and "RuntimeWarning" not in done.stderr, done.stderr
    content = json.loads((tmp_path / "b.json").read_text())
    assert content["multiply_adds_per_image"] >= 9_868_064
    way = content["image_pipeline"]
    assert list(way["stage_seconds_per_image"]) == ["decode", "inference"] and way["batch_images"] == 1
    assert way["overlapped_gain_ratio"]["value"] > 0.3
    assert "inlet" in {layer["layer"] for layer in content["layers"]["layers"][:3]}


@pytest.mark.slow
def test_levels_and_execution_are_settings_of_their_own(shipped, tmp_path):
    done = program(
        "bench",
        "channel_marks.onnx",
        "--batches",
        "2",
        "--threads",
        "1",
        "--seconds",
        "0.3",
        "--levels",
        "off,all",
        "--execution",
        "sequential,parallel",
        "--json",
        tmp_path / "b.json",
        cwd=shipped,
    )
    cells = json.loads((tmp_path / "b.json").read_text())["cells"]
    assert done.returncode == 0 and "parallel" in done.stdout
    assert [(cell["optimisation_level"], cell["execution"]) for cell in cells] == [
        ("off", "sequential"),
        ("off", "parallel"),
        ("all", "sequential"),
        ("all", "parallel"),
    ]


@pytest.mark.slow
def test_a_later_run_is_judged_by_an_earlier_one(shipped, earlier, tmp_path):
    def thrice_as_fast(content):
        for cell in content["cells"]:
            ratio = cell["reference_workload_ratio"]
            ratio["value"] /= 9
            ratio["ci95"] = [each / 9 for each in ratio["ci95"]]

    done = program("bench", "channel_marks.onnx", *SHORT, "--baseline", earlier, "--max-slowdown", "300%", cwd=shipped)
    # On a busy machine a run this short decides nothing; it is never failed.
    assert (done.returncode, "PASS: baseline" in done.stdout, "UNDECIDED: baseline" in done.stdout) in (
        (0, True, False),
        (4, False, True),
    ), done.stdout
    faster = changed(earlier, tmp_path, thrice_as_fast)
    done = program("bench", "channel_marks.onnx", *SHORT, "--baseline", faster, cwd=shipped)
    assert done.returncode in (1, 4) and "PASS" not in done.stdout and "slower" in done.stdout
    assert (done.returncode == 1) == ("FAIL: baseline" in done.stdout)
    elsewhere = changed(earlier, tmp_path, lambda content: content["machine"].update(processor="an abacus"))
    refused(
        program("bench", "channel_marks.onnx", *SHORT, "--baseline", elsewhere, cwd=shipped), "an abacus", "--force"
    )
    done = program(
        "bench", "channel_marks.onnx", *SHORT, "--baseline", elsewhere, "--force", "--max-slowdown", "300%", cwd=shipped
    )
    assert done.returncode in (0, 4) and "different: processor an abacus" in done.stdout


@pytest.mark.slow
def test_an_interrupt_shows_what_was_measured_so_far(shipped, tmp_path):
    command = [
        str(Path(sys.executable).with_name("zygal")),
        "bench",
        "channel_marks.onnx",
        "--batches",
        "1",
        "--threads",
        "1",
    ]
    for wait in (4, 12, 40):
        running = subprocess.Popen(
            [*command, "--seconds", "600", "--json", str(tmp_path / "b.json")],
            cwd=shipped,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
        )
        time.sleep(wait)
        running.send_signal(signal.SIGINT)
        out, fault = running.communicate(timeout=60)
        assert running.returncode == 130 and "Traceback" not in fault
        if out:
            break
    # Interrupted before anything was measured, it says nothing, and more time is given.
    assert "images/s" in out and "until then" in fault
    assert json.loads((tmp_path / "b.json").read_text())["verdict"] == "interrupted"


BAD = [
    (("--batches", "0"), ["--batches must be numbers from 1 to 4096 (got 0)"]),
    (("--threads", "-1"), ["--threads must be numbers from 1 to 1024 (got -1)"]),
    (("--batches", "4097"), ["1 to 4096"]),
    (("--levels", "most"), ["'most'", "extended"]),
    (("--seconds", "0"), ["--seconds must be > 0 and <= 86400 (got 0)"]),
    (("--until-within", "two"), ["percentage"]),
    (("--deadline", "50"), ["unit"]),
    (("--arrival-rate", "0"), ["--arrival-rate must be > 0"]),
    (("--arrival-rate", "9", "--max-wait", "5"), ["50ms"]),
    (("--max-batch", "8"), ["--arrival-rate"]),
    (("--image-size", "64"), ["HEIGHT,WIDTH"]),
    (("--weights", "labels.txt"), ["FILE.py:FUNCTION"]),
    (("--input-shape", "image"), ["NAME=SIZE"]),
    (("--input-shape", "mask=3"), ["no input mask"]),
    (("--compare", "missing.onnx"), ["missing.onnx"]),
    (("--compare", "keras/channel_marks.keras"), ["does not take what channel_marks.onnx takes"]),
    (("--compare", "labels.txt"), ["labels.txt"]),
    (("--witness", "keras/channel_marks.witness"), ["cannot be used together"]),
    (("--witness", "labels.txt"), ["labels.txt"]),
    (("--images", "nowhere"), ["nowhere"]),
    (("--images", "wrong"), ["no images"]),
    (("--baseline", "labels.txt"), ["not a result of zygal bench"]),
    (("--baseline", "missing.json"), ["missing.json"]),
    (("--csv", "nowhere/b.csv"), ["nowhere"]),
    (("--draw", "labels.txt"), ["labels.txt"]),
]


@pytest.mark.slow
def test_bad_input_gets_one_sentence(shipped):
    before = sorted(shipped.rglob("*"))
    for arguments, words in BAD:
        extra = ("--batches", "1", "--threads", "1", "--seconds", "0.05")
        given = [
            part
            for option, value in zip(extra[::2], extra[1::2])
            if option not in arguments
            for part in (option, value)
        ]
        refused(called("bench", "channel_marks.onnx", *given, *arguments, cwd=shipped), *words)
    assert sorted(shipped.rglob("*")) == before
