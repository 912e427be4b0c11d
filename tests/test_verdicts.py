"""A verdict is one value, and none is better than what was measured: exit code, JSON, sentence, page and JUnit say the
same."""

import dataclasses
import json
import math
import os
import shutil
import stat
from xml.etree import ElementTree

import numpy as np
import pytest
from conftest import called, program, refused
from hypothesis import given
from hypothesis import strategies as st

from zygal.artifact.formats import artifact_hash
from zygal.bench.baseline import Baseline, BaselineCell
from zygal.bench.grid import mean_ratio
from zygal.bench.regression import judge
from zygal.bench.settings import Setting
from zygal.cli.ending import Terminated
from zygal.errors import ArtifactError, PlanError
from zygal.evidence.witness import read_witness, write_witness
from zygal.machine.state import own_key, state_folder
from zygal.outcome import EXIT_CODES, SOME_UNREADABLE, Gate, Outcome, Verdict
from zygal.prediction.classification import Classification
from zygal.prediction.classifier import open_artifact
from zygal.signoff.kept import Keeper, Result
from zygal.statistics.intervals import difference_of_paired, images_to_decide, share_of
from zygal.statistics.quantiles import Ratio, interval_of_quantile, ratio_of
from zygal.tally.calibration import calibration_of
from zygal.tally.gates import calibration_gate, lost_gate, share_gate

PLAN = 'zygal_plan = 1\n[model]\nartifact = "channel_marks.onnx"\n'


@pytest.fixture(autouse=True)
def own_state(tmp_path_factory, monkeypatch):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path_factory.mktemp("state")))


class Plain(Outcome):
    kind = "zygal.plain"

    def result(self):
        return {}


GATES = {
    Verdict.PASSED: Gate("p", "x", 1.0, 2.0, ""),
    Verdict.FAILED: Gate("f", "x", 3.0, 2.0, ""),
    Verdict.UNDECIDED: Gate("u", "x", 1.0, 2.0, "", low=0.5, high=2.5),
}


@given(st.lists(st.sampled_from(list(GATES)), max_size=4), st.booleans(), st.booleans(), st.integers(0, 2))
def test_everything_follows_from_the_verdict(verdicts, interrupted, was_refused, unreadable):
    outcome = Plain(
        gates=tuple(GATES[each] for each in verdicts),
        interrupted=interrupted,
        refusal=ArtifactError("why.") if was_refused else None,
        unreadable=(("a", "b"),) * unreadable,
    )
    worst = next((each for each in (Verdict.FAILED, Verdict.UNDECIDED) if each in verdicts), Verdict.PASSED)
    assert outcome.verdict == (Verdict.INTERRUPTED if interrupted else Verdict.REFUSED if was_refused else worst)
    document = outcome.document()
    assert (
        document["verdict"] == outcome.verdict.value
        and document["passed"] == (outcome.verdict is Verdict.PASSED)
        and document["exit_code"] == outcome.exit_code
    )
    some = outcome.verdict is Verdict.PASSED and unreadable
    assert outcome.exit_code == (SOME_UNREADABLE if some else EXIT_CODES[outcome.verdict])
    assert document["passed"] == (outcome.exit_code in (0, 3))


@given(st.floats(-1, 1), st.floats(0, 1), st.floats(-1, 1), st.booleans())
def test_a_gate_is_decided_only_if_its_whole_interval_is_on_one_side(measured, reach, limit, at_least):
    gate = Gate("g", "x", measured, limit, "share", at_least=at_least, low=measured - reach, high=measured + reach)
    good = [(each >= limit if at_least else each <= limit) for each in (measured - reach, measured, measured + reach)]
    assert gate.verdict is (Verdict.PASSED if all(good) else Verdict.UNDECIDED if any(good) else Verdict.FAILED)
    assert gate.passes == all(good) and gate.document()["verdict"] == gate.verdict.value


# What a refusal leaves behind


