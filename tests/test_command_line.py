"""What command-line users expect of every command: help, common options, defaults from a file, outputs, pipes."""

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import called, program, refused

from zygal.cli.main import TRACEBACK, build_parser
from zygal.cli.names import COMMANDS
from zygal.errors import InletError
from zygal.inlet import parse_inlet
from zygal.listener import Listener
from zygal.outcome import Outcome

ZYGAL = str(Path(sys.executable).with_name("zygal"))
MATCH = ("match", "channel_marks.onnx", "--witness", "channel_marks.witness")
CONVERT = ("convert", "channel_marks.pt2", "--inlet", "channel_marks.inlet.toml", "--labels", "labels.txt", "-o")


def test_help_comes_in_every_way(tmp_path):
    bare, long, word = (called(*arguments, cwd=tmp_path) for arguments in ((), ("--help",), ("help",)))
    assert bare.returncode == long.returncode == word.returncode == 0 and bare.stdout == long.stdout == word.stdout
    assert all(re.search(rf"^    {name} ", bare.stdout, re.M) for name in COMMANDS)
    assert max(map(len, bare.stdout.splitlines())) <= 120 and "exit codes: 0 pass, 1 a gate failed" in bare.stdout
    for name in COMMANDS:
        one, other = called("help", name, cwd=tmp_path), called(name, "--help", cwd=tmp_path)
        assert one.returncode == 0 and one.stdout == other.stdout and one.stdout.startswith(f"usage: zygal {name}")
    assert "--accept LEVELS" in called("help", "inlet", "recover", cwd=tmp_path).stdout
    refused(called("help", "polish", cwd=tmp_path), "there is no command polish")
    refused(called("wittness", cwd=tmp_path), "there is no command wittness; did you mean witness?")


def test_the_defaults_in_the_help_are_those_of_the_requests(tmp_path):
    from zygal.commands.classify.request import ClassifyRequest
    from zygal.commands.match.request import MatchRequest

    text = " ".join(called("help", "match", cwd=tmp_path).stdout.split())
    for name in ("tensor_limit", "model_limit", "end_limit", "worst"):
        assert f"(default: {getattr(MatchRequest, name):g})" in text
    text = " ".join(called("help", "classify", cwd=tmp_path).stdout.split())
    assert f"(default: {100 * ClassifyRequest.min_margin:g}%)" in text


def test_options_are_not_abbreviated_and_common_ones_stand_anywhere(shipped):
    refused(called(*MATCH[:2], "--wit", "channel_marks.witness", cwd=shipped), "--witness")
    before, behind = (called(*words, cwd=shipped) for words in (("-q", *MATCH), (*MATCH, "--quiet")))
    assert before.returncode == behind.returncode == 0 and not before.stdout + behind.stdout + before.stderr
    refused(called(*MATCH, "-q", "-v", cwd=shipped), "-q and -v contradict")


def test_json_on_stdout_stands_alone(shipped):
    done = called(*MATCH, "--json", "-", cwd=shipped)
    document = json.loads(done.stdout)
    assert done.returncode == document["exit_code"] == 0 and document["kind"] == "zygal.match"
    assert document["next_step"] == "zygal match channel_marks.onnx --witness channel_marks.witness --images DIR"


def test_verbose_says_what_is_done_and_quiet_says_only_errors(shipped):
    done = called(*MATCH, "-v", cwd=shipped)
    assert re.search(r"zygal: +[\d.]+ m?s  reading channel_marks.onnx and channel_marks.witness", done.stderr)
    assert "tensor_limit=0.5" in done.stderr
    done = called(*MATCH, "--images", "nowhere", "-q", cwd=shipped)
    assert done.returncode == 2 and "nowhere does not exist" in done.stderr


def test_color_is_a_choice(shipped):
    coloured, plain = (called(*MATCH, "--color", when, cwd=shipped).stdout for when in ("always", "never"))
    assert "\x1b[" in coloured and "\x1b[" not in plain
    assert re.sub(r"\x1b\[[\d;]*m", "", coloured).split() == plain.split()


def test_versions_of_everything_that_can_change_a_result(tmp_path):
    lines = called("--version", cwd=tmp_path).stdout.splitlines()
    assert [line.split()[0] for line in lines[:4]] == ["zygal", "python", "onnxruntime", "onnx"]
    assert {"numpy", "pillow", "torch", "keras"} <= {line.split()[0] for line in lines}


@pytest.mark.parametrize("shell", ["bash", "zsh", "tcsh"])
def test_completion_knows_commands_and_options(shell, tmp_path):
    done = program("completion", shell, cwd=tmp_path)
    assert done.returncode == 0 and "recover" in done.stdout and "compare-inlet" in done.stdout
    if shell == "bash":
        (tmp_path / "zygal.bash").write_text(done.stdout)
        assert subprocess.run(["bash", "-n", tmp_path / "zygal.bash"]).returncode == 0


