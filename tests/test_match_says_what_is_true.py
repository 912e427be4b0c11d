"""match and witness on what misled: ties, training mode, class names, steps that are applied twice, and changed last
layers."""

import json
from dataclasses import replace

import numpy as np
import pytest
import torch
from conftest import called, capture, refused
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from zygal.classifier.labels import read_labels
from zygal.engines.live import open_live_engine
from zygal.evidence.compare import ROUNDING, compare_scores, largest_of
from zygal.evidence.layers import first_departure, record_layers
from zygal.evidence.match import match
from zygal.evidence.result import Limits
from zygal.evidence.score_causes import explain_labels, explain_scores
from zygal.evidence.witness import Witness, read_witness

NUMBERS = arrays(np.float32, (6, 4), elements=st.floats(-50, 50, width=32))


@given(NUMBERS, NUMBERS)
def test_ties_are_changed_answers_within_rounding_on_both_sides(ours, recorded):
    found = compare_scores(ours, recorded, 100.0)
    for row in range(len(ours)):
        top, other = recorded[row].argmax(), ours[row].argmax()
        assert found.changed[row] == (top != other)
        close = all(
            abs(float(side[row, top]) - float(side[row, other])) <= ROUNDING * np.abs(side[row]).max()
            for side in (ours, recorded)
        )
        assert found.ties[row] == (found.changed[row] and close)


@given(st.floats(0, 1, exclude_min=True), st.integers(0, 3))
def test_what_is_no_number_is_a_changed_answer_and_no_tie(margin, place):
    recorded = np.array([[1.0, 1.0 - margin * ROUNDING, 0.0, 0.0]])
    ours = recorded.copy()
    ours[0, place] = np.nan
    for one, other in ((ours, recorded), (recorded, ours)):
        found = compare_scores(one, other, 1.0)
        assert found.changed.all() and not found.ties.any() and np.isinf(found.differences).all()
    assert np.isnan(largest_of((0.0, np.nan))) and np.isnan(largest_of((np.nan, 0.0)))


class Scores:
    """An engine that gives set scores."""

    batch_size, name = None, "set"

    def __init__(self, scores):
        self.scores = scores

    def run(self, batch):
        return self.scores[batch[:, 0].astype(int)]


def recording(shipped, scores, tensors):
    witness = read_witness(shipped / "channel_marks.witness")
    return replace(
        witness, images=witness.images[: len(scores)], scores=scores, tensors=tensors, layers=None, labels=None
    )


def test_a_loose_limit_hides_no_changed_answer(shipped):
    rng = np.random.default_rng(0)
    recorded = rng.normal(size=(40, 5)).astype(np.float32)
    order = np.sort(recorded, axis=1)
    ours = recorded.copy()
    rows = np.arange(30)
    # The two highest scores change places by a clear margin, and of one more image by less than rounding.
    ours[rows, recorded[rows].argmax(axis=1)] = order[rows, -2] - 0.01
    recorded[35] = [2, 2, 0, 0, 0]
    ours[35] = [2, np.nextafter(np.float32(2), np.float32(3)), 0, 0, 0]
    witness = recording(shipped, recorded, np.arange(40, dtype=np.float32)[:, None])
    for limit in (1e-4, 0.5, 1.0):
        found = match(Scores(ours), witness, limits=Limits(model=limit))
        gate = found.gates[1]
        assert (gate.measured, gate.limit, gate.passes) == (31, 1, False) and "(1 tie)" in gate.unit
        assert found.ties == (witness.images[35].name,)


def test_labels_are_compared_or_said_not_to_be(shipped, tmp_path):
    command = ("match", shipped / "channel_marks.onnx", "--images", shipped / "reference", "--witness")
    done = called(*command, shipped / "channel_marks.witness", cwd=tmp_path)
    assert done.returncode == 0 and "PASS: A, B, C, L on 40 images" in done.stdout
    witness, names = read_witness(shipped / "channel_marks.witness"), read_labels(shipped / "labels.txt").names
    assert witness.labels == names
    replace(witness, labels=None).write(tmp_path / "none.witness")
    done = called(*command, "none.witness", cwd=tmp_path)
    assert (
        done.returncode == 0
        and "the class names were not compared, because the witness holds none" in done.stdout.replace("\n", " ")
    )
    replace(witness, labels=tuple(sorted(names))).write(tmp_path / "sorted.witness")
    done = called(*command, "sorted.witness", "--json", "m.json", cwd=tmp_path)
    found = json.loads((tmp_path / "m.json").read_text())
    assert done.returncode == 1 and "names the classes differently" in done.stdout
    assert [gate["name"] for gate in found["gates"] if not gate["passed"]] == ["L"] and "another order" in found[
        "label_cause"
    ]
    assert explain_labels(("a", "b"), ("a", "c")) == "class 1 is 'b' in the artifact, but 'c' was recorded"
    assert "2 class names, and 3 were recorded" in explain_labels(("a", "b"), ("a", "b", "c"))
    refused(
        called(
            "witness",
            shipped / "channel_marks.pt2",
            "--images",
            shipped / "reference",
            "--inlet",
            shipped / "channel_marks.inlet.toml",
            "--labels",
            shipped / "reference",
            "-o",
            "x.witness",
            cwd=tmp_path,
        ),
        "no sub-folders",
    )