@pytest.mark.parametrize(
    "arguments, code",
    [
        (("survey", "no-such-file"), 2),
        (("match", "channel_marks.onnx", "--witness", "labels.txt"), 2),
        (("match", "channel_marks.onnx", "--witnes", "x"), 2),
        (("bench", "channel_marks.onnx", "--arrival-rate", "0"), 2),
        (("inlet", "recover", "--witness", "x", "--images", "y", "-o", "z.toml"), 2),
    ],
)
def test_a_refusal_replaces_the_result_of_yesterday(arguments, code, workspace):
    assert called("survey", "channel_marks.onnx", "--json", "r.json", cwd=workspace).returncode == 0
    done = called(*arguments, "--json", "r.json", cwd=workspace)
    document = json.loads((workspace / "r.json").read_text())
    assert (
        done.returncode == code == document["exit_code"] and document["verdict"] == "refused" and not document["passed"]
    )
    assert done.stderr.strip() == f"zygal: {document['refusal']}" and document["kind"].startswith(
        "zygal." + arguments[0]
    )


def test_a_refusal_does_not_replace_what_is_not_its_result(workspace):
    model, baseline = (workspace / "channel_marks.onnx").read_bytes(), workspace / "r.json"
    assert called("survey", "channel_marks.onnx", "--json", "r.json", cwd=workspace).returncode == 0
    before = baseline.read_bytes()
    refused(
        called("survey", "no-such-file", "--json", "channel_marks.onnx", cwd=workspace), "not a JSON result of Zygal"
    )
    refused(called("bench", "channel_marks.onnx", "--baseline", "r.json", "--json", "r.json", cwd=workspace))
    assert (workspace / "channel_marks.onnx").read_bytes() == model and baseline.read_bytes() == before


def test_an_internal_error_and_an_interrupt_are_no_pass(workspace, monkeypatch):
    for fault, code, verdict in ((ValueError("x"), 70, "refused"), (KeyboardInterrupt(), 130, "interrupted")):

        def fails(*arguments, fault=fault):
            raise fault

        monkeypatch.setattr("zygal.commands.survey.execute.survey", fails)
        assert called("survey", "channel_marks.onnx", "--json", "r.json", cwd=workspace).returncode == code
        document = json.loads((workspace / "r.json").read_text())
        assert (document["verdict"], document["exit_code"], document["passed"]) == (verdict, code, False)


def test_a_sign_off_that_was_refused_leaves_no_page_that_says_otherwise(workspace):
    (workspace / "plan.toml").write_text(PLAN + "[portability]\nsize_at_most_mb = 5\n")
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 0
    folder = workspace / "plan.signoff"
    assert "PASS: signed off" in (folder / "page.html").read_text()
    (workspace / "plan.toml").write_text(PLAN + "[portability]\nsize_at_most_mb = -5\n")
    refused(called("signoff", "plan.toml", cwd=workspace), "size_at_most_mb")
    document, page = json.loads((folder / "result.json").read_text()), (folder / "page.html").read_text()
    assert (
        document["verdict"] == "refused"
        and not document["passed"]
        and "REFUSED: not signed off" in page
        and "PASS" not in page
    )
    suites = ElementTree.parse(folder / "junit.xml").getroot()
    assert suites.get("errors") == "1" and suites.find(".//error").get("type") == "refused"
    refused(
        called(
            "pack",
            "channel_marks.onnx",
            "--images",
            "reference",
            "--signoff",
            "plan.signoff",
            "-o",
            "b.zip",
            cwd=workspace,
        )
    )


def test_a_plan_that_requires_nothing_is_undecided_everywhere(workspace):
    (workspace / "plan.toml").write_text(
        'report_only = ["portability"]\n' + PLAN + "[portability]\nsize_at_most_mb = 5\n"
    )
    done = called("signoff", "plan.toml", cwd=workspace)
    document = json.loads((workspace / "plan.signoff" / "result.json").read_text())
    assert (
        done.returncode == document["exit_code"] == 4
        and document["verdict"] == "undecided"
        and not document["passed"]
        and not document["signed_off"]
    )
    assert (
        "UNDECIDED, not signed off" in done.stdout
        and "UNDECIDED: not signed off" in (workspace / "plan.signoff" / "page.html").read_text()
    )
    assert ElementTree.parse(workspace / "plan.signoff" / "junit.xml").getroot().get("errors") == "1"


