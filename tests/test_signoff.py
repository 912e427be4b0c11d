"""Plans: what they refuse, what they find, what they keep, and the page, the JSON and the JUnit file that they
write."""

import json
import os
import re
import shutil
from html.parser import HTMLParser
from pathlib import Path
from types import SimpleNamespace
from xml.etree import ElementTree

import numpy as np
import pytest
from conftest import called, program, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from zygal.bench.result import READINGS_FOR_P99
from zygal.errors import PlanError, ZygalError
from zygal.evidence.signoff_result import changes_since, read_signoff
from zygal.files.documents import json_value
from zygal.outcome import Gate, Verdict
from zygal.signoff.check import Check, Checks
from zygal.signoff.kept import Keeper, Result
from zygal.signoff.plan import TABLES, Accuracy, Plan, Speed, SpeedLimit, gate_names
from zygal.signoff.read import read_plan
from zygal.signoff.run import seconds_for_p99

HEAD = "zygal_plan = 1\n"
MODEL = '[model]\nartifact = "channel_marks.onnx"\n'
SOURCE = MODEL + 'source = "channel_marks.pt2"\ninlet = "channel_marks.inlet.toml"\nlabels = "labels.txt"\n'
DATA = '[data]\nwitness = "channel_marks.witness"\nreference = "reference"\n'
LABELLED = 'labelled = "labelled.csv"\n'


def plan(folder, *parts, name="plan.toml"):
    (folder / name).write_text(HEAD + "".join(parts))
    return name


def result(folder, name="plan"):
    return json.loads((folder / f"{name}.signoff" / "result.json").read_text())