def test_every_option_of_every_command_has_a_help_text():
    def parsers(parser):
        yield parser
        for action in parser._actions:
            for each in (getattr(action, "choices", None) or {}).values() if action.nargs == "A..." else ():
                yield from parsers(each)

    actions = [action for parser in parsers(build_parser("all")) for action in parser._actions]
    assert len(actions) > 150
    assert [
        action.option_strings or action.dest for action in actions if not action.help and action.nargs != "A..."
    ] == []


def test_defaults_come_from_the_nearest_file_above(workspace):
    below = workspace / "a" / "b"
    below.mkdir(parents=True)
    match = ("match", "../../channel_marks.onnx")
    (workspace / "zygal.toml").write_text(
        '[match]\ntensor-limit = 0.25\nwitness = "channel_marks.witness"\nimages = "reference"\nworst = '
        "1\n[inlet.recover]\naccept = 0.3\n"
    )
    done = called(*match, "-v", "--json", "-", cwd=below)
    document = json.loads(done.stdout)
    assert document["limits"]["tensor_grey_levels"] == 0.25 and document["images_compared"] == 40, done.stderr
    assert "zygal.toml: tensor-limit = 0.25, witness = channel_marks.witness" in done.stderr
    # The command line has the last word, and a nearer file hides a farther one.
    given = called(*match, "--tensor-limit", "0.1", "--json", "-", cwd=below)
    assert json.loads(given.stdout)["limits"]["tensor_grey_levels"] == 0.1
    (below / "zygal.toml").write_text("[bench]\nthreads = [1, 2]\ncompare = []\n")
    refused(called(*match, cwd=below), "--witness")
    refused(called("bench", "../../channel_marks.onnx", cwd=below), "zygal.toml: compare cannot be set in this file")
    for command, option, value in (
        ("match", "endpoint", '"http://elsewhere/v2/models/x"'),
        ("signoff", "allow-outside", "true"),
        ("signoff", "run-code", "true"),
        ("signoff", "new", "true"),
        ("pack", "run-code", "true"),
    ):
        (below / "zygal.toml").write_text(f"[{command}]\n{option} = {value}\n")
        refused(
            called(command, "../../channel_marks.onnx", cwd=below), f"zygal.toml: {option} cannot be set in this file"
        )


@pytest.mark.alike
@pytest.mark.parametrize(
    "text, words",
    [
        ("[match]\ntensor-limits = 1\n", "the unknown option tensor-limits"),
        ("[match]\ntensor-limit = -1\n", "not a number of at least 0"),
        ("[match]\nwrite-inlet = 'x'\n", "cannot be set"),
        ("[witness]\ntraining-code = 'x.py:f'\n", None),
        ("[polish]\nx = 1\n", "unknown entry polish"),
        ("match = 1\n", "unknown entry match"),
        ("[match\n", "not valid TOML"),
        ("[match]\nworst = true\n", "must be a number or a text"),
    ],
)
def test_a_file_of_defaults_that_is_wrong_is_refused(text, words, workspace):
    (workspace / "zygal.toml").write_text(text)
    if words is None:
        refused(
            called("witness", "channel_marks.pt2", "--images", "reference", "-o", "w.witness", cwd=workspace),
            "cannot be set",
        )
        return
    refused(called(*MATCH, cwd=workspace), "zygal.toml", words)
    done = program(*MATCH, cwd=workspace, env=os.environ | {"ZYGAL_CONFIG": "none"})
    assert done.returncode == 0, done.stderr
    refused(program(*MATCH, cwd=workspace, env=os.environ | {"ZYGAL_CONFIG": "gone.toml"}), "gone.toml", "ZYGAL_CONFIG")


def test_an_output_replaces_only_its_own_kind(workspace):
    assert called(*CONVERT, "new.onnx", cwd=workspace).returncode == 0
    for target in ("channel_marks.pt2", "labels.txt", "channel_marks.witness"):
        before = (workspace / target).read_bytes()
        refused(called(*CONVERT, target, cwd=workspace), target, "--overwrite")
        refused(called(*MATCH, "--json", target, cwd=workspace), target, "--overwrite")
        assert (workspace / target).read_bytes() == before
    # The same kind, an empty file, and whatever is asked for.
    (workspace / "empty.onnx").touch()
    for target, more in (("new.onnx", ()), ("empty.onnx", ()), ("labels2.txt", ("--overwrite",))):
        (workspace / "labels2.txt").write_text("mine")
        assert called(*CONVERT, target, *more, "--json", "c.json", cwd=workspace).returncode == 0
        assert (workspace / target).read_bytes() == (workspace / "new.onnx").read_bytes()
    refused(called(*CONVERT, "both", "--json", "both", cwd=workspace), "named as two outputs")
    (workspace / "notes.json").write_text('{"mine": 1}')
    refused(called(*MATCH, "--json", "notes.json", cwd=workspace), "notes.json exists and is not a JSON result")


