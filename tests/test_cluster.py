"""classify and tally on workers of a cluster: the same bytes whatever happens, and refusals before anything is
written."""

import json
import os
import pickle
import queue
import random
import shutil
import signal
import subprocess
import sys
import threading
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
import psutil
import pytest
from conftest import called, program, refused
from distributed import LocalCluster
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.artifact.formats import artifact_files
from zygal.artifact.onnx import write as onnx_writer
from zygal.cluster import groups
from zygal.cluster import run as running
from zygal.cluster.isolated import run_isolated
from zygal.cluster.kit import pack_kit, sent_artifact, unpack_blocks, unpack_kit
from zygal.cluster.probe import Probed, judge, make_probe
from zygal.cluster.simulation import Plan, Times, simulate, workers_that_pay
from zygal.cluster.worker import NeedsKit, Ran, Station
from zygal.errors import ClusterError, EngineError
from zygal.prediction.blocks import Block, Done, blocks_of
from zygal.prediction.classifier import open_artifact
from zygal.tally.observe import FingerprintBlock

HOSTILE = """
import os, signal, sys
if os.environ.get("NO_ZYGAL"):
    sys.modules["zygal"] = None
hidden = os.environ.get("HIDDEN")
if hidden:
    def without(call):
        def called(path, *more, **named):
            if isinstance(path, (str, os.PathLike)) and os.fspath(path).startswith(hidden):
                raise FileNotFoundError(2, "No such file or directory", path)
            return call(path, *more, **named)
        return called
    os.stat, os.open = without(os.stat), without(os.open)
if os.environ.get("DEADLY"):
    from PIL import Image
    opened = Image.open
    def deadly(file, *more, **named):
        if file.read(6) == b"DEADLY":
            os.kill(os.getpid(), signal.SIGSEGV)
        file.seek(0)
        return opened(file, *more, **named)
    Image.open = deadly
"""


@pytest.fixture(scope="module")
def cluster():
    """Two workers, which work in another folder than the commands of the tests."""
    with LocalCluster(
        n_workers=2,
        threads_per_worker=1,
        processes=True,
        dashboard_address="127.0.0.1:0",
        host="127.0.0.1",
        memory_limit=0,
    ) as made:
        yield made


