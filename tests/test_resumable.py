"""Runs of classify that are cut off anywhere, lists from everywhere, and folders as people have them."""

import json
import os
import subprocess
import sys
import threading
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from conftest import called, program, refused
from PIL import Image

from zygal.errors import FileError, OutputError
from zygal.inlet.images import list_images
from zygal.prediction import resumable
from zygal.prediction.image_states import RowState, state_of
from zygal.prediction.listing import Listing
from zygal.prediction.lock import held_alone
from zygal.prediction.resumable import open_rows
from zygal.prediction.run_record import RunRecord
from zygal.tally.calibration import calibration_of
from zygal.tally.duplicates import NEAR_LEVELS, duplicate_pairs, fingerprint

BLOCKS = [([f"{block}-{place}.jpg" for place in range(3)], f"row {block}\n".encode() * 3) for block in range(4)]
HEADING = b"heading\n"
WHOLE = HEADING + b"".join(data for _, data in BLOCKS)
MADE_BY = {"the artifact": "a", "the limits": {"top": 3}}


def states(names):
    """What is recorded of each image of a block, and how they are counted."""
    return b"".join(RowState(state_of(name), 6, ("read",)).line() for name in names), Counter(read=len(names))


def upper(rows, target):
    target.write_bytes(rows.read_bytes().upper())