def test_a_reader_that_goes_away_changes_no_verdict_and_no_file(shipped, tmp_path):
    wrong = [
        ZYGAL,
        *MATCH,
        "--images",
        "reference",
        "--inlet",
        "wrong/swapped_channels.toml",
        "--json",
        str(tmp_path / "m.json"),
    ]
    reading, writing = os.pipe()
    os.close(reading)
    done = subprocess.run(wrong, cwd=shipped, stdout=writing, stderr=subprocess.PIPE, text=True)
    os.close(writing)
    assert done.returncode == 1 and "Traceback" not in done.stderr
    assert json.loads((tmp_path / "m.json").read_text())["exit_code"] == 1


def test_progress_is_a_line_every_few_seconds_where_there_is_no_terminal(capsys, monkeypatch):
    from zygal.cli import terminal

    now = [0.0]
    monkeypatch.setattr(terminal.time, "monotonic", lambda: now[0])
    listener = terminal.TerminalListener(False, False)
    for done in range(0, 1001, 10):
        now[0] = done / 50
        listener.count("images", done, 1000)
    lines = capsys.readouterr().err.splitlines()
    assert lines == [
        f"zygal: images: {done} of 1 000, 50.0 images/s, {rest} s left"
        for done, rest in ((250, "15.0"), (500, "10.0"), (750, "5.0"))
    ] + ["zygal: images: 1 000 of 1 000, 50.0 images/s, 0 ms left"]
    quiet = terminal.TerminalListener(True, False)
    now[0] += 60
    quiet.step("measuring", 0.5)
    quiet.note("nothing")
    assert capsys.readouterr().err == ""


def test_an_internal_error_shows_its_traceback_only_if_asked(shipped, monkeypatch):
    import zygal.commands.match.execute as core

    monkeypatch.setattr(core, "execute", lambda request, listener: 1 / 0)
    done = called(*MATCH, cwd=shipped)
    assert done.returncode == 70 and "ZeroDivisionError" in done.stderr and "Traceback" not in done.stderr
    assert "Traceback" in called(*MATCH, "--traceback", cwd=shipped).stderr
    monkeypatch.setenv(TRACEBACK, "1")
    assert "Traceback" in called(*MATCH, cwd=shipped).stderr


@pytest.mark.slow
def test_each_report_ends_with_the_next_command(workspace):
    def next_of(*arguments):
        lines = called(*arguments, cwd=workspace).stdout.splitlines()
        return lines[lines.index("Next:") + 1].strip()

    assert next_of("convert", "channel_marks.pt2", "-o", "bare.onnx") == (
        "zygal inlet recover --witness channel_marks.witness --images DIR -o channel_marks.inlet.toml"
    )
    assert next_of(*CONVERT, "new.onnx") == "zygal match new.onnx --witness channel_marks.witness --images DIR"
    assert next_of("match", "bare.onnx", *MATCH[2:], "--images", "reference") == (
        "zygal inlet recover --witness channel_marks.witness --images reference -o bare.inlet.toml"
    )
    wrong = (*MATCH, "--images", "reference", "--inlet", "wrong/swapped_channels.toml")
    assert next_of(*wrong) == " ".join(["zygal", *wrong, "--write-inlet", "channel_marks.corrected.inlet.toml"])
    then = next_of(*wrong, "--write-inlet", "fixed.toml")
    assert then.endswith("--inlet fixed.toml") and called(*then.split()[1:], cwd=workspace).returncode == 0
    (workspace / "channel_marks.witness").rename(workspace / "elsewhere")
    (workspace / "keras").rename(workspace / "gone")
    assert next_of("convert", "channel_marks.pt2", "-o", "bare.onnx") == (
        "zygal witness channel_marks.pt2 --images DIR --training-code FILE.py:FUNCTION -o channel_marks.witness"
    )