# What an artifact is


def test_an_artifact_is_all_of_its_files(workspace):
    convert = (
        "convert",
        "channel_marks.pt2",
        "-o",
        "m.onnx",
        "--labels",
        "labels.txt",
        "--inlet",
        "channel_marks.inlet.toml",
        "--weights-beside",
    )
    assert called(*convert, cwd=workspace).returncode == 0
    (workspace / "plan.toml").write_text(
        'zygal_plan = 1\n[model]\nartifact = "m.onnx"\n[data]\nlabelled = "labelled.csv"\n[accuracy]\nat_least = 0.8\n'
    )
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 0
    assert called("classify", "m.onnx", "reference", "-o", "rows.csv", cwd=workspace).returncode == 0
    before, weights = artifact_hash(workspace / "m.onnx"), workspace / "m.onnx.weights"
    rows = (workspace / "rows.csv").read_bytes()
    data = np.frombuffer(weights.read_bytes(), np.float32).copy()
    weights.write_bytes((-data).tobytes())
    assert artifact_hash(workspace / "m.onnx") != before
    done = called("signoff", "plan.toml", cwd=workspace)
    assert done.returncode == 1 and "accuracy.at_least" in done.stdout
    refused(called("classify", "m.onnx", "reference", "-o", "rows.csv", cwd=workspace), "the artifact was")
    assert (workspace / "rows.csv").read_bytes() == rows
    surveyed = json.loads(called("survey", "m.onnx", "--json", "-", cwd=workspace).stdout)
    assert surveyed["sha256"] == artifact_hash(workspace / "m.onnx")


def test_rows_depend_on_the_output_that_they_are_made_from(shipped):
    first = open_artifact(str(shipped / "channel_marks.onnx"))
    other = dataclasses.replace(first, output="another")
    one, two = (Classification(each).made_by(("path",)) for each in (first, other))
    assert {name for name in one if one[name] != two[name]} == {"the output"}


# Undecided is not passed


def test_few_labelled_images_decide_nothing(workspace):
    rows = (workspace / "labelled.csv").read_text().splitlines()
    (workspace / "few.csv").write_text("\n".join(rows[:16]) + "\n")
    done = (
        called(
            "tally",
            "channel_marks.onnx",
            "--images",
            "few.csv",
            "--compare",
            "keras/channel_marks.onnx",
            "--min-accuracy",
            "0.8",
            "--json",
            "t.json",
            cwd=workspace,
        )
        if (
            called(
                "convert",
                "keras/channel_marks.keras",
                "-o",
                "keras/channel_marks.onnx",
                "--inlet",
                "keras/channel_marks.inlet.toml",
                "--labels",
                "labels.txt",
                cwd=workspace,
            ).returncode
            == 0
        )
        else None
    )
    assert done.returncode == 4 and "UNDECIDED" in done.stdout and "PASS" not in done.stdout
    assert "images in all would decide it" in " ".join(done.stdout.split())
    assert json.loads((workspace / "t.json").read_text())["verdict"] == "undecided"
    # A margin loosens, and tightens.
    wide = called(
        "tally",
        "channel_marks.onnx",
        "--images",
        "few.csv",
        "--compare",
        "keras/channel_marks.onnx",
        "--margin",
        "99%",
        cwd=workspace,
    )
    assert wide.returncode == 0 and "PASS: comparison" in wide.stdout