REFUSED = {
    "a table": ("[modle]\n", "unknown key modle; did you mean model?"),
    "a key": (MODEL + 'inlett = "x"\n', "unknown key inlett; did you mean inlet?"),
    "a type": (MODEL + "[accuracy]\nat_least = true\n", "accuracy.at_least must be a share from 0 to 1"),
    "per cent": (MODEL + DATA + LABELLED + "[accuracy]\nat_least = 95\n", "a share from 0 to 1, like 0.95"),
    "not a number": (MODEL + DATA + "[agreement]\nmodel_of_spread = nan\n", "a number of at least 0"),
    "no artifact": ("[data]\n", "model.artifact is missing"),
    "no images": (MODEL + "[accuracy]\nat_least = 0.9\n", "accuracy.at_least needs data.labelled"),
    "no witness": (MODEL + "[agreement]\nmodel_of_spread = 1e-4\n", "agreement.model_of_spread needs data.witness"),
    "classes": (
        MODEL + DATA + LABELLED + "[accuracy]\neach_class_at_least = 0.8\nclasses = {special = 0.5}\n",
        "accuracy.classes.special = 0.5 contradicts each_class_at_least = 0.8",
    ),
    "groups": (
        MODEL + DATA + LABELLED + "[accuracy]\neach_group_at_least = 0.8\ngroups = {mast = 0.5}\n",
        "accuracy.groups.mast = 0.5 contradicts each_group_at_least = 0.8",
    ),
    "opset": (
        SOURCE + "[convert]\nopset = 18\n[portability]\nopset_at_most = 17\n",
        "convert.opset = 18 contradicts portability.opset_at_most = 17",
    ),
    "median and p99": (
        MODEL + "[speed]\n[[speed.limits]]\nbatch = 1\nthreads = 1\nmedian_at_most_ms = 5\np99_at_most_ms = 3\n",
        "a median cannot exceed the p99",
    ),
    "twice": (
        MODEL + "[speed]\n" + 2 * "[[speed.limits]]\nbatch = 1\nthreads = 1\np99_at_most_ms = 3\n",
        "states batch 1 with 1 threads twice",
    ),
    "no limit": (MODEL + "[speed]\n[[speed.limits]]\nbatch = 1\nthreads = 1\n", "states no limit"),
    "a limit's key": (
        MODEL + "[speed]\n[[speed.limits]]\nbatch = 1\nthread = 1\n",
        "unknown key thread; did you mean threads?",
    ),
    "memory": (MODEL + "[memory]\npeak_at_most_mb = 5\n", "needs a table [speed]"),
    "lost": (MODEL + DATA + LABELLED + "[accuracy]\nlost_at_most = 0.01\n", "need each other"),
    "report_only": (
        'report_only = ["acuracy"]\n' + MODEL,
        "report_only names acuracy, which is no gate; did you mean accuracy?",
    ),
    "without": ('without = ["speed"]\n' + MODEL, "without names speed, which no plan here states"),
    "outside": ('[model]\nartifact = "../channel_marks.onnx"\n', "lies outside the plan's folder; add --allow-outside"),
    "code": ('[model]\nartifact = "m.onnx"\nsource = "training_code.py:make_model"\n', "would be run; add --run-code"),
    "itself": ('extends = "plan.toml"\n' + MODEL, "extends itself"),
    "TOML": ("[model\n", "is not valid TOML"),
    "shrunk over": (
        SOURCE + DATA + '[shrink]\noutput = "channel_marks.onnx"\n',
        "give the shrunk artifact a name of its own",
    ),
    "image size": (MODEL + "[speed]\nimage_size = [3]\n", "must be [height, width]"),
    "a release": (MODEL + "[portability]\nruns_on = 1.16\n", "a release in quotes"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_a_plan_that_is_wrong_is_refused_by_name(name, tmp_path):
    content, words = REFUSED[name]
    plan(tmp_path, content)
    refused(called("signoff", "plan.toml", cwd=tmp_path), words)
    assert not (tmp_path / "plan.signoff").exists()


def test_what_is_no_plan_or_not_there_is_refused(tmp_path):
    (tmp_path / "labels.toml").write_text('name = "x"\n')
    (tmp_path / "later.toml").write_text("zygal_plan = 2\n")
    refused(called("signoff", cwd=tmp_path), "signoff.toml does not exist", "zygal signoff --new")
    refused(called("signoff", "labels.toml", cwd=tmp_path), "no line zygal_plan = 1")
    refused(called("signoff", "later.toml", cwd=tmp_path), "reads version 1")
    refused(called("signoff", "--new", "--fresh", cwd=tmp_path), "--fresh does not apply to --new")
    refused(called("signoff", "--new", cwd=tmp_path), "no trained model and no artifact")
    plan(tmp_path, MODEL)
    refused(called("signoff", "plan.toml", cwd=tmp_path), "channel_marks.onnx does not exist")
    refused(called("signoff", "plan.toml", "--against", "labels.toml", cwd=tmp_path), "is not JSON")


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.floats() | st.text(),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=3),
        max_leaves=6,
    ),
    st.sampled_from([(table, key) for table, record in TABLES.items() for key in record.__dataclass_fields__]),
)
def test_every_key_of_a_plan_is_checked(tmp_path_factory, value, place):
    """Whatever stands at a key, it is taken or refused in a sentence."""
    import tomli_w

    table, key = place
    try:
        content = tomli_w.dumps({"zygal_plan": 1, table: {key: value}})
    except (TypeError, ValueError, UnicodeEncodeError):
        return
    folder = tmp_path_factory.getbasetemp() / "drawn"
    folder.mkdir(exist_ok=True)
    try:
        (folder / "plan.toml").write_text(content, "utf-8")
    except UnicodeEncodeError:
        return
    try:
        assert isinstance(read_plan(folder / "plan.toml"), Plan)
    except ZygalError as fault:
        assert "\n" not in str(fault)


def test_plans_extend_each_other_key_by_key(tmp_path):
    (tmp_path / "sub").mkdir()
    plan(
        tmp_path,
        '[model]\nartifact = "base.onnx"\n',
        DATA,
        LABELLED,
        "[accuracy]\nat_least = 0.9\neach_class_at_least = 0.8\n[speed]\nseconds = 3\n",
        name="base.toml",
    )
    plan(
        tmp_path,
        'extends = "base.toml"\nwithout = ["accuracy.each_class_at_least", "speed"]\ntitle = '
        '"Second"\n[model]\nartifact = "other.onnx"\n[accuracy]\nat_least = 0.7\n',
    )
    read = read_plan(tmp_path / "plan.toml")
    assert (read.title, read.accuracy.at_least, read.accuracy.each_class_at_least, read.speed) == (
        "Second",
        0.7,
        None,
        None,
    )
    assert Path(read.model.artifact).name == "other.onnx" and Path(read.data.witness).name == "channel_marks.witness"
    before = read.sha256
    (tmp_path / "base.toml").write_text((tmp_path / "base.toml").read_text() + "# another byte\n")
    assert read_plan(tmp_path / "plan.toml").sha256 != before
    plan(tmp_path / "sub", 'extends = "../base.toml"\n', name="deep.toml")
    with pytest.raises(PlanError, match="outside the plan's folder"):
        read_plan(tmp_path / "sub" / "deep.toml")
    assert (
        Path(read_plan(tmp_path / "sub" / "deep.toml", True).model.artifact).resolve()
        == (tmp_path / "base.onnx").resolve()
    )