def test_the_core_runs_without_an_interface(shipped, tmp_path):
    from zygal.commands import convert
    from zygal.commands.match import execute as match
    from zygal.commands.recover import execute as recover
    from zygal.commands.tally import execute as tally

    class Recorder(Listener):
        steps = set()

        def step(self, name, fraction=0.0):
            self.steps.add(name)
            assert 0 <= fraction <= 1

    request = match.MatchRequest(
        artifact=str(shipped / "channel_marks.onnx"),
        witness=str(shipped / "channel_marks.witness"),
        images=str(shipped / "reference"),
    )
    outcome = match.execute(request, Recorder())
    assert isinstance(outcome, Outcome) and outcome.exit_code == 0 and Recorder.steps == {"comparing"}
    with pytest.raises(AttributeError):
        request.worst = 5
    made = convert.execute(
        convert.ConvertRequest(source=str(shipped / "channel_marks.pt2"), output=str(tmp_path / "a.onnx"))
    )
    assert made.written == (str(tmp_path / "a.onnx"),) and made.found.opset == 17
    assert recover.RecoverRequest(witness="w", images="d", output="o").accept == 0.5
    found = tally.execute(
        tally.TallyRequest(
            artifact=str(shipped / "channel_marks.onnx"), images=str(shipped / "labelled"), min_accuracy=0.99
        )
    )
    assert found.exit_code == 1 and found.failed_gates[0].measured == pytest.approx(183 / 201)


def test_work_can_be_pickled_and_done_elsewhere(shipped):
    import pickle

    from zygal.inlet.apply import ApplyInlet
    from zygal.prediction.blocks import Block
    from zygal.prediction.classification import MakePredictions
    from zygal.prediction.classifier import open_artifact
    from zygal.prediction.prediction import Thresholds
    from zygal.prediction.stream import ScoreBlock

    classifier = open_artifact(shipped / "channel_marks.onnx")
    block = [str(path) for path in sorted((shipped / "reference").iterdir())[:8]]
    work = ScoreBlock(classifier, None, MakePredictions(classifier, Thresholds(), 3))
    assert pickle.loads(pickle.dumps(work))(Block(block)) == work(Block(block))
    apply = ApplyInlet(classifier.inlet)
    for one, other in zip(apply(block), pickle.loads(pickle.dumps(apply))(block)):
        assert (one.tensor == other.tensor).all()


@pytest.mark.parametrize(
    "arguments, meant",
    [
        (
            ["inlet", "recover", "--witnes", "a", "--images", "b", "-o", "c"],
            "no option --witnes; did you mean --witness?",
        ),
        (
            ["inlet", "recover", "--witness", "a", "--images", "b", "-o", "c", "--acept", "1"],
            "no option --acept; did you mean --accept?",
        ),
        (["convert", "a", "-o", "b", "--raw-pixel"], "no option --raw-pixel; did you mean --raw-pixels?"),
        (["convert", "a", "-o", "b", "--zzz"], "no option --zzz; see"),
        (["inlet", "recipes", "thumbnial"], '"thumbnail" may be meant.'),
    ],
)
def test_a_misspelt_option_or_name_is_told_what_may_be_meant(arguments, meant, tmp_path):
    ended = called(*arguments, cwd=tmp_path)
    assert ended.returncode == 2 and meant in ended.stderr and ended.stderr.count("\n") == 1


@pytest.mark.parametrize(
    "text, meant",
    [
        ('[decode]\ncolor = "rgb"', '"colour" may be meant.'),
        ('[decode]\ncolour = "gray"', '"grey" may be meant.'),
        ('[[frame]]\nstep = "resize"\nsize = [8, 8]\ninterpolation = "bilinear"', '"filter" may be meant.'),
        ('[[frame]]\nstep = "resize"\nsize = [8, 8]\nfilter = "linear"', '"bilinear" may be meant.'),
        ('[[frame]]\nstep = "resise"', '"resize" may be meant.'),
        ('[tensor]\nlayout = "channels_last"', '"NHWC" may be meant.'),
    ],
)
def test_a_misspelt_key_or_value_of_an_inlet_is_told_what_may_be_meant(text, meant):
    with pytest.raises(InletError) as refusal:
        parse_inlet(f"zygal_inlet = 1\n{text}\n", "a.toml")
    assert str(refusal.value).endswith(meant)


def test_recipes_are_listed_printed_and_written(tmp_path):
    names = [
        each["name"] for each in json.loads(called("inlet", "recipes", "--json", "-", cwd=tmp_path).stdout)["recipes"]
    ]
    assert "squash" in names and len(names) >= 20
    printed = called("inlet", "recipes", "squash", cwd=tmp_path).stdout
    assert called("inlet", "recipes", "squash", "-o", "a.inlet.toml", cwd=tmp_path).returncode == 0
    assert (tmp_path / "a.inlet.toml").read_text().strip() == printed.strip()
    assert called("inlet", "recipes", "-o", "b.toml", cwd=tmp_path).returncode == 2


def test_no_help_imports_what_only_work_needs(tmp_path):
    code = "import sys\nfrom zygal.cli.main import build_parser\nbuild_parser('all')\nprint(*sys.modules)"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=60, cwd=tmp_path)
    imported = {name.partition(".")[0] for name in done.stdout.split()}
    assert done.returncode == 0 and "zygal" in imported
    assert not imported & {"numpy", "PIL", "onnx", "onnxruntime", "scipy", "rich", "matplotlib", "psutil", "jinja2"}