@given(st.integers(1, 400), st.data())
def test_as_many_images_decide_a_share_as_is_said(total, data):
    count, limit = data.draw(st.integers(0, total)), data.draw(st.sampled_from((0.5, 0.7, 0.85, 0.95, 0.99)))
    share = share_of(count, total)
    needed = images_to_decide(share.value, limit)
    if needed is None or needed > 10**7:
        return
    # With so many images of the same share, in whole images, the limit is outside; with a tenth fewer it is not.
    more = share_of(count * needed, total * needed)
    assert not more.low <= limit <= more.high
    fewer = needed * 9 // 10 // total
    if fewer:
        less = share_of(count * fewer, total * fewer)
        assert less.low <= limit <= less.high
    gate = share_gate("accuracy", "accuracy", share, limit, total)
    assert (gate.verdict is Verdict.UNDECIDED) == (share.low < limit <= share.high or share.low < limit <= share.value)


def test_the_images_that_decide_a_difference_do():
    for only_first, only_other, total, limit in ((3, 5, 200, 0.02), (0, 0, 50, 0.01), (10, 12, 300, 0.03)):
        difference = difference_of_paired(only_first, only_other, total)
        lost = dataclasses.replace(difference, value=-difference.value, low=-difference.high, high=-difference.low)
        gate = lost_gate("comparison", "x", lost, limit, total)
        assert gate.verdict is Verdict.UNDECIDED
        times = float(gate.deciding.split("about ")[1].split()[0]) / total
        more = difference_of_paired(
            round(only_first * times * 1.2), round(only_other * times * 1.2), round(total * times * 1.2)
        )
        assert -more.low <= limit + 1e-9, (gate.deciding, more)


def baseline_of(bench, ratio, reach):
    cells = {
        cell.setting: BaselineCell(cell.latency.value, Ratio(cell.reference_ratio.value / ratio, 1, 1, 9), reach)
        for cell in bench.cells
    }
    cells = {
        setting: dataclasses.replace(
            cell,
            reference_ratio=Ratio(
                cell.reference_ratio.value, cell.reference_ratio.value * 0.99, cell.reference_ratio.value * 1.01, 9
            ),
        )
        for setting, cell in cells.items()
    }
    return Baseline(
        "a",
        bench.runtime,
        bench.inputs_from,
        [list(each) for each in bench.image_shapes.values()],
        bench.machine,
        bench.reference_seconds,
        cells,
    )


def test_a_slowdown_that_is_lost_in_noise_is_not_a_pass():
    from outcomes import ALL

    bench = ALL["bench"]().bench
    cell = dataclasses.replace(
        bench.cells[0], reference_ratio=Ratio(1.0, 0.99, 1.01, 9), self_ratio=Ratio(1.0, 0.995, 1.005, 9)
    )
    bench = dataclasses.replace(bench, cells=(cell,))
    for ratio, noise, allowed, verdict in (
        (9.0, 2.0, 0.15, Verdict.UNDECIDED),
        (9.0, 0.01, 0.15, Verdict.FAILED),
        (1.0, 0.01, 0.15, Verdict.PASSED),
        (1.0, 0.01, 0.01, Verdict.UNDECIDED),
        (1.0, 0.5, 0.15, Verdict.UNDECIDED),
    ):
        (gate,) = judge(bench, baseline_of(bench, ratio, noise), True).gates(allowed)
        assert gate.verdict is verdict, (ratio, noise, gate)
    assert "--seconds" in judge(bench, baseline_of(bench, 1.0, 0.5), True).gates(0.15)[0].deciding
    assert "no time would" in judge(bench, baseline_of(bench, 1.0, 0.01), True).gates(0.01)[0].deciding


def test_the_interval_of_a_p99_holds_it_as_often_as_it_says():
    rng = np.random.default_rng(5)
    true, held = math.log(100), 0
    for _ in range(400):
        low, high = interval_of_quantile(rng.exponential(size=1000), 0.99)
        held += low <= true <= high
    assert held >= 0.93 * 400 and interval_of_quantile(rng.exponential(size=100), 0.99) is None