@pytest.fixture
def hostile(tmp_path):
    """Starts a worker of its own scheduler in an environment in which something is wrong; gives the scheduler's
    address."""
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "sitecustomize.py").write_text(HOSTILE)
    processes, clusters = [], []

    def start(**variables):
        made = LocalCluster(n_workers=0, dashboard_address="127.0.0.1:0", host="127.0.0.1")
        clusters.append(made)
        environment = os.environ | {"PYTHONPATH": str(tmp_path / "site"), **variables}
        processes.append(
            subprocess.Popen(
                [
                    sys.executable,
                    "-m",
                    "distributed.cli.dask_worker",
                    made.scheduler_address,
                    "--no-nanny",
                    "--no-dashboard",
                    "--nthreads",
                    "1",
                    "--memory-limit",
                    "0",
                ],
                env=environment,
                cwd=tmp_path,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        )
        return made.scheduler_address

    yield start
    for each in processes:
        each.kill()
        each.wait()
    for each in clusters:
        each.close()


def spoilt(folder):
    (folder / "reference" / "broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 cut off")
    names = [f"reference/{path.name}" for path in sorted((folder / "reference").iterdir())]
    (folder / "list.txt").write_text("".join(f"{name}\n" for name in [*names, "missing.jpg"] * 4))


@pytest.mark.alike
@pytest.mark.parametrize("ending", ["csv", "jsonl", "parquet"])
def test_rows_are_byte_for_byte_those_of_one_machine(ending, cluster, workspace):
    spoilt(workspace)
    arguments = ("classify", "channel_marks.onnx", "--list", "list.txt", "-o")
    assert called(*arguments, f"one.{ending}", cwd=workspace).returncode == 3
    done = called(
        *arguments, f"many.{ending}", "--cluster", cluster.scheduler_address, "--json", "out.json", cwd=workspace
    )
    assert done.returncode == 3, done.stderr
    assert (workspace / f"many.{ending}").read_bytes() == (workspace / f"one.{ending}").read_bytes()
    assert json.loads((workspace / "out.json").read_text())["cluster"] == {
        "address": cluster.scheduler_address,
        "workers": 2,
        "threads": 2,
    }
    # One machine goes on where a cluster stopped, and the other way round; replaced images are noticed by the workers.
    shutil.copy(workspace / "reference/mark-05.jpg", workspace / "reference/mark-01.jpg")
    for output, more in ((f"one.{ending}", ("--cluster", cluster.scheduler_address)), (f"many.{ending}", ())):
        assert "images replaced since the last run" in called(*arguments, output, *more, cwd=workspace).stderr
    assert (workspace / f"many.{ending}").read_bytes() == (workspace / f"one.{ending}").read_bytes()


def test_a_schedulers_own_file_names_it(cluster, workspace):
    (workspace / "scheduler.json").write_text(json.dumps({"type": "Scheduler", "address": cluster.scheduler_address}))
    few = ("classify", "channel_marks.onnx", "reference/mark-01.jpg", "--cluster")
    assert called(*few, "scheduler.json", cwd=workspace).returncode == 0
    for content, words in (
        ('{"address": 3}', "is not the file of a scheduler"),
        ("[]", "is not a JSON object"),
        ("{", "is not JSON"),
    ):
        (workspace / "scheduler.json").write_text(content)
        refused(called(*few, "scheduler.json", cwd=workspace), words)
    refused(called(*few, "none.json", cwd=workspace), "none.json cannot be read")


@pytest.mark.slow
def test_figures_are_the_same_to_the_last_digit_for_any_split(cluster, workspace, monkeypatch):
    shutil.copy(workspace / "channel_marks.onnx", workspace / "other.onnx")
    arguments = (
        "tally",
        "channel_marks.onnx",
        "--images",
        "labelled",
        "--compare",
        "other.onnx",
        "--trained-on",
        "reference",
        "--json",
    )
    called(*arguments, "one.json", cwd=workspace)
    wanted = json.loads((workspace / "one.json").read_text()) | {"cluster": None}
    for target in (2.0, 0.0001):
        monkeypatch.setattr(groups, "TARGET_SECONDS", target)
        done = called(*arguments, "many.json", "--overwrite", "--cluster", cluster.scheduler_address, cwd=workspace)
        found = json.loads((workspace / "many.json").read_text())
        assert found["cluster"]["workers"] == 2, done.stderr
        assert found | {"cluster": None} == wanted


@pytest.mark.slow
def test_vectors_and_few_images_come_from_workers_too(cluster, workspace):
    for output, more in (("one.npy", ()), ("many.npy", ("--cluster", cluster.scheduler_address))):
        assert (
            called(
                "classify", "channel_marks.onnx", "reference", "--as", "vectors", "-o", output, *more, cwd=workspace
            ).returncode
            == 0
        )
    assert (workspace / "one.npy").read_bytes() == (workspace / "many.npy").read_bytes()
    few = ("classify", "channel_marks.onnx", "reference/mark-01.jpg")
    assert called(*few, "--cluster", "local:1", cwd=workspace).stdout == called(*few, cwd=workspace).stdout


@pytest.mark.parametrize(
    "more, words",
    [
        (("--cluster", "local:0"), "needs a number of workers"),
        (("--cluster", "local:many"), "needs a number of workers"),
        (("--cluster", "127.0.0.1:8786"), "is no cluster"),
        (("--cluster", "tcp://"), "is no cluster"),
        (("--cluster", "tls://127.0.0.1:1"), "needs certificates"),
        (("--cluster", "tcp://127.0.0.1:1"), "no scheduler answers"),
        (("--cluster", "local:2", "--threads", "2"), "--threads does not apply"),
        (("--cluster", "local:2", "--regions", "x.png"), "--cluster does not apply"),
        (("--cluster", "local:2", "--compare", "channel_marks.pt2"), "convert it first"),
        (("--cluster", "local:2", "--endpoint", "http://x/v2/models/y"), "--endpoint does not apply"),
    ],
)
def test_what_cannot_be_a_cluster_is_refused(more, words, workspace, monkeypatch):
    monkeypatch.setattr("zygal.cluster.connection.CONNECT_SECONDS", 1.0)
    refused(called("classify", "channel_marks.onnx", "reference/mark-01.jpg", *more, cwd=workspace), words)


def test_a_server_that_is_no_scheduler_is_not_waited_for(workspace, monkeypatch):
    from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

    monkeypatch.setattr("zygal.cluster.connection.CONNECT_SECONDS", 0.5)
    with ThreadingHTTPServer(("127.0.0.1", 0), BaseHTTPRequestHandler) as server:
        server.daemon_threads, server.block_on_close = True, False
        threading.Thread(target=server.serve_forever, daemon=True).start()
        done = called(
            "classify",
            "channel_marks.onnx",
            "reference/mark-01.jpg",
            "--cluster",
            f"tcp://127.0.0.1:{server.server_port}",
            cwd=workspace,
        )
        server.shutdown()
    refused(done, "no scheduler answers at")


def test_workers_without_the_package_or_with_another_release_are_refused(hostile, cluster, workspace, monkeypatch):
    arguments = ("classify", "channel_marks.onnx", "reference", "-o", "x.csv", "--cluster")
    refused(called(*arguments, hostile(NO_ZYGAL="1"), cwd=workspace), "has no package zygal")
    monkeypatch.setattr("zygal.cluster.workers.__version__", "99.0")
    refused(
        called(*arguments, cluster.scheduler_address, cwd=workspace),
        "but 99.0 runs here; install the same release everywhere",
    )
    assert not list(workspace.glob("x.csv*"))


@pytest.mark.slow
def test_an_artifact_is_sent_and_images_that_workers_do_not_see_are_named(hostile, workspace, monkeypatch):
    away = workspace / "away"
    away.mkdir()
    shutil.move(workspace / "channel_marks.onnx", away)
    address = hostile(HIDDEN=str(away))
    done = called(
        "classify", "away/channel_marks.onnx", "reference", "-o", "x.csv", "--cluster", address, cwd=workspace
    )
    assert done.returncode == 0, done.stderr
    called("classify", "away/channel_marks.onnx", "reference", "-o", "y.csv", cwd=workspace)
    assert (workspace / "x.csv").read_bytes() == (workspace / "y.csv").read_bytes()
    shutil.copytree(workspace / "reference", away / "images")
    arguments = ("classify", "away/channel_marks.onnx", "reference", "away/images", "-o", "z.csv", "--cluster", address)
    refused(called(*arguments, cwd=workspace), "away/images/mark-00.jpg is seen here but not by the worker")
    assert not list(workspace.glob("z.csv*"))
    # Beyond the first images it is noticed when their rows come.
    monkeypatch.setattr("zygal.cluster.admission.FIRST_IMAGES", 8)
    refused(called(*arguments, cwd=workspace), "away/images/mark-00.jpg is seen here but not by a worker")


@pytest.mark.slow
def test_an_image_that_kills_its_process_has_a_row_that_says_so(workspace, tmp_path):
    (tmp_path / "site").mkdir()
    (tmp_path / "site" / "sitecustomize.py").write_text(HOSTILE)
    (workspace / "reference" / "mark-11x.jpg").write_bytes(b"DEADLY")
    arguments = ("classify", "channel_marks.onnx", "reference", "-o")
    called(*arguments, "one.csv", cwd=workspace)
    environment = os.environ | {"PYTHONPATH": str(tmp_path / "site"), "DEADLY": "1"}
    done = program(*arguments, "many.csv", "--cluster", "local:2", cwd=workspace, env=environment)
    assert done.returncode == 3 and "Traceback" not in done.stderr, done.stderr
    pairs = list(
        zip(
            (workspace / "one.csv").read_text().splitlines(),
            (workspace / "many.csv").read_text().splitlines(),
            strict=True,
        )
    )
    (apart,) = [pair for pair in pairs if pair[0] != pair[1]]
    assert apart[1].startswith("reference/mark-11x.jpg,") and apart[1].endswith(
        "the process that decoded it was ended by SIGSEGV"
    )


@pytest.mark.slow
def test_lost_workers_and_a_lost_scheduler_change_no_byte(workspace):
    spoilt(workspace)
    (workspace / "list.txt").write_text((workspace / "list.txt").read_text() * 12)
    arguments = ("classify", "channel_marks.onnx", "--list", "list.txt", "-o")
    called(*arguments, "one.csv", cwd=workspace)
    scheduler = LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address="127.0.0.1:0", host="127.0.0.1", memory_limit=0
    )
    command = [
        str(Path(sys.executable).with_name("zygal")),
        *arguments,
        "many.csv",
        "--cluster",
        scheduler.scheduler_address,
    ]
    process = subprocess.Popen(command, cwd=workspace, stderr=subprocess.PIPE, stdout=subprocess.PIPE, text=True)

    def wait_for_rows(count):
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline and process.poll() is None:
            rows = workspace / "many.csv.unfinished"
            if rows.exists() and rows.read_bytes().count(b"\n") > count:
                return
            time.sleep(0.05)

    wait_for_rows(100)
    for nanny in list(scheduler.workers.values())[:1]:
        psutil.Process(nanny.pid).kill()
    wait_for_rows(800)
    scheduler.close()
    _, errors = process.communicate(timeout=60)
    if process.returncode == 2:
        assert "went away" in errors and "Traceback" not in errors, errors
        done = called(*arguments, "many.csv", "--cluster", "local:1", cwd=workspace)
        assert "is resumed after row" in done.stderr
    else:  # It had come to its end already.
        assert process.returncode == 3, errors
    assert (workspace / "many.csv").read_bytes() == (workspace / "one.csv").read_bytes()


