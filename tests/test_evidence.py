"""Witness files, the gates of the match, and the causes that it names."""

import io
import json
import os
import zipfile
from dataclasses import replace

import numpy as np
import pytest
from conftest import called, refused
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.classifier.scores import recorded_scores_kind
from zygal.commands.survey.execute import survey
from zygal.engines.artifact import RuntimeEngine
from zygal.engines.reference import ReferenceEngine
from zygal.errors import WitnessError, ZygalError
from zygal.evidence.compare import compare_scores, tensor_differences
from zygal.evidence.match import Limits, match
from zygal.evidence.witness import read_witness, write_witness
from zygal.inlet import Crop, InletTensor, Resize, Tensor, Values, read_inlet
from zygal.inlet.values import to_tensor
from zygal.sources import read_source


@pytest.fixture(scope="module")
def recorded(shipped):
    return read_witness(shipped / "channel_marks.witness")


@pytest.fixture(scope="module")
def engine(shipped):
    return RuntimeEngine(shipped / "channel_marks.onnx", 1)


@pytest.fixture(scope="module")
def inlet(shipped):
    return read_inlet(shipped / "channel_marks.inlet.toml")


def test_the_demo_holds_within_its_figures(shipped, recorded, engine, inlet):
    result = match(engine, recorded, inlet, shipped / "reference")
    measured = {(gate.name, gate.unit): gate.measured for gate in result.gates}
    assert result.passes and len(result.not_checked) == 1 and not result.ties and result.cause is None
    assert measured["A", "grey levels"] == 0
    assert measured["B", "of the spread"] < 1e-5 and measured["C", "of the spread"] < 1e-5
    assert measured["B", "of 40 images"] == measured["C", "of 40 images"] == 0
    assert len(result.images) == 40 and result.images[0].sort_key >= result.images[-1].sort_key


def test_the_reference_engine_gives_the_recorded_scores_too(shipped, recorded):
    with read_source(shipped / "channel_marks.pt2") as source:
        scores = ReferenceEngine(source.graph).run(recorded.tensors[:4])
    assert np.abs(scores - recorded.scores[:4]).max() < 1e-6 * recorded.spread()


def test_without_images_only_the_model_is_checked(recorded, engine, inlet):
    result = match(engine, recorded, inlet)
    assert result.passes and {gate.name for gate in result.gates} == {"B"}
    assert "A and C: not checked" in result.not_checked[0]


SABOTAGE = {
    "decode.colour": lambda i: replace(i, decode=replace(i.decode, colour="bgr")),
    "decode.exif": lambda i: replace(i, decode=replace(i.decode, exif="ignore")),
    "decode.transparency": lambda i: replace(i, decode=replace(i.decode, transparency="drop")),
    "values.range": lambda i: replace(i, values=replace(i.values, range=(0.0, 255.0))),
    "the values stage should be: 0..255 to 0..1, mean 0.46": lambda i: replace(i, values=Values()),
    "the inlet says: 0..255 to 0..1, mean 0.485": lambda i: replace(
        i, values=replace(i.values, mean=(0.485, 0.456, 0.406))
    ),
    "filter": lambda i: replace(i, frame=(replace(i.frame[0], filter="bicubic"), i.frame[1])),
    "layout": lambda i: replace(i, tensor=Tensor("NHWC")),
    "the inlet says: resize to 64 x 64": lambda i: replace(i, frame=(Resize(None, (64, 64)),)),
    "short side to 72 (bilinear); the inlet says: resize short side to 64": lambda i: replace(
        i, frame=(Resize(64), Crop((64, 64)))
    ),
}


@pytest.mark.alike
@pytest.mark.parametrize("finding", SABOTAGE)
def test_one_wrong_detail_breaks_gate_a_and_is_named(finding, shipped, recorded, engine, inlet):
    result = match(engine, recorded, SABOTAGE[finding](inlet), shipped / "reference")
    broken = {gate.name for gate in result.gates if not gate.passes}
    assert "A" in broken and "B" not in broken and not result.passes
    assert len(result.cause.findings) == 1 and finding in result.cause.findings[0], result.cause.findings
    assert result.cause.residual_after <= 0.5
    assert match(engine, recorded, result.cause.inlet, shipped / "reference").passes


def test_a_wrong_model_breaks_b_and_not_a(shipped, recorded, engine, inlet):
    other = replace(recorded, scores=recorded.scores + np.float32(0.01) * np.arange(10, dtype=np.float32))
    result = match(engine, other, inlet, shipped / "reference")
    broken = [gate for gate in result.gates if not gate.passes]
    assert {gate.name for gate in broken} == {"B", "C"}
    assert broken[0].measured == pytest.approx(0.09 / other.spread(), rel=1e-3)