def test_the_mean_over_settings_that_share_sessions_is_as_certain_as_it_says():
    """Batches share what their sessions' memory makes: errors of a whole epoch, the same for all settings."""
    rng, held, runs = np.random.default_rng(1), 0, 400
    for _ in range(runs):
        epochs, blocks = 12, 4
        shared = np.repeat(rng.normal(0, 0.03, epochs), blocks)
        marks = np.repeat(np.arange(epochs), blocks).tolist()
        pairs = [
            (np.ones(epochs * blocks).tolist(), np.exp(shared + rng.normal(0, 0.01, epochs * blocks)).tolist(), marks)
            for _ in range(4)
        ]
        found = mean_ratio([ratio_of(*each) for each in pairs], pairs)
        held += found.low <= 1.0 <= found.high
    assert held >= 0.93 * runs


def test_json_and_report_agree_on_what_is_larger_than_noise():
    from outcomes import ALL

    bench = ALL["bench"]().bench
    document = ALL["bench"]().document()
    for other, stated in zip(bench.compared, document["compared"]):
        for cell, row in zip([each for each in bench.cells if each.setting in other.ratios], stated["cells"]):
            assert row["larger_than_noise"] == other.told_apart(cell)
    # A difference that one comparison would show, and one of twenty does not.
    cell, settings = bench.cells[0], [Setting(batch, 1) for batch in range(1, 21)]
    other = dataclasses.replace(
        bench.compared[0], ratios=dict.fromkeys([cell.setting, *settings], Ratio(1.10, 1.01, 1.2, 9))
    )
    quiet = dataclasses.replace(cell, self_ratio=Ratio(1.0, 0.999, 1.001, 9))
    alone = dataclasses.replace(other, ratios={cell.setting: Ratio(1.10, 1.01, 1.2, 9)})
    assert alone.told_apart(quiet) and not other.told_apart(quiet)


# Calibration


@pytest.mark.slow
@pytest.mark.parametrize("images", [100, 200, 1000])
def test_perfectly_calibrated_models_pass_and_bad_ones_do_not(images):
    rng, limit, runs = np.random.default_rng(images), 0.05, 200
    verdicts = {0.0: [], 0.2: []}
    for _ in range(runs):
        confidence = rng.beta(5, 2, images)
        for off, found in verdicts.items():
            right = rng.random(images) < np.clip(confidence - off, 0, 1)
            found.append(calibration_gate("c", calibration_of(confidence, right), limit).verdict)
    assert verdicts[0.0].count(Verdict.PASSED) >= 0.95 * runs
    assert verdicts[0.0].count(Verdict.FAILED) == 0 and verdicts[0.2].count(Verdict.PASSED) <= 0.1 * runs
    assert images < 200 or verdicts[0.2].count(Verdict.FAILED) >= 0.7 * runs


def test_too_few_predictions_say_nothing_of_calibration():
    gate = calibration_gate("c", calibration_of(np.full(20, 0.9), np.arange(20) < 18), 0.05)
    assert gate.verdict is Verdict.UNDECIDED and "100 images" in gate.deciding


# What cannot be read


def test_a_sign_off_counts_what_it_could_not_read(workspace):
    rows = (workspace / "labelled.csv").read_text().splitlines()
    (workspace / "most.csv").write_text(
        "\n".join([rows[0], *(f"gone-{row}" for row in rows[1:190]), *rows[190:]]) + "\n"
    )
    for more, code, words in (
        ("", 1, "data.unreadable_at_most"),
        ("unreadable_at_most = 189\n", 3, "189 files could not be read (exit code 3)"),
    ):
        (workspace / "plan.toml").write_text(
            PLAN + f'[data]\nlabelled = "most.csv"\n{more}[accuracy]\nat_least = 0.5\n'
        )
        done = called("signoff", "plan.toml", cwd=workspace)
        assert (
            done.returncode == code and words in done.stdout and ("PASS, signed off" in done.stdout) == (code == 3)
        ), done.stdout
    # Labels that are no classes are not counted as images that were looked at.
    (workspace / "other.csv").write_text(
        "\n".join([rows[0], *(row.replace(",", ",un", 1) for row in rows[1:100]), *rows[100:]]) + "\n"
    )
    (workspace / "plan.toml").write_text(PLAN + '[data]\nlabelled = "other.csv"\n[accuracy]\nat_least = 0.5\n')
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 1