@pytest.mark.slow
def test_an_interrupt_ends_workers_and_keeps_rows(workspace):
    spoilt(workspace)
    (workspace / "list.txt").write_text((workspace / "list.txt").read_text() * 40)
    command = [
        str(Path(sys.executable).with_name("zygal")),
        "classify",
        "channel_marks.onnx",
        "--list",
        "list.txt",
        "-o",
        "x.csv",
        "--cluster",
        "local:2",
    ]
    process = subprocess.Popen(command, cwd=workspace, stderr=subprocess.PIPE, text=True, start_new_session=True)
    deadline = time.monotonic() + 60
    while not (workspace / "x.csv.unfinished").exists() and time.monotonic() < deadline:
        time.sleep(0.1)
    time.sleep(2)
    children = psutil.Process(process.pid).children(recursive=True)
    # As a terminal does it: all processes of the group.
    os.killpg(process.pid, signal.SIGINT)
    _, errors = process.communicate(timeout=60)
    assert process.returncode == 130 and "rows are saved" in errors and "Traceback" not in errors, errors
    _, alive = psutil.wait_procs(children, timeout=20)
    assert not alive


@pytest.mark.slow
def test_bench_measures_workers_and_plans_for_many(cluster, workspace):
    arguments = ("bench", "channel_marks.onnx", "--cluster", cluster.scheduler_address)
    done = called(
        *arguments,
        "--images",
        "reference",
        "--seconds",
        "3",
        "--plan-workers",
        "1,50",
        "--plan-images",
        "1e6",
        "--json",
        "b.json",
        cwd=workspace,
    )
    assert done.returncode == 0 and "workers that pay" in done.stdout, done.stderr
    found = json.loads((workspace / "b.json").read_text())
    assert (
        found["kind"] == "zygal.bench-cluster"
        and found["all_threads"]["threads"] == 2
        and found["measured_images"] == 40
    )
    assert (
        found["threads_that_pay"] >= 1
        and found["coordinator"]["rows_per_second"] > found["all_threads"]["images_per_second"]
    )
    one, fifty = found["planned"]
    assert one["threads"] == 1 and fifty["seconds"] < one["seconds"] / 10
    for more, words in (
        ((), "give --images DIR"),
        (("--images", "reference", "--deadline", "5ms"), "--deadline does not apply"),
        (("--images", "reference", "--batches", "4"), "--batches does not apply"),
        (("--images", "reference", "--plan-images", "0"), "--plan-images must be"),
        (("--images", "reference", "--failures-per-hour", "-1"), "--failures-per-hour must be"),
        (("--images", "none"), "does not exist"),
    ):
        refused(called(*arguments, *more, cwd=workspace), words)
    refused(
        called("bench", "channel_marks.onnx", "--plan-workers", "5", cwd=workspace), "--plan-workers needs --cluster"
    )
    served = ("bench", "channel_marks.onnx", "--endpoint", "http://127.0.0.1:1/v2/models/x", "--arrival-rate", "5")
    refused(called(*served, "--late-share", "2%", cwd=workspace), "--late-share needs --cluster")


