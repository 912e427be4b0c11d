"""A share of the structured mutations of every kind of file: a result or one sentence, in little time and memory.

All of them: `python benchmarks/mutations.py DEMO_FOLDER`.
"""

import sys
from datetime import date
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parents[1] / "benchmarks"))

import mutations  # noqa: E402

SHARE = {
    "onnx": 40,
    "witness": 40,
    "inlet": 80,
    "pt2": 30,
    "keras": 20,
    "h5": 20,
    "image": 100,
    "tflite": 40,
    "plan": 15,
    "kept": 12,
    "against": 15,
    "bundle": 20,
    "folder": 40,
    "graph": 40,
    "web": 25,
    "scripted": 40,
    "older": 25,
    "weights": 40,
}


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """One for all kinds, because the framework needs seconds to save what is changed."""
    return tmp_path_factory.mktemp("mutations")


@pytest.mark.slow
@pytest.mark.parametrize("kind", SHARE)
def test_whatever_a_file_says_the_program_answers(kind, shipped, folder):
    # Others each day, and others than the script begins with, so that together they look at more.
    first = 1_000_000 + 1_000 * date.today().toordinal()
    print(f"seeds of {kind} from {first} on")
    # The time that a file takes is for the script to judge, on a quiet machine; here only an end is asked for.
    failed = mutations.run(kind, shipped, folder, range(first, first + SHARE[kind]), most_seconds=30)
    assert not failed


BY_TENSORFLOW = ("folder", "graph", "web")
"""What is changed is saved by the framework first, which takes long to import."""


@pytest.mark.alike
@pytest.mark.parametrize(
    "kind", [pytest.param(kind, marks=pytest.mark.slow if kind in BY_TENSORFLOW else []) for kind in SHARE]
)
def test_mutations_are_different_and_the_same_again(kind, shipped, folder):
    mutator = mutations.Mutator(kind, shipped, folder)
    made = [mutator.data_of(seed) for seed in range(12)]
    assert len(set(made)) >= 8
    # The library writes the time into HDF5 files, so only what is changed must be the same.
    assert kind == "h5" or mutations.Mutator(kind, shipped, folder).data_of(7) == made[7]


def test_what_is_wrong_is_seen(shipped, monkeypatch):
    """The watch itself: other errors, long sentences, time."""
    path = shipped / "labels.txt"
    assert mutations.read("inlet", path) is None
    monkeypatch.setattr("zygal.commands.survey.execute.survey", lambda *arguments: 1 / 0)
    assert "exit code 70" in mutations.read("inlet", path)
    monkeypatch.setattr("zygal.inlet.apply.raw_pixels", lambda path, decode: {}["x"])
    assert "KeyError" in mutations.read("image", path)