def softmax(scores):
    raised = np.exp(scores - scores.max(axis=1, keepdims=True))
    return raised / raised.sum(axis=1, keepdims=True)


def test_a_step_that_is_applied_twice_is_named():
    logits = np.random.default_rng(1).normal(0, 4, (30, 7))
    assert "artifact applies softmax twice" in explain_scores(softmax(softmax(logits)), logits, 1e-4)
    assert "recording applies softmax twice" in explain_scores(logits, softmax(softmax(logits)), 1e-4)
    assert "sigmoid twice" in explain_scores(1 / (1 + np.exp(-1 / (1 + np.exp(-logits)))), logits, 1e-4)
    assert explain_scores(logits + np.random.default_rng(2).normal(0, 0.3, logits.shape), logits, 1e-4) is None


class Twice(torch.nn.Module):
    def __init__(self):
        super().__init__()
        self.body, self.head = torch.nn.Conv2d(3, 4, 3), torch.nn.Linear(4, 6)

    def forward(self, x):
        return torch.softmax(torch.softmax(self.head(self.body(x).mean((2, 3))), 1), 1)


def test_two_softmaxes_in_a_row_are_said(tmp_path):
    capture(Twice(), tmp_path / "m.pt2", (3, 8, 8))
    for command in (("survey", "m.pt2"), ("convert", "m.pt2", "-o", "m.onnx")):
        assert "applies a softmax to the result of a softmax" in called(*command, cwd=tmp_path).stderr.replace(
            "\n", " "
        )


class Plain(torch.nn.Module):
    def __init__(self):
        super().__init__()
        self.body = torch.nn.Sequential(
            torch.nn.Conv2d(3, 8, 3), torch.nn.BatchNorm2d(8), torch.nn.ReLU(), torch.nn.Dropout(0.4)
        )
        self.head = torch.nn.Linear(8, 6)

    def forward(self, x):
        return self.head(self.body(x).mean((2, 3)))


@pytest.fixture
def trained():
    torch.manual_seed(4)
    module = Plain().train()
    with torch.no_grad():
        for _ in range(20):
            module(torch.randn(16, 3, 8, 8) * 2 + 1)
    return module