# The map itself, on an engine of the test that does things in any order and loses workers.


class KilledWorker(Exception):
    pass


class Future:
    def __init__(self, key, task):
        self.key, self.task, self.status, self.value, self.told = key, task, "pending", None, []

    def add_done_callback(self, tell):
        self.told.append(tell)

    def exception(self, timeout=None):
        return self.value

    def result(self):
        if self.status == "error":
            raise self.value
        return self.value


class Engine:
    """A client whose tasks are run when somebody waits, in an order and with losses that chance decides."""

    status = "running"

    def __init__(self, work, seed, losses, slots, deadly=()):
        self.work, self.chance, self.losses, self.slots, self.deadly = (
            work,
            random.Random(seed),
            losses,
            slots,
            set(deadly),
        )
        self.open, self.given_out, self.most, self.cancelled = [], 0, 0, []

    def submit(self, function, key_of_kit, packed, isolated, key, **where):
        future = Future(key, (unpack_blocks(packed), isolated))
        self.open.append(future)
        self.most = max(self.most, len(self.open))
        return future

    def step(self):
        future = self.open.pop(self.chance.randrange(len(self.open)))
        blocks, isolated = future.task
        names = [name for block in blocks for name in block.names]
        if self.deadly & set(names) and not isolated:
            future.status, future.value = "error", KilledWorker()
        elif self.chance.random() < self.losses:
            future.status, future.value = "error", self.chance.choice([NeedsKit("a"), NeedsKit("b"), KilledWorker()])
        else:
            faulty = [
                replace(
                    block, faults={place: "deadly" for place, name in enumerate(block.names) if name in self.deadly}
                )
                for block in blocks
            ]
            future.status, future.value = "finished", Ran([self.work(block) for block in faulty], 0.01 * len(blocks))
        for tell in future.told:
            tell(future)

    def gather(self, futures):
        return [future.result() for future in futures]

    def cancel(self, futures, force=False):
        self.cancelled += futures

    def processing(self):
        return {}