def test_a_close_race_is_a_tie_and_a_clear_one_is_not():
    recorded = np.float32([[1.0, 1.0 - 2**-20, 0.0], [1.0, 0.99, 0.0]])
    swapped = recorded[:, [1, 0, 2]]
    compared = compare_scores(swapped, recorded, spread=1.0)
    assert compared.ties.tolist() == [True, False] and compared.changed.tolist() == [True, True]
    assert compared.differences == pytest.approx([2**-20, 0.01], rel=1e-3)
    broken = compare_scores(np.full_like(recorded, np.nan), recorded, 1.0)
    assert np.isinf(broken.differences).all()


def test_grey_levels_undo_scale_and_std():
    values = Values((-1.0, 1.0), None, (0.5, 1.0, 2.0))
    black, grey = (InletTensor(p, *to_tensor(p, values, Tensor())) for p in np.uint8([[[[0] * 3]], [[[1] * 3]]]))
    assert tensor_differences(grey, black.tensor, "NCHW") == pytest.approx(np.ones((3, 1, 1)), rel=1e-5)
    assert tensor_differences(grey, np.full((3, 1, 1), np.nan), "NCHW").max() != 0


def test_limits_decide(shipped, recorded, engine, inlet):
    strict = match(engine, recorded, inlet, shipped / "reference", Limits(tensor=0, model=1e-12, end_to_end=1e-12))
    assert {gate.name for gate in strict.gates if not gate.passes} == {"B", "C"}


def test_the_file_is_plain_zip_and_numpy(shipped, recorded, tmp_path):
    with zipfile.ZipFile(shipped / "channel_marks.witness") as archive:
        document = json.loads(archive.read("witness.json"))
        tensors, scores = (np.load(io.BytesIO(archive.read(f"{name}.npy"))) for name in ("tensors", "scores"))
    assert tensors.shape == (40, 3, 64, 64) and scores.shape == (40, 10)
    assert document["framework"] == "PyTorch" and len(document["images"]) == 40
    write_witness(recorded, tmp_path / "again.witness")
    again = read_witness(tmp_path / "again.witness")
    assert again.images == recorded.images and np.array_equal(again.tensors, recorded.tensors)
    write_witness(again, tmp_path / "third.witness")
    assert (tmp_path / "third.witness").read_bytes() == (tmp_path / "again.witness").read_bytes()


def rewritten(path, target, **changes):
    """A copy of a witness with members replaced; None leaves one out."""
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as new:
        for name in old.namelist():
            key = name.partition(".")[0]
            content = changes.get(key, old.read(name))
            if content is not None:
                new.writestr(name, content)
    return target


def npy(array=None, header=None):
    buffer = io.BytesIO()
    if header:
        np.lib.format.write_array_header_1_0(buffer, header)
    else:
        np.save(buffer, array, allow_pickle=True)
    return buffer.getvalue()


HUGE = {"descr": "<f4", "fortran_order": False, "shape": (40, 3, 10**6, 10**6)}


@pytest.mark.parametrize(
    "changes, words",
    [
        ({"scores": None}, "no scores.npy"),
        ({"scores": npy(np.zeros((39, 10), np.float32))}, "names 40 images"),
        ({"scores": npy(np.full((40, 10), np.nan, np.float32))}, "contain NaN or infinity"),
        ({"scores": npy(np.zeros((40, 10)))}, "no recording has"),
        ({"scores": npy(np.array([{"a": 1}], object))}, "no recording has"),
        ({"tensors": npy(header=HUGE)}, "which its size contradicts"),
        ({"tensors": b"\x93NUMPY nonsense"}, "no array in NumPy"),
        ({"witness": b"{"}, "not JSON"),
        ({"witness": b'{"zygal_witness": 7}'}, "version 7"),
        ({"witness": b'{"zygal_witness": 1, "images": []}'}, "is missing"),
    ],
)
def test_damaged_witnesses_are_refused(changes, words, shipped, tmp_path):
    path = rewritten(shipped / "channel_marks.witness", tmp_path / "bad.witness", **changes)
    with pytest.raises(WitnessError, match=words):
        read_witness(path)