def test_a_model_captured_in_training_mode_is_recorded_in_evaluation_mode_and_said(trained, tmp_path):
    capture(trained, tmp_path / "m.pt2", (3, 8, 8), training=True)
    images = torch.randn(5, 3, 8, 8)
    with torch.no_grad():
        wanted = trained.eval()(images).numpy()
    engine = open_live_engine(tmp_path / "m.pt2")
    assert engine.captured_in_training and np.abs(engine.run(images.numpy()) - wanted).max() < 1e-6
    done = called("survey", "m.pt2", "--json", "s.json", cwd=tmp_path)
    assert "training mode" in done.stdout and json.loads((tmp_path / "s.json").read_text())["mode"] == "training"
    done = called("convert", "m.pt2", "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode == 0 and "captured in training mode" in done.stderr
    from zygal.engines.artifact import RuntimeEngine

    assert np.abs(RuntimeEngine(tmp_path / "m.onnx").run(images.numpy()) - wanted).max() < 1e-5


def test_only_the_last_layer_changed_is_named(trained, tmp_path):
    trained = trained.eval()
    capture(trained, tmp_path / "m.pt2", (3, 8, 8))
    tensors = np.random.default_rng(0).normal(size=(6, 3, 8, 8)).astype(np.float32)
    engine = open_live_engine(tmp_path / "m.pt2")
    layers, recorded = record_layers(engine, tensors), engine.run(tensors)
    with torch.no_grad():
        trained.head.weight += 0.3
    capture(trained, tmp_path / "changed.pt2", (3, 8, 8))
    assert called("convert", "changed.pt2", "-o", "changed.onnx", cwd=tmp_path).returncode == 0
    from zygal.engines.artifact import RuntimeEngine

    changed = RuntimeEngine(tmp_path / "changed.onnx")
    (tmp_path / "images").mkdir()
    witness = Witness((), tensors, recorded, "PyTorch", "", "m.pt2", "", None, "", layers=layers)
    found = first_departure(changed, witness, changed.run(tensors))
    assert found.layer == "head" and found.before is not None and found.compared >= 3
    # Where the last step is no layer of its own, the difference is said to arise behind the layers.
    shorter = replace(
        layers,
        names=layers.names[:-1],
        values=layers.values[:-1],
        counts=layers.counts[:-1],
        quantiles=layers.quantiles[:, :-1],
    )
    found = first_departure(changed, replace(witness, layers=shorter), changed.run(tensors))
    assert found.layer is None and found.before == layers.names[-2]


def test_of_a_witness_of_scores_only_the_command_that_seeks_the_cause_is_given(shipped, tmp_path):
    witness = read_witness(shipped / "channel_marks.witness")
    replace(witness, tensors=None).write(tmp_path / "scores.witness")
    done = called(
        "match",
        shipped / "channel_marks.onnx",
        "--witness",
        "scores.witness",
        "--images",
        shipped / "reference",
        "--inlet",
        shipped / "wrong/squashed.toml",
        "--json",
        "m.json",
        cwd=tmp_path,
    )
    found = json.loads((tmp_path / "m.json").read_text())
    assert done.returncode == 1 and "cannot be told apart" in " ".join(done.stdout.split())
    assert found["next_step"].startswith("zygal inlet recover") and "--artifact" in found["next_step"]


KINDS = {
    "a scikit-learn pickle": b"\x80\x04\x95\x1f\x00csklearn.linear_model._logistic\nLogisticRegression\n",
    "a Python pickle": b"\x80\x05\x95\x0b\x00\x00\x00\x00\x00\x00\x00]\x94(K\x01K\x02e.",
    "a description of layers in JSON": b'{"format": "layers-model", "modelTopology": {}}',
    "is truncated": (10_000).to_bytes(8, "little") + b'{"a": {}}',
}


@pytest.mark.parametrize("words", KINDS)
def test_files_that_are_something_else_are_called_by_their_names(words, tmp_path):
    (tmp_path / "file.json").write_bytes(KINDS[words])
    refused(called("survey", "file.json", cwd=tmp_path), words)


def test_weights_and_folders_are_surveyed(tmp_path):
    from safetensors.numpy import save_file

    save_file(
        {"head.weight": np.zeros((5, 3), np.float32), "head.bias": np.zeros(5, np.float16)}, tmp_path / "w.safetensors"
    )
    done = called("survey", "w.safetensors", "--json", "s.json", cwd=tmp_path)
    found = json.loads((tmp_path / "s.json").read_text())
    assert (
        done.returncode == 0
        and found["parameters"] == 20
        and found["dtypes"] == ["F16", "F32"]
        and found["tensors"] == 2
    )
    for name in ("b", "a"):
        (tmp_path / "classes" / name).mkdir(parents=True)
    done = called("survey", "classes", cwd=tmp_path)
    assert done.returncode == 0 and "2: a, b" in done.stdout


def test_of_an_artifact_with_several_outputs_the_scores_are_chosen_or_named(shipped, tmp_path):
    import onnx

    model = onnx.load(shipped / "channel_marks.onnx")
    last = next(node for node in model.graph.node if "scores" in node.output)
    made = onnx.shape_inference.infer_shapes(model)
    features = next(info for info in made.graph.value_info if info.name == last.input[0])
    scores = model.graph.output[0]
    del model.graph.output[:]
    model.graph.output.extend([features, scores])
    onnx.save(model, tmp_path / "two.onnx")
    checked = ("match", "two.onnx", "--witness", shipped / "channel_marks.witness", "--images", shipped / "reference")
    done = called(*checked, cwd=tmp_path)
    assert done.returncode == 0 and "the scores are taken from scores" in done.stderr.replace("\n", " "), done.stderr
    assert "taken from" not in called(*checked, "--scores", "scores", cwd=tmp_path).stderr
    refused(called(*checked, "--scores", features.name, cwd=tmp_path), "belongs to another model")
    refused(
        called("tally", "two.onnx", "--images", shipped / "reference", "--scores", "nothing", cwd=tmp_path),
        "has no output nothing",
    )
    found = called(
        "classify",
        "two.onnx",
        shipped / "reference/mark-05.jpg",
        "--compare",
        "two.onnx",
        "--json",
        "c.json",
        cwd=tmp_path,
    )
    assert found.returncode == 0 and json.loads((tmp_path / "c.json").read_text())["counts"]["disagreements"] == 0