class Events(queue.SimpleQueue):
    """Somebody who waits makes the engine go on."""

    def __init__(self, engine):
        super().__init__()

    def get(self, timeout=None):
        if super().empty():
            self.engine.step()
        return super().get(timeout=0)


class Members:
    def __init__(self, engine):
        self.engine, self.supplied = engine, []

    def addresses(self):
        return ["a", "b"]

    def slots(self):
        return {"a": self.engine.slots, "b": self.engine.slots}

    def supply(self, kit, addresses):
        self.supplied.append(tuple(addresses))


class StandIn:
    def __init__(self, engine):
        self.client, self.workers, self.notes, self.welcomed = engine, Members(engine), [], []

    def welcome(self, addresses):
        self.welcomed.append(addresses)
        return []


def named(block):
    return (
        block.result
        if isinstance(block, Done)
        else [(name, block.faults.get(place)) for place, name in enumerate(block.names)]
    )


def mapped(items, seed=0, losses=0.0, slots=2, deadly=()):
    engine = Engine(named, seed, losses, slots, deadly)
    run = running.Run(StandIn(engine), named, type("Kit", (), {"key": "k"}), iter(items))
    run.events = type("Bound", (Events,), {"engine": engine})(engine)
    return [each for block in run.results() for each in block], engine, run


@settings(max_examples=60)
@given(
    st.integers(0, 400),
    st.integers(0, 10**6),
    st.sampled_from([0.0, 0.05, 0.3]),
    st.integers(1, 4),
    st.sets(st.integers(0, 399), max_size=3),
)
def test_results_come_in_order_whatever_is_lost(count, seed, losses, slots, deadly):
    names = [f"{number}.jpg" for number in range(count)]
    deadly = {f"{number}.jpg" for number in deadly}
    found, engine, run = mapped(blocks_of(names), seed, losses, slots, deadly)
    assert [name for name, _ in found] == names
    faults = {name for name, fault in found if fault}
    assert deadly & set(names) <= faults and (losses or faults == deadly & set(names))
    assert not run.pending and not engine.open
    # What is given out does not grow with the list; groups that were cut up count by their blocks.
    assert losses or deadly or engine.most <= groups.GIVEN_OUT_PER_SLOT * 2 * slots


def test_workers_that_come_later_are_examined_before_they_matter():
    engine = Engine(named, 0, 0.0, 1)
    admission = StandIn(engine)
    run = running.Run(admission, named, type("Kit", (), {"key": "k"}), blocks_of(["a.jpg"]))
    run._supply(["a"])
    run._look_at_slots()
    assert admission.welcomed == [["b"]] and admission.workers.supplied == [("a",), ("b",)]

    def refusing(addresses):
        raise ClusterError("the worker c has no package zygal.")

    admission.welcome, run.looked = refusing, -1e9
    admission.workers.slots = lambda: {"a": 1, "b": 1, "c": 1}
    with pytest.raises(ClusterError, match="the worker c has no package"):
        run._look_at_slots()