@pytest.mark.slow
@settings(max_examples=200, deadline=None)
@given(st.sampled_from(["channel_marks.witness", "channel_marks.pt2", "channel_marks.onnx"]), st.data())
def test_no_damage_brings_a_reader_down(shipped, tmp_path_factory, name, data):
    """Whatever is cut off or flipped, a reader answers with one of our faults or reads the file."""
    content = bytearray((shipped / name).read_bytes())
    if data.draw(st.booleans()):
        content = content[: data.draw(st.integers(0, len(content)))]
    for _ in range(data.draw(st.integers(0, 4)) if content else 0):
        # The structure lies at both ends; that is where damage does most.
        place = data.draw(st.integers(0, min(len(content), 4000) - 1))
        content[place if data.draw(st.booleans()) else -1 - place] ^= 1 << data.draw(st.integers(0, 7))
    path = tmp_path_factory.getbasetemp() / f"damaged_{name}"
    path.write_bytes(content)
    try:
        survey(path)
        if name.endswith("pt2"):
            with read_source(path) as source:
                assert source.graph.nodes
    except ZygalError as fault:
        assert str(fault).endswith(".")


def test_the_kind_of_scores_shows_in_their_values():
    logits = np.float32([[3, -1, 0], [0, 2, 1]])
    powers = np.exp(logits)
    probabilities = powers / powers.sum(1, keepdims=True)
    assert recorded_scores_kind(logits) == "logits"
    assert recorded_scores_kind(probabilities) == "probabilities"
    assert recorded_scores_kind(np.log(probabilities)) == "log-probabilities"
    assert recorded_scores_kind(1 / (1 + np.exp(-logits))) == "independent probabilities"


RECORD = ("witness", "channel_marks.pt2", "--images", "reference", "-o", "new.witness")


@pytest.mark.slow
def test_a_witness_recorded_live_is_the_shipped_one(workspace, recorded):
    (workspace / "reference" / "broken.jpg").write_bytes(b"\xff\xd8\xff not a photograph")
    done = called(*RECORD, "--training-code", "training_code.py:load_image", cwd=workspace)
    assert done.returncode == 3 and "broken.jpg" in done.stderr, done.stderr
    new = read_witness(workspace / "new.witness")
    assert np.array_equal(new.tensors, recorded.tensors) and new.images == recorded.images
    assert np.abs(new.scores - recorded.scores).max() < 1e-6 * recorded.spread()
    assert [name for name, _ in new.skipped] == ["broken.jpg"]
    by_inlet = called(*RECORD, "--inlet", "channel_marks.inlet.toml", cwd=workspace)
    assert by_inlet.returncode == 3
    assert np.array_equal(read_witness(workspace / "new.witness").tensors, recorded.tensors)


@pytest.mark.parametrize(
    "code, words",
    [
        ("def load_image(path):\n    raise OSError('disk on fire')", "disk on fire"),
        ("def load_image(path):\n    import numpy\n    return numpy.zeros((3, 8, 8))", "takes [3, 64, 64]"),
        ("def load(path): pass", "no function load_image"),
        ("import nothing_of_that_name", "cannot be imported"),
    ],
)
def test_training_code_at_fault(code, words, workspace):
    (workspace / "mine.py").write_text(code)
    refused(called(*RECORD, "--training-code", "mine.py:load_image", cwd=workspace), words)
    assert not (workspace / "new.witness").exists()


def test_a_program_is_never_executed_or_unpickled(workspace):
    """Everything in the file that the framework's own loader would evaluate is refused or left out."""
    with zipfile.ZipFile(workspace / "channel_marks.pt2") as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    graph_name = next(name for name in members if "/models/" in name)
    proof = workspace / "proof"
    attack = f"__import__('os').system('touch {proof}')"

    def attempt(change):
        document = json.loads(members[graph_name])
        change(document)
        sample = next(name for name in members if "/sample_inputs/" in name)
        pickled = b"cos\nsystem\n(S'touch " + os.fsencode(proof) + b"'\ntR."
        with zipfile.ZipFile(workspace / "evil.pt2", "w") as archive:
            for name, content in (members | {graph_name: json.dumps(document).encode(), sample: pickled}).items():
                archive.writestr(name, content)
        done = called(
            "witness",
            "evil.pt2",
            "--images",
            "reference",
            "-o",
            "evil.witness",
            "--inlet",
            "channel_marks.inlet.toml",
            cwd=workspace,
        )
        assert not proof.exists()
        return done

    def size(document):
        document["graph_module"]["graph"]["tensor_values"]["conv2d"]["sizes"][0]["as_expr"]["expr_str"] = attack

    def target(document):
        document["graph_module"]["graph"]["nodes"][1]["target"] = "torch.hub.load"

    def name(document):
        document["graph_module"]["graph"]["nodes"][0]["name"] = f"x = {attack}"

    assert attempt(lambda document: document.update(guards_code=[attack])).returncode == 0
    for change in (size, target, name):
        refused(attempt(change), "evil.pt2")