def make_all(path, convert=None):
    """One call: begins, or goes on where it was cut off, until the file is there."""
    names = iter([name for block, _ in BLOCKS for name in block])
    with open_rows(path, MADE_BY, HEADING, convert) as rows:
        if rows.finished:
            rows.pass_over(names)
            return rows
        rows.pass_over(names)
        for block, data in BLOCKS[rows.resumed // 3 :]:
            rows.append(data, block, *states(block))
            rows.commit()
        rows.finish(convert)
    return rows


class Interrupt:
    """Raises KeyboardInterrupt at the n-th line that is run in the module."""

    def __init__(self, at):
        self.left = at

    def __call__(self, frame, event, argument):
        if frame.f_code.co_filename != resumable.__file__:
            return None
        return self.line

    def line(self, frame, event, argument):
        if event == "line":
            self.left -= 1
            if self.left == 0:
                raise KeyboardInterrupt
        return self.line


@pytest.mark.slow
@pytest.mark.parametrize("convert", [None, upper], ids=["rows", "converted"])
def test_an_interrupt_at_any_step_loses_nothing(convert, tmp_path, monkeypatch):
    monkeypatch.setattr(os, "fsync", lambda handle: None)  # Thousands of runs; what matters is the order.
    wanted = WHOLE.upper() if convert else WHOLE
    step = cut = 0
    while True:
        step += 1
        path = tmp_path / f"{step}.csv"
        before, interrupt = sys.gettrace(), Interrupt(step)
        sys.settrace(interrupt)
        try:
            make_all(path, convert)
        except KeyboardInterrupt:
            cut += 1
        finally:
            sys.settrace(before)
        if interrupt.left > 0:
            break
        # Whatever it left, the same call makes the same file, and once more changes nothing.
        make_all(path, convert)
        assert path.read_bytes() == wanted, step
        rows = make_all(path, convert)
        assert rows.finished and rows.rows == 12 and rows.counts["read"] == 12, step
        assert sorted(each.name for each in tmp_path.glob(f"{step}.csv*")) == [
            f"{step}.csv",
            f"{step}.csv.run.images",
            f"{step}.csv.run.json",
        ], step
    assert cut > 150


def test_rows_beyond_the_account_are_cut_off(tmp_path):
    path = tmp_path / "a.csv"
    with pytest.raises(KeyboardInterrupt), open_rows(path, MADE_BY, HEADING) as rows:
        rows.append(BLOCKS[0][1], BLOCKS[0][0], *states(BLOCKS[0][0]))
        raise KeyboardInterrupt
    (tmp_path / "a.csv.unfinished").open("ab").write(b"half a ro")
    make_all(path)
    assert path.read_bytes() == WHOLE


def test_of_a_run_that_made_no_row_nothing_is_left(tmp_path):
    with pytest.raises(KeyboardInterrupt), open_rows(tmp_path / "a.csv", MADE_BY, HEADING):
        raise KeyboardInterrupt
    assert not list(tmp_path.iterdir())


def test_one_process_writes_at_a_time(tmp_path):
    with (
        open_rows(tmp_path / "a.csv", MADE_BY, HEADING) as rows,
        pytest.raises(OutputError, match="by another zygal"),
        open_rows(tmp_path / "a.csv", MADE_BY, HEADING),
    ):
        pass
    assert not rows.finished
    # A lock that a killed process left locks nothing.
    (tmp_path / "a.csv.run.lock").touch()
    make_all(tmp_path / "a.csv")
    assert not (tmp_path / "a.csv.run.lock").exists()


def test_a_lock_is_held_by_one_of_many(tmp_path):
    inside, most, faults = [], [], []

    def work():
        for _ in range(30):
            try:
                with held_alone(tmp_path / "lock", tmp_path / "what"):
                    inside.append(1)
                    most.append(len(inside))
                    inside.pop()
            except OutputError:
                faults.append(1)

    threads = [threading.Thread(target=work) for _ in range(4)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert max(most) == 1 and not (tmp_path / "lock").exists()


EDITS = {
    "no object": b"[]",
    "no JSON": b"{",
    "nothing": b"",
    "another version": {"zygal_run": 1},
    "rows in words": {"rows": "3"},
    "fewer than none": {"rows": -1},
    "bytes of nothing": {"bytes": None},
    "no hash": {"names_sha256": "xyz"},
    "a list of counts": {"counts": [1]},
    "counts in words": {"counts": {"read": "many"}},
    "a field of its own": {"loader": "x"},
    "finished in words": {"finished": "yes"},
    "made by nothing": {"made_by": None},
    "more rows": {"rows": 10**6},
    "another hash": {"names_sha256": "0" * 64},
    "a long number": {"rows": 10**25},
}


@pytest.mark.parametrize("edit", EDITS)
def test_an_edited_account_is_refused(edit, tmp_path):
    path, account = tmp_path / "a.csv", tmp_path / "a.csv.run.json"
    with pytest.raises(KeyboardInterrupt), open_rows(path, MADE_BY, HEADING) as rows:
        rows.append(BLOCKS[0][1], BLOCKS[0][0], *states(BLOCKS[0][0]))
        raise KeyboardInterrupt
    change = EDITS[edit]
    account.write_bytes(
        change if isinstance(change, bytes) else json.dumps(json.loads(account.read_text()) | change).encode()
    )
    with pytest.raises(OutputError) as fault:
        make_all(path)
    assert len(str(fault.value)) <= 400 and "--overwrite" in str(fault.value)


def test_accounts_are_not_changed_but_exchanged():
    account = RunRecord({"a": 1})
    with pytest.raises(AttributeError):
        account.rows = 3


def test_an_image_that_the_artifacts_inlet_cannot_take_is_its_own_fault(workspace):
    done = called(
        "convert",
        "channel_marks.pt2",
        "-o",
        "raw.onnx",
        "--raw-pixels",
        "--inlet",
        "channel_marks.inlet.toml",
        "--labels",
        "labels.txt",
        cwd=workspace,
    )
    assert done.returncode == 0, done.stderr
    Image.new("RGB", (2, 1)).save(workspace / "reference" / "mark-00-small.png")
    done = called("classify", "raw.onnx", "reference", "-o", "a.csv", cwd=workspace)
    assert done.returncode in (0, 3), done.stderr
    rows = (workspace / "a.csv").read_text().splitlines()
    assert len(rows) == 42 and sum(not row.endswith(",") for row in rows[1:]) <= 1
    # Where each image is damaged, there is nothing to compare, and that is said.
    for path in (workspace / "reference").iterdir():
        path.write_bytes(b"gone")
    done = called("match", "raw.onnx", "--witness", "channel_marks.witness", "--images", "reference", cwd=workspace)
    assert (
        done.returncode == 1
        and "Traceback" not in done.stderr
        and "no image could be read" in " ".join(done.stdout.split())
    ), done


# Lists and folders


def test_a_list_from_a_pipe_loses_no_name(workspace):
    names = [f"reference/{path.name}" for path in sorted((workspace / "reference").iterdir())]
    (workspace / "list.txt").write_text("".join(f"{name}\n" for name in names))
    zygal = Path(sys.executable).with_name("zygal")
    command = f"{zygal} classify channel_marks.onnx --list <(cat list.txt) -o piped.csv"
    done = subprocess.run(["bash", "-c", command], cwd=workspace, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    assert (
        called("classify", "channel_marks.onnx", "--list", "list.txt", "-o", "listed.csv", cwd=workspace).returncode
        == 0
    )
    assert (workspace / "piped.csv").read_bytes() == (workspace / "listed.csv").read_bytes()


def test_a_pipe_that_nobody_writes_is_not_waited_for(tmp_path, monkeypatch):
    os.mkfifo(tmp_path / "pipe")
    monkeypatch.setattr("zygal.prediction.lists.PATIENCE_SECONDS", 0.2)
    listing = Listing(lists=[str(tmp_path / "pipe")])
    listing.check()
    assert listing.count() is None and list(listing) == []


@pytest.mark.parametrize("content", [b"x" * 70_000, b"a\0b\n", b"\0" * 100])
def test_a_list_is_of_names(content, tmp_path):
    (tmp_path / "list").write_bytes(content)
    with pytest.raises(FileError, match="not a list of files"):
        list(Listing(lists=[str(tmp_path / "list")]))


def test_links_to_folders_are_followed_once(tmp_path):
    (tmp_path / "a" / "deep").mkdir(parents=True)
    (tmp_path / "far").mkdir()
    for path in ("a/one.png", "a/deep/two.png", "far/three.png"):
        (tmp_path / path).touch()
    (tmp_path / "a" / "link").symlink_to(tmp_path / "far")
    (tmp_path / "a" / "deep" / "ring").symlink_to(tmp_path / "a")
    (tmp_path / "a" / ".hidden").mkdir()
    (tmp_path / "a" / ".hidden" / "no.png").touch()
    (tmp_path / "a" / ".no.png").touch()
    found = [os.path.relpath(each, tmp_path / "a") for each in Listing([str(tmp_path / "a")])]
    assert found == ["deep/two.png", "link/three.png", "one.png"] and list_images(tmp_path / "a") == found


def test_hidden_folders_are_no_classes(workspace):
    folder = workspace / "labelled"
    first = next(folder.iterdir())
    (folder / ".thumbnails").mkdir()
    (folder / first.name / ".cache").mkdir()
    for place in (folder / ".thumbnails", folder / first.name / ".cache"):
        (place / "copy.jpg").write_bytes(next(first.glob("*.jpg")).read_bytes())
    done = called("tally", "channel_marks.onnx", "--images", "labelled", "--json", "t.json", cwd=workspace)
    assert done.returncode == 0 and ".thumbnails" not in done.stdout, done.stderr
    assert json.loads((workspace / "t.json").read_text())["images"] == len(list_images(folder))


def test_names_that_are_no_text_lose_nothing(workspace):
    odd = os.fsencode(workspace / "reference") + b"/mark-\xff\xfe.png"
    with open(odd, "wb") as file:
        file.write((workspace / "reference" / "mark-27.png").read_bytes())
    for ending in ("csv", "jsonl", "parquet"):
        done = called("classify", "channel_marks.onnx", "reference", "-o", f"a.{ending}", cwd=workspace)
        assert done.returncode == 0 and "Traceback" not in done.stderr, (ending, done.stderr)
    assert "\\udcff" in (workspace / "a.csv").read_text()
    done = called(
        "witness",
        "channel_marks.pt2",
        "--images",
        "reference",
        "--inlet",
        "channel_marks.inlet.toml",
        "-o",
        "w.witness",
        cwd=workspace,
    )
    refused(done, "not a valid UTF-8 name", "rename the file")


# Shares, alike pictures, leans


@pytest.mark.parametrize(
    "arguments, words",
    [
        (("classify", "channel_marks.onnx", "reference", "--min-probability", "90"), "did you mean 90%?"),
        (("tally", "channel_marks.onnx", "--images", "labelled", "--min-accuracy", "90"), "did you mean 90%?"),
        (("tally", "channel_marks.onnx", "--images", "labelled", "--min-accuracy", "101%"), "more than 100%"),
        (("tally", "channel_marks.onnx", "--images", "labelled", "--margin", "nan"), "not a percentage"),
        (("match", "channel_marks.onnx", "--witness", "channel_marks.witness", "--model-limit", "nan"), "at least 0"),
        (("match", "channel_marks.onnx", "--witness", "channel_marks.witness", "--tensor-limit", "-1"), "at least 0"),
        (("bench", "channel_marks.onnx", "--seconds", "nan"), "--seconds must be > 0 and <= 86400 (got nan)"),
        (("bench", "channel_marks.onnx", "--seconds", "-1"), "--seconds must be > 0 and <= 86400 (got -1)"),
        (
            (
                "bench",
                "channel_marks.onnx",
                "--batches",
                "4",
                "--threads",
                "1",
                "--seconds",
                "0.2",
                "--arrival-rate",
                "50",
                "--max-batch",
                "2",
                "--deadline",
                "9ms",
            ),
            "add 2 to --batches",
        ),
    ],
)
def test_shares_and_limits_that_make_no_sense(arguments, words, shipped):
    refused(called(*arguments, cwd=shipped), words)


def still_camera(count, noise=3.0):
    chance = np.random.default_rng(0)
    scene = chance.integers(0, 255, (48, 64, 3)).astype(np.uint8)
    return [
        fingerprint(np.clip(scene + chance.normal(0, noise, scene.shape), 0, 255).astype(np.uint8))
        for _ in range(count)
    ]


def test_a_still_camera_is_one_cluster():
    frames = still_camera(300)
    pairs = duplicate_pairs(frames)
    assert len(pairs) == 299 and all(i < j for i, j in pairs)
    # Enough pairs to lead from each frame to every other one.
    joined = {0}
    for _ in range(300):
        joined |= {j for i, j in pairs if i in joined} | {i for i, j in pairs if j in joined}
    assert len(joined) == 300
    others = duplicate_pairs(frames[:50], frames[100:])
    assert sorted(i for i, _ in others) == list(range(50))


def test_every_pair_of_a_cluster_is_alike():
    frames = still_camera(20) + [fingerprint(np.full((20, 20, 3), level, np.uint8)) for level in (0, 120, 250)]
    for i, j in duplicate_pairs(frames):
        one, other = (np.frombuffer(frames[place].thumbnail, np.uint8).astype(int) for place in (i, j))
        assert np.abs(one - other).mean() <= NEAR_LEVELS


@pytest.mark.parametrize("right, lean", [(0.5, "is underconfident"), (0.05, "is overconfident"), (0.3, "is detected")])
def test_a_lean_is_said_only_where_the_interval_shows_one(right, lean, capsys):
    from types import SimpleNamespace

    from zygal.cli.reports.tally import _show_calibration
    from zygal.cli.terminal import console

    found = calibration_of(np.full(200, 0.3), np.arange(200) < 200 * right)
    assert found.accuracy.low <= right <= found.accuracy.high
    _show_calibration(console(), SimpleNamespace(calibration=found), "the answers")
    assert lean in " ".join(capsys.readouterr().out.split())


def test_the_program_goes_on_after_an_interrupt(workspace):
    done = program("classify", "channel_marks.onnx", "reference", "-o", "a.csv", cwd=workspace)
    assert done.returncode == 0
    again = program("classify", "channel_marks.onnx", "reference", "-o", "a.csv", cwd=workspace)
    assert again.returncode == 0 and "complete already" in again.stderr