def test_names_of_tasks_never_come_again():
    """A scheduler answers a name that it knows with what it has, also from a command that was killed."""
    keys = [future.key for _ in range(50) for future in _first_run().open]
    assert len(keys) == len(set(keys)) == 50


def _first_run():
    engine = Engine(named, 0, 0.0, 1)
    run = running.Run(StandIn(engine), named, type("Kit", (), {"key": "k"}), blocks_of(["a.jpg"]))
    run._fill()
    return engine


def test_groups_that_lose_every_worker_give_their_images_the_reason():
    found, engine, _ = mapped(blocks_of([f"{number}.jpg" for number in range(40)]), losses=1.0)
    assert len(found) == 40 and all("was lost" in fault for _, fault in found)


def test_known_blocks_are_not_sent_and_errors_of_the_work_come_through():
    items = [Done([("known", None)]), *blocks_of(["a.jpg"]), Done([("known too", None)])]
    found, engine, _ = mapped(items)
    assert [name for name, _ in found] == ["known", "a.jpg", "known too"]

    def refusing(block):
        raise EngineError("the model cannot be run.")

    engine = Engine(named, 0, 0.0, 1)
    run = running.Run(StandIn(engine), named, type("Kit", (), {"key": "k"}), blocks_of(["a.jpg"]))
    group = groups.Group([Block(["a.jpg"])])
    future = Future("x", None)
    future.status, future.value = "error", EngineError("the model cannot be run.")
    group.futures.append(future)
    with pytest.raises(EngineError, match="cannot be run"):
        run._take(group, future)
    future.status, future.value = "error", ValueError("odd")
    group.futures.append(future)
    with pytest.raises(ClusterError, match="failed: ValueError: odd"):
        run._take(group, future)


def test_a_late_group_gets_another_copy_and_the_first_answer_counts(monkeypatch):
    engine = Engine(named, 0, 0.0, 1)
    run = running.Run(
        StandIn(engine), named, type("Kit", (), {"key": "k"}), blocks_of([f"{number}.jpg" for number in range(16)])
    )
    run.seconds_per_block, run.slots = 0.1, 2
    run._fill()
    head = run.pending[0]
    run._hurry(head)
    assert len(head.futures) == 1
    head.began -= groups.late_after(0.1) + 1
    run._hurry(head)
    assert len(head.futures) == 2
    first, second = head.futures
    second.status, second.value = "finished", Ran([named(block) for block in head.blocks], 0.1)
    run._take(head, second)
    run._gather()
    assert head.result == [[(f"{number}.jpg", None) for number in range(8)]] and engine.cancelled == [first]


def test_groups_take_seconds_and_become_smaller_at_the_end():
    assert (
        groups.next_size(1, 0.001) == 4
        and groups.next_size(4096, 0.001) == groups.MOST_BLOCKS
        and groups.next_size(64, 10.0) == 1
    )
    sizes, left = [], 1000
    while left:
        sizes.append(groups.last_size(80, left, 4))
        left -= sizes[-1]
    assert sizes[0] == 80 and sizes[-1] <= 10 and sizes == sorted(sizes, reverse=True)


# Kits, probes, isolation.


def test_work_is_opened_with_the_artifact_that_a_worker_has(shipped, tmp_path):
    shutil.copy(shipped / "channel_marks.onnx", tmp_path / "mine.onnx")
    classifier = open_artifact(tmp_path / "mine.onnx")
    artifact = sent_artifact(classifier.path)
    kit = pack_kit(FingerprintBlock(classifier), [artifact])
    (tmp_path / "mine.onnx").rename(tmp_path / "theirs.onnx")
    work = unpack_kit(pickle.loads(pickle.dumps(kit)).work, {artifact.key: tmp_path / "theirs.onnx"})
    assert work.classifier.path == tmp_path / "theirs.onnx" and work.classifier.name == classifier.name
    assert np.array_equal(work.classifier.test_scores(), classifier.test_scores())
    station = Station()
    assert (
        station.hash_of(str(tmp_path / "mine.onnx")) is None
        and station.hash_of(str(tmp_path / "theirs.onnx")) == artifact.files[0].sha256
    )