def test_a_class_whose_images_are_all_unreadable_is_listed(workspace):
    rows = (workspace / "labelled.csv").read_text().splitlines()
    spoilt = [f"gone-{row}" if row.split(",")[1] == "special" else row for row in rows[1:]]
    (workspace / "spoilt.csv").write_text("\n".join([rows[0], *spoilt]) + "\n")
    done = called("tally", "channel_marks.onnx", "--images", "spoilt.csv", "--json", "t.json", cwd=workspace)
    assert done.returncode == 3 and "no image of these classes could be read" in done.stderr
    assert json.loads((workspace / "t.json").read_text())["classes_without_images"] == ["special"]


def test_a_match_of_scores_alone_counts_the_images_that_it_compared(workspace):
    witness = read_witness(workspace / "channel_marks.witness")
    write_witness(dataclasses.replace(witness, tensors=None, layers=None), workspace / "scores.witness")
    for image in witness.images[:30]:
        (workspace / "reference" / image.name).write_bytes(b"no image")
    done = called("match", "channel_marks.onnx", "--witness", "scores.witness", "--images", "reference", cwd=workspace)
    assert "on 10 images; 30 files could not be read" in " ".join(done.stdout.split()), done.stdout


@pytest.mark.parametrize(
    "fault, verdict, code, words",
    [
        (PlanError("why."), "refused", 2, "why."),
        (KeyError("x"), "refused", 70, "internal error: KeyError"),
        (MemoryError(), "refused", 2, ""),
        (KeyboardInterrupt(), "interrupted", 130, "interrupted"),
        (Terminated(), "interrupted", 143, "interrupted"),
    ],
)
def test_the_results_of_a_signoff_state_the_exit_code_that_it_ends_with(
    fault, verdict, code, words, tmp_path, monkeypatch
):
    from zygal.signoff import command as signoff

    def ends(request, listener):
        raise fault

    (tmp_path / "plan.toml").write_text("")
    (tmp_path / "plan.signoff").mkdir()
    result = tmp_path / "plan.signoff" / "result.json"
    result.write_text('{"kind": "zygal.signoff", "version": 1}')
    monkeypatch.setattr(signoff, "_carried_out", ends)
    with pytest.raises(type(fault)):
        signoff.execute(signoff.SignoffRequest(plan=str(tmp_path / "plan.toml")))
    written = json.loads(result.read_text())
    assert (written["verdict"], written["exit_code"], written["signed_off"]) == (
        verdict,
        code,
        False,
    ) and words in written["refusal"]


# What is kept between runs


@pytest.mark.slow
@pytest.mark.parametrize("name", ["survey", "accuracy"])
def test_kept_results_are_used_only_if_this_user_measured_them(workspace, name, monkeypatch, tmp_path):
    (workspace / "plan.toml").write_text(
        PLAN + '[data]\nlabelled = "labelled.csv"\n[accuracy]\nat_least = 0.99\n[portability]\nsize_at_most_mb = 0.01\n'
    )
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 1
    kept = workspace / "plan.signoff" / "kept" / f"{name}.json"
    whole = json.loads(kept.read_text())
    again = called("signoff", "plan.toml", cwd=workspace)
    assert "taken from it: survey, accuracy" in again.stdout.replace("\n", " ") and again.returncode == 1
    forged = json.loads(kept.read_text())
    forged["document"] |= {"size_bytes": 1, "accuracy": {"value": 1.0, "ci95_low": 0.999, "ci95_high": 1.0}}
    kept.write_text(json.dumps(forged))
    done = called("signoff", "plan.toml", cwd=workspace)
    assert done.returncode == 1 and "was not measured by this user" in done.stderr
    # A folder from elsewhere.
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path / "another user"))
    done = called("signoff", "plan.toml", cwd=workspace)
    assert done.returncode == 1 and "was not measured by this user" in done.stderr
    for content in (
        b"",
        b"[]",
        b"{}",
        json.dumps(whole | {"pictures": {"x": "*"}}).encode(),
        json.dumps(whole | {"seal": 5}).encode(),
        b"\xff\xfe",
    ):
        kept.write_bytes(content)
        done = called("signoff", "plan.toml", cwd=workspace)
        assert done.returncode == 1 and "is not used" in done.stderr