@pytest.mark.slow
def test_a_plan_is_carried_out_and_nothing_unchanged_is_computed_twice(workspace):
    """The artifact is made, everything is measured, and a second run takes it from the first; what changes is done
    again."""
    (workspace / "channel_marks.onnx").unlink()
    plan(
        workspace,
        'report_only = ["accuracy.at_least"]\n',
        SOURCE,
        DATA,
        LABELLED,
        '[accuracy]\nat_least = 0.99\neach_group_at_least = 0.5\n[portability]\nopset_at_most = 17\nruns_on = "1.16"\n',
    )
    first = program("signoff", "plan.toml", cwd=workspace, env=os.environ | {"COLUMNS": "160"})
    assert (
        first.returncode == 0
        and "PASS, signed off: 10 gates." in first.stdout
        and "channel_marks.onnx was made from channel_marks.pt2, because it is missing" in first.stderr
    )
    assert re.search(r"accuracy.at_least +accuracy +reported +91.0 % +>= 99.0 %", first.stdout)
    before = result(workspace)
    assert (
        before["signed_off"]
        and before["exit_code"] == 0
        and not any(step["reused"] for step in before["steps"].values())
    )
    assert [each["name"] for each in before["checks"]][:3] == [
        "portability.opset_at_most",
        "portability.runs_on",
        "agreement.A",
    ]
    assert any("speed and memory: not checked" in each for each in before["not_checked"])
    artifact = (workspace / "channel_marks.onnx").read_bytes()

    again = program("signoff", "plan.toml", "--against", "earlier.json", cwd=workspace)
    refused(again, "earlier.json")
    shutil.copy(workspace / "plan.signoff" / "result.json", workspace / "earlier.json")
    again = program("signoff", "plan.toml", "--against", "earlier.json", cwd=workspace)
    refused(again, "of a sign-off that was refused")
    assert program("signoff", "plan.toml", cwd=workspace).returncode == 0
    shutil.copy(workspace / "plan.signoff" / "result.json", workspace / "earlier.json")
    again = program("signoff", "plan.toml", "--against", "earlier.json", cwd=workspace)
    assert again.returncode == 0 and "nothing has changed" in again.stdout
    assert (
        all(step["reused"] for step in result(workspace)["steps"].values())
        and (workspace / "channel_marks.onnx").read_bytes() == artifact
    )

    # Another image, and only what reads it is measured again.
    Image.fromarray(np.zeros((64, 64, 3), np.uint8)).save(workspace / "labelled" / "special" / "mark-008.jpg")
    changed = program("signoff", "plan.toml", "--against", "earlier.json", cwd=workspace)
    steps = result(workspace)["steps"]
    assert steps["agreement"]["reused"] and not steps["accuracy"]["reused"] and "data.labelled" in changed.stdout
    # Another inlet in the folder: the artifact holds the old one, so it is made again, and then disagrees with the
    # recording.
    shutil.copy(workspace / "wrong" / "swapped_channels.toml", workspace / "channel_marks.inlet.toml")
    wrong = program("signoff", "plan.toml", "--against", "earlier.json", cwd=workspace)
    assert wrong.returncode == 1 and "FAIL, not signed off: agreement.A, agreement.C, accuracy" in wrong.stdout
    assert (
        'Likely cause: decode.colour should be "rgb"' in wrong.stdout
        and "because it holds another inlet" in wrong.stderr
    )
    kinds = {each["what"]: each["kind"] for each in result(workspace)["changes"]}
    assert (
        kinds["agreement.A: preprocessing: largest tensor difference"] == "worse" and kinds["model.inlet"] == "changed"
    )
    junit = ElementTree.parse(workspace / "plan.signoff" / "junit.xml").getroot()
    failed = [case.get("name") for case in junit.iter("testcase") if case.find("failure") is not None]
    assert (
        len(failed) == 4
        and failed[0].startswith("agreement.A")
        and junit.find(".//skipped").get("message").startswith("only reported")
    )
    page = (workspace / "plan.signoff" / "page.html").read_text()
    assert "FAIL: not signed off" in page and "decode.colour should be" in page