def test_files_with_weights_beside_an_artifact_go_with_it(shipped, tmp_path, monkeypatch):
    import onnx

    model = onnx.load(shipped / "channel_marks.onnx")
    onnx.save_model(
        model, tmp_path / "large.onnx", save_as_external_data=True, location="large.bin", size_threshold=100
    )
    assert [path.name for path in artifact_files(tmp_path / "large.onnx")] == ["large.onnx", "large.bin"]
    one = sent_artifact(tmp_path / "large.onnx")
    content = bytearray((tmp_path / "large.bin").read_bytes())
    content[-1] ^= 1
    (tmp_path / "large.bin").write_bytes(content)
    assert sent_artifact(tmp_path / "large.onnx").key != one.key
    assert artifact_files(shipped / "channel_marks.onnx") == [shipped / "channel_marks.onnx"] and onnx_writer


def test_machines_are_compared_by_what_they_compute(shipped):
    probe = make_probe(open_artifact(shipped / "channel_marks.onnx"))
    here = probe()
    assert here.equals(pickle.loads(pickle.dumps(probe))()) and judge(here, {"tcp://a": here}, False) == []

    def there(by, **more):
        return replace(
            here, scores=tuple(each + np.float32(by) * (each.max() - each.min()) for each in here.scores), **more
        )

    (note,) = judge(here, {"tcp://a": here, "tcp://b": there(2e-6, versions={**here.versions, "pillow": "9.0"})}, False)
    assert "1 worker of 2" in note and "pillow 9.0 there" in note
    with pytest.raises(ClusterError, match="tcp://b gives other scores than this machine .*avx512f.*same versions"):
        judge(here, {"tcp://b": there(1e-3, instruction_sets=tuple(set(here.instruction_sets) ^ {"avx512f"}))}, False)
    assert judge(here, {"tcp://b": there(1e-3)}, True)
    assert here.largest_difference(replace(here, scores=(here.scores[0][:, :3], *here.scores[1:]))) == float("inf")
    assert here.largest_difference(
        Probed(here.versions, (), tuple(each * np.nan for each in here.scores), here.pixels)
    ) == float("inf")


def test_an_isolated_process_raises_what_the_work_raises(shipped, tmp_path):
    classifier = open_artifact(shipped / "channel_marks.onnx")
    artifact = sent_artifact(classifier.path)
    kit, paths = pack_kit(FingerprintBlock(classifier), [artifact]), {artifact.key: shipped / "channel_marks.onnx"}
    blocks = list(blocks_of([str(path) for path in sorted((shipped / "reference").iterdir())[:12]]))
    assert run_isolated(kit, paths, blocks) == [FingerprintBlock(classifier)(block) for block in blocks]


# The simulation.

TIMES = Times(block=(0.04, 0.05, 0.06), start=1.0, between=0.001, group=0.002, row=1e-5)


@pytest.mark.slow
@settings(max_examples=30)
@given(st.integers(1, 200), st.integers(1_000, 300_000), st.integers(0, 100))
def test_a_simulated_run_obeys_its_limits(workers, images, seed):
    found = simulate(TIMES, Plan(images, workers), seed)
    blocks = -(-images // 8)
    assert found.seconds >= TIMES.start + min(TIMES.block) * blocks / workers
    assert found.seconds >= found.groups * TIMES.group + images * TIMES.row * 0.99
    assert 0 < found.workers_busy <= 1 and 0 < found.coordinator_busy <= 1 and found.again == found.copies == 0
    assert found == simulate(TIMES, Plan(images, workers), seed)
    # The fastest blocks are a fifth faster than the mean, and a short run may draw nothing else.
    assert simulate(TIMES, Plan(images, workers, storage=100.0), seed).seconds >= 0.8 * images / 100


@pytest.mark.slow
def test_failures_and_late_groups_cost_time_and_copies_save_it():
    plan = Plan(2_000_000, 100)
    usual = simulate(TIMES, plan)
    failing = simulate(TIMES, replace(plan, failures=20.0))
    late = simulate(TIMES, replace(plan, late_share=0.01, late_factor=50.0))
    assert failing.again > 0 and failing.seconds > usual.seconds
    assert late.copies > 0 and usual.seconds < late.seconds < 3 * usual.seconds
    # Longer than it is simulated step by step.
    long = simulate(TIMES, Plan(10**9, 100))
    assert long.seconds == pytest.approx(10**9 / 2_000_000 * (usual.seconds - 1), rel=0.1)
    assert workers_that_pay(100.0, 20_000.0, None) == (200, "coordinator") and workers_that_pay(
        100.0, 20_000.0, 900.0
    ) == (9, "storage")