def test_the_key_is_the_users_own(monkeypatch, tmp_path):
    monkeypatch.setenv("XDG_STATE_HOME", str(tmp_path))
    key = own_key()
    path = state_folder() / "key"
    assert key == own_key() and len(key) == 32 and stat.S_IMODE(path.stat().st_mode) == 0o600
    os.chmod(path, 0o644)
    assert own_key() is None
    keeper = Keeper(tmp_path / "kept")
    keeper.take("step", {}, lambda: Result({"a": 1}))
    assert "nothing is kept" in keeper.notes[0] and not keeper.take("step", {}, lambda: Result({"a": 2})).reused
    path.unlink()
    path.symlink_to("/etc/hostname")
    assert own_key() is None


# What a bundle says of its artifacts


def test_what_a_bundle_says_is_said_of_each_artifact(workspace):
    (workspace / "plan.toml").write_text(PLAN + "[portability]\nsize_at_most_mb = 5\n")
    assert called("signoff", "plan.toml", cwd=workspace).returncode == 0
    assert (
        called(
            "convert",
            "channel_marks.pt2",
            "-o",
            "other.onnx",
            "--labels",
            "labels.txt",
            "--inlet",
            "channel_marks.inlet.toml",
            "--half",
            cwd=workspace,
        ).returncode
        == 0
    )
    done = called(
        "pack",
        "channel_marks.onnx",
        "--images",
        "reference",
        "other.onnx",
        "--signoff",
        "plan.signoff",
        "-o",
        "b.zip",
        cwd=workspace,
    )
    assert done.returncode == 0 and "not signed off, though others of the bundle are: other/other.onnx" in done.stderr
    assert "10 reference images, signed off" in " ".join(
        done.stdout.split()
    ) and "10 reference images, not signed off" in " ".join(done.stdout.split())
    checked = called("pack", "--check", "b.zip", cwd=workspace)
    assert (
        checked.returncode == 0
        and "Sign-off of other/other.onnx" in checked.stdout
        or "sign-off of other/other.onnx" in checked.stdout
    )
    shutil.unpack_archive(workspace / "b.zip", workspace / "b")
    readme = (workspace / "b" / "README.md").read_text()
    assert "channel_marks/channel_marks.onnx: signed off" in readme and "other/other.onnx: not signed off" in readme
    result = workspace / "plan.signoff" / "result.json"
    document = json.loads(result.read_text())
    result.write_text(json.dumps(document | {"signed_off": False, "verdict": "failed"}))
    done = called("pack", "--check", "b.zip", "--signoff", "plan.signoff", cwd=workspace)
    assert done.returncode == 1 and "says that the artifact was not signed off" in " ".join(done.stdout.split())


@pytest.mark.slow
def test_a_shrink_that_misses_its_budget_is_refused_everywhere(workspace):
    done = program(
        "shrink",
        "channel_marks.onnx",
        "-o",
        "s.onnx",
        "--images",
        "reference",
        "--speed",
        "50",
        "--json",
        "s.json",
        cwd=workspace,
    )
    document = json.loads((workspace / "s.json").read_text())
    assert done.returncode == document["exit_code"] == 2 and document["verdict"] == "refused" and not document["passed"]
    assert document["refusal"] in done.stderr and not (workspace / "s.onnx").exists()