def test_an_artifact_of_other_bytes_is_made_again_and_a_damaged_record_is_no_harm(workspace):
    plan(workspace, SOURCE, "[convert]\nopset = 18\n[portability]\nopset_at_most = 20\n")
    done = called("signoff", "plan.toml", cwd=workspace)
    assert (
        done.returncode == 0
        and "other settings than those of [convert]" in done.stderr
        and result(workspace)["steps"]["survey"]["document"]["opset"] == 18
    )
    for file in (workspace / "plan.signoff" / "kept").iterdir():
        file.write_bytes(file.read_bytes()[: file.stat().st_size // 2])
    done = called("signoff", "plan.toml", cwd=workspace)
    assert done.returncode == 0 and not result(workspace)["steps"]["survey"]["reused"]
    (workspace / "channel_marks.pt2").write_bytes(b"PK\x03\x04 nothing")
    refused(called("signoff", "plan.toml", cwd=workspace), "channel_marks.pt2")


@pytest.mark.slow
def test_whatever_a_step_reads_is_a_reason_to_do_it_again(workspace):
    """An artifact without its source, and one input after the other changed: nothing that reads it is taken from
    before."""
    plan(
        workspace,
        MODEL,
        'inlet = "channel_marks.inlet.toml"\nlabels = "labels.txt"\n',
        DATA,
        LABELLED,
        "[accuracy]\nat_least = 0.5\n",
    )
    reused = lambda: {name for name, step in result(workspace)["steps"].items() if step["reused"]}  # noqa: E731
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 0 and reused() == set()
    shutil.copy(workspace / "wrong" / "swapped_channels.toml", workspace / "channel_marks.inlet.toml")
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 1 and reused() == {"survey"}
    (workspace / "labels.txt").write_text((workspace / "labels.txt").read_text() + "\n")
    called("signoff", "plan.toml", cwd=workspace)
    assert reused() == {"survey", "agreement", "inlet"}
    text = (workspace / "plan.toml").read_text()
    (workspace / "plan.toml").write_text(text + "[agreement]\nmodel_of_spread = 1e-3\n")
    called("signoff", "plan.toml", cwd=workspace)
    assert reused() == {"survey", "accuracy", "inlet"}


def test_what_was_done_before_an_interrupt_is_kept(tmp_path, monkeypatch):
    keeper, calls = Keeper(tmp_path / "kept"), []
    about = {"artifact": "x"}

    def stop():
        raise KeyboardInterrupt

    keeper.take("agreement", about, lambda: Result({"n": 1}, {"a.png": b"\x89PNG"}))
    with pytest.raises(KeyboardInterrupt):
        keeper.take("accuracy", about, stop)
    step = Keeper(tmp_path / "kept").take("agreement", about, lambda: calls.append(1))
    assert step.reused and step.document == {"n": 1} and step.result.pictures == {"a.png": b"\x89PNG"} and not calls
    assert not Keeper(tmp_path / "kept").take("agreement", {"artifact": "y"}, lambda: Result({"n": 2})).reused
    monkeypatch.setattr("zygal.signoff.kept.own_code", lambda: "changed")
    assert not Keeper(tmp_path / "kept").take("agreement", about, lambda: Result({"n": 4})).reused
    monkeypatch.undo()
    assert (
        not Keeper(tmp_path / "kept", fresh=True).take("agreement", {"artifact": "y"}, lambda: Result({"n": 3})).reused
    )


@pytest.mark.slow
def test_a_shrunk_artifact_is_made_and_both_are_held_against_the_recording(workspace):
    plan(
        workspace,
        SOURCE,
        DATA,
        LABELLED,
        '[shrink]\noutput = "small.onnx"\nimages = "reference"\n[accuracy]\nlost_at_most = 0.05\ncompare = "float"\n',
    )
    done = called("signoff", "plan.toml", cwd=workspace)
    found = result(workspace)
    assert done.returncode == 0, done.stdout + done.stderr
    assert found["artifact"]["role"] == "shrink.output" and {"agreement", "agreement_float"} <= set(found["steps"])
    assert any(each["condition"].startswith("float artifact: model: scores") for each in found["checks"])
    lost = next(each for each in found["checks"] if each["name"] == "accuracy.lost_at_most")
    assert "95 % CI" in lost["detail"] and lost["limit"] == 0.05
    small = (workspace / "small.onnx").stat().st_mtime_ns
    assert (
        called("signoff", "plan.toml", cwd=workspace).returncode == 0
        and (workspace / "small.onnx").stat().st_mtime_ns == small
    )


@pytest.mark.slow
def test_speed_is_measured_again_unless_it_is_to_be_reused(workspace):
    plan(
        workspace,
        MODEL,
        "[speed]\nseconds = 0.3\nbatches = [2]\nlayers = false\n[[speed.limits]]\nbatch = 1\nthreads = "
        "1\nmedian_at_most_ms = 1000\n[[speed.limits]]\nbatch = 2\nthreads = 1\nimages_per_second_at_least = "
        "1e9\n[memory]\npeak_at_most_mb = 4000\n",
    )
    done = called("signoff", "plan.toml", cwd=workspace)
    checks = {each["name"]: each for each in result(workspace)["checks"]}
    assert (
        done.returncode == 1
        and not checks["speed.images_per_second_at_least"]["passed"]
        and checks["memory.peak_at_most_mb"]["passed"]
    )
    assert (
        checks["speed.median_at_most_ms"]["passed"]
        and "95 % CI" in checks["speed.images_per_second_at_least"]["detail"]
    )
    called("signoff", "plan.toml", "--reuse-speed", cwd=workspace)
    assert result(workspace)["steps"]["speed"]["reused"]
    called("signoff", "plan.toml", cwd=workspace)
    assert not result(workspace)["steps"]["speed"]["reused"]


def test_a_p99_is_measured_for_as_long_as_it_needs_within_reason():
    def found(runs, seconds, limit=5.0):
        cell = SimpleNamespace(
            setting=SimpleNamespace(batch=1, threads=1),
            latency=SimpleNamespace(count=runs),
            quantile=lambda part: 1.0 if runs >= READINGS_FOR_P99 else None,
        )
        wanted = Plan(
            path="p",
            sha256="",
            title="t",
            speed=Speed(seconds=seconds, limits=(SpeedLimit(1, 1, p99_at_most_ms=limit, median_at_most_ms=9.0),)),
        )
        return seconds_for_p99(wanted, SimpleNamespace(bench=SimpleNamespace(cells=(cell,))), seconds)

    assert found(READINGS_FOR_P99, 10.0) is None and found(3, 10.0, None) is None
    assert found(READINGS_FOR_P99 // 2, 10.0) == pytest.approx(26, rel=0.02)
    # A p99 that would take hours is left out; its gate says why.
    assert found(2, 60.0) is None


@pytest.mark.slow
def test_a_new_plan_is_written_from_what_lies_there_and_runs(workspace):
    (workspace / "signoff.toml").unlink()
    done = called("signoff", "--new", cwd=workspace)
    assert done.returncode == 0 and "zygal signoff signoff.toml" in done.stdout
    read = read_plan(workspace / "signoff.toml")
    assert {
        Path(each).name
        for each in (
            read.model.source,
            read.model.inlet,
            read.model.labels,
            read.data.witness,
            read.data.reference,
            read.data.labelled,
        )
    } == {
        "channel_marks.pt2",
        "channel_marks.inlet.toml",
        "labels.txt",
        "channel_marks.witness",
        "reference",
        "labelled.csv",
    }
    refused(called("signoff", "--new", cwd=workspace), "signoff.toml exists")
    # Every commented line is a key that plans have.
    text = (workspace / "signoff.toml").read_text()
    keys = {name for record in (*TABLES.values(), SpeedLimit) for name in record.__dataclass_fields__} | {
        "title",
        "extends",
        "report_only",
        "zygal_plan",
    }
    assert set(re.findall(r"^(?:# )?(\w+) = ", text, re.M)) <= keys
    (workspace / "signoff.toml").write_text(text.replace("seconds = 20", "seconds = 1\nlayers = false"))
    assert called("signoff", "-o", "out", cwd=workspace).returncode == 0 and (workspace / "out" / "page.html").is_file()


class Reader(HTMLParser):
    """What a browser would load, and the headings."""

    def __init__(self):
        super().__init__()
        self.loads, self.headings, self.ids, self.links, self.missing_alt = [], [], [], [], 0

    def handle_starttag(self, tag, attributes):
        given = dict(attributes)
        self.ids += [given["id"]] if "id" in given else []
        if tag in ("img", "script", "iframe", "source", "link"):
            self.loads.append(given.get("src") or given.get("href") or "")
            self.missing_alt += tag == "img" and not given.get("alt")
        if tag == "a":
            self.links.append(given["href"])
        if re.fullmatch("h[1-6]", tag):
            self.headings.append(int(tag[1]))


def test_the_page_needs_nothing_else(workspace):
    """Every picture is inside, every link leads to a place of the page, headings go down one level at a time."""
    page = (signed_in(workspace) / "page.html").read_text()
    reader = Reader()
    reader.feed(page)
    assert reader.loads and all(each.startswith("data:image/") for each in reader.loads) and not reader.missing_alt
    assert all(each[1:] in reader.ids for each in reader.links) and len(set(reader.ids)) == len(reader.ids)
    assert reader.headings[0] == 1 and all(
        after - before <= 1 for before, after in zip(reader.headings, reader.headings[1:])
    )
    assert len(page) < 3_000_000 and "http" not in re.sub(r"http-equiv", "", re.sub(r"data:image[^\"]*", "", page))
    document = result(workspace)
    for wanted in (
        "PASS: signed off",
        document["artifact"]["sha256"],
        document["plan_sha256"],
        "mast camera",
        "EXIF rotation",
        "float32 [N, 3, 64, 64]",
    ):
        assert wanted in page, wanted


def signed_in(folder):
    plan(folder, SOURCE, DATA, LABELLED)
    assert called("signoff", "plan.toml", cwd=folder).returncode == 0
    return folder / "plan.signoff"


def test_names_from_files_cannot_write_into_the_page(workspace):
    """A title and class names that are markup stay text, in the page and in the JUnit file."""
    title = '<script>alert("x")</script>'
    plan(workspace, f"title = '{title}'\n", MODEL, DATA)
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 0
    page = (workspace / "plan.signoff" / "page.html").read_text()
    assert "<script" not in page and "&lt;script&gt;" in page
    assert title in ElementTree.parse(workspace / "plan.signoff" / "junit.xml").getroot().get("name")


def test_the_limit_and_the_interval_are_told_apart():
    """What lies near a limit is said; what cannot be measured fails with its reason."""
    checks = Checks(
        Plan(
            path="p",
            sha256="",
            title="t",
            accuracy=Accuracy(lost_at_most=0.02, compare="x"),
            speed=Speed(limits=(SpeedLimit(1, 1, p99_at_most_ms=5.0, median_at_most_ms=2.0),)),
        )
    )
    paired = {
        "paired": {"difference": {"value": -0.01, "ci95_low": -0.05, "ci95_high": 0.03}, "images": 100},
        "compared": "x",
    }
    lost = checks._lost(paired)
    assert lost.gate.verdict is Verdict.UNDECIDED and "1600 images" in lost.gate.deciding
    cell = {
        "batch_images": 1,
        "threads": 1,
        "latency_median_seconds": 0.0019,
        "latency_ci95_seconds": [0.0018, 0.0021],
        "latency_p99_seconds": None,
        "latency_p99_ci95_seconds": None,
        "runs": 12,
        "images_per_second": 5.0,
    }
    median, p99 = checks.speed({"cells": [cell], "gates": []})
    assert median.gate.verdict is Verdict.UNDECIDED and "seconds" in median.gate.deciding
    assert not p99.gate.passes and "12 runs are too few" in p99.gate.explanation
    missing = list(checks.speed({"cells": [], "gates": []}))
    assert not any(each.gate.passes for each in missing) and missing[0].gate.explanation == "not measured"


def test_a_class_or_a_group_that_is_not_there_fails_by_name():
    checks = Checks(
        Plan(
            path="p",
            sha256="",
            title="t",
            accuracy=Accuracy(classes={"whale": 0.5}, groups={"mast": 0.5}, each_group_at_least=0.5),
        )
    )
    tally = {
        "accuracy": {"value": 1.0, "ci95_low": 0.9, "ci95_high": 1.0},
        "images": 3,
        "exclusive": {"classes": [{"name": "port", "recall_interval": None, "support": 0}]},
        "groups": {},
    }
    found = {each.name: each for each in checks.accuracy(tally)}
    assert "no such class; there are port" in found["accuracy.classes"].gate.explanation
    assert "no groups" in found["accuracy.each_group_at_least"].gate.explanation and not any(
        each.gate.passes for each in found.values()
    )


def test_changes_are_named_and_judged_only_under_the_same_limit():
    def document(measured, limit=1.0, sha="a", version="1"):
        check = Check("accuracy.at_least", Gate("at_least", "accuracy", measured, limit, "share", at_least=True), True)
        file = {"role": "model.artifact", "path": "m.onnx", "sha256": sha * 64, "files": 1, "size_bytes": 1}
        return json_value(
            {
                "artifact": file,
                "inputs": [],
                "versions": {"numpy": version},
                "machine": {"processor": "p"},
                "checks": [check.document()],
                "steps": {},
            }
        )

    assert changes_since(document(0.5, 0.4), document(0.5, 0.4)) == []
    kinds = {each["what"]: each["kind"] for each in changes_since(document(0.5, 0.4), document(0.3, 0.4, "b", "2"))}
    assert kinds == {"accuracy.at_least: accuracy": "worse", "model.artifact": "changed", "numpy": "changed"}
    assert {each["kind"] for each in changes_since(document(0.5, 0.6), document(0.5, 0.4))} == {"changed"}


@pytest.mark.slow
@settings(max_examples=60)
@given(st.data())
def test_an_earlier_result_of_any_content_is_compared_or_refused(signed, tmp_path_factory, data):
    """Any value of the earlier document replaced by another one."""
    now = json.loads((signed / "signoff.signoff" / "result.json").read_text())
    document = json.loads(json.dumps(now))
    place, key = document, data.draw(st.sampled_from(sorted(document)))
    for _ in range(data.draw(st.integers(0, 7))):
        inner = place[key]
        if not isinstance(inner, (dict, list)) or not inner:
            break
        place, key = (
            inner,
            data.draw(st.sampled_from(sorted(inner) if isinstance(inner, dict) else list(range(len(inner))))),
        )
    place[key] = data.draw(st.sampled_from([None, "x", 3.5, [], {}, False, [None], {"a": 1}]))
    path = tmp_path_factory.getbasetemp() / "earlier.json"
    path.write_text(json.dumps(document))
    try:
        changes_since(read_signoff(path), now)
    except PlanError as fault:
        assert "\n" not in str(fault)


def test_the_plan_of_the_documentation_is_one(tmp_path):
    text = (Path(__file__).parents[1] / "docs" / "signoff.md").read_text()
    (tmp_path / "plan.toml").write_text(re.search(r"```toml\n(.*?)```", text, re.S)[1])
    read = read_plan(tmp_path / "plan.toml")
    assert (
        read.accuracy.classes == {"safe-water": 0.9} and read.speed.limits[0].p99_at_most_ms == 20 and read.report_only
    )


def test_every_gate_name_can_be_only_reported():
    assert {"agreement.B", "speed.p99_at_most_ms", "accuracy", "memory.peak_at_most_mb", "portability.runs_on"} <= set(
        gate_names()
    )
    read = Plan(path="p", sha256="", title="t", report_only=("speed", "accuracy.at_least"))
    assert (
        not read.required("speed.p99_at_most_ms")
        and not read.required("accuracy.at_least")
        and read.required("accuracy.classes")
    )
