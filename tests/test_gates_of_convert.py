"""What convert refuses, what it frees from a fixed batch, and what it says of scores."""

import numpy as np
import pytest
from conftest import called, capture, refused

from zygal.artifact.formats import read_artifact
from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.engines.live import open_live_engine
from zygal.errors import EngineError, SourceError, WitnessError
from zygal.evidence.compare import compare_scores
from zygal.evidence.witness import read_witness
from zygal.sources import source_facts

torch = pytest.importorskip("torch")
nn, F = torch.nn, torch.nn.functional


class Code(nn.Module):
    """A function as a model; `weight` makes its results depend on something learnt."""

    def __init__(self, function):
        super().__init__()
        self.function = function
        self.weight = nn.Parameter(torch.randn(10, 48, generator=torch.Generator().manual_seed(0)))

    def forward(self, x):
        return self.function(x, torch.flatten(x, 1) @ self.weight.T if x.dtype == torch.float32 else None)


def saved(function, path, dynamic=True, example=None, count=2):
    module = Code(function).eval()
    example = torch.randn(count, 3, 4, 4) if example is None else example
    axes = ({0: torch.export.Dim("batch", min=1)},) if dynamic else None
    torch.export.save(torch.export.export(module, (example,), dynamic_shapes=axes), path)
    return module


NO_SCORES = {
    "twice the batch": (lambda x, y: torch.cat([y, y], 0), "join batches"),
    "one row whatever the batch": (lambda x, y: y.sum(0, keepdim=True), "statistics|batch|mix"),
    "batch by batch": (lambda x, y: y @ y.T, "not \\[batch, classes\\]|batch"),
    "whole numbers": (lambda x, y: y.argmax(1, keepdim=True), "not scores"),
    "truth": (lambda x, y: y > 0, "not scores"),
    "a constant": (lambda x, y: torch.ones(1, 4) * 2, "does not depend on the image"),
    "a constant for every image": (lambda x, y: torch.ones(x.shape[0], 4), "does not depend on the image"),
    "a map of the image": (lambda x, y: x * 2, "not \\[batch, classes\\]"),
    "classes first": (lambda x, y: y.T, "not \\[batch, classes\\]"),
}


@pytest.mark.parametrize("name", NO_SCORES)
def test_what_is_no_classifiers_output_is_refused(name, tmp_path):
    function, words = NO_SCORES[name]
    saved(function, tmp_path / "m.pt2")
    with pytest.raises(SourceError, match=words):
        convert(tmp_path / "m.pt2", tmp_path / "m.onnx")
    assert not (tmp_path / "m.onnx").exists()


def test_what_is_no_number_passes_no_gate(shipped, tmp_path):
    scores = np.random.default_rng(0).random((4, 3), np.float32)
    broken = scores.copy()
    broken[1, 2] = np.nan
    assert np.isinf(compare_scores(broken, scores, 1.0).differences[1])
    from dataclasses import replace

    witness = read_witness(shipped / "channel_marks.witness")
    tensors = witness.tensors.copy()
    tensors[3, 0, 0, 0] = np.nan
    replace(witness, tensors=tensors).write(tmp_path / "w.witness")
    with pytest.raises(WitnessError, match="NaN or infinity"):
        read_witness(tmp_path / "w.witness")


# Fixed batches


@pytest.mark.parametrize("count", [1, 3, 4, 64])
def test_a_fixed_batch_is_freed_and_proven_in_few_runs(count, tmp_path, monkeypatch):
    runs = []
    run = RuntimeEngine.run
    monkeypatch.setattr(RuntimeEngine, "run", lambda engine, batch: runs.append(len(batch)) or run(engine, batch))
    module = saved(lambda x, y: F.relu(y), tmp_path / "m.pt2", False, count=count)
    done = convert(tmp_path / "m.pt2", tmp_path / "m.onnx")
    assert any("verified at two other sizes" in note for note in done.notes) or count == 1
    assert sum(runs) <= count + 5 + 5
    x = np.random.default_rng(0).standard_normal((7, 3, 4, 4), np.float32)
    with torch.inference_mode():
        assert np.allclose(RuntimeEngine(tmp_path / "m.onnx").run(x), module(torch.from_numpy(x)).numpy(), atol=1e-5)


def test_a_size_that_is_the_batchs_by_coincidence_is_no_batch(tmp_path):
    """Three colours in a batch of three images: what is made for the colours must not grow with the images."""

    def by_colour(x, y):
        weights = torch.zeros(3, 1, 1) + 2.0
        return torch.flatten(x * weights, 1)[:, :10] + y

    module = saved(by_colour, tmp_path / "m.pt2", False, count=3)
    convert(tmp_path / "m.pt2", tmp_path / "m.onnx")
    x = np.random.default_rng(0).standard_normal((5, 3, 4, 4), np.float32)
    assert np.allclose(
        RuntimeEngine(tmp_path / "m.onnx").run(x), module(torch.from_numpy(x)).detach().numpy(), atol=1e-5
    )


def test_a_fixed_batch_of_bytes_is_freed(tmp_path):
    def of_bytes(x, y):
        return torch.flatten(x.float() / 255, 1)[:, :10] * 3

    saved(of_bytes, tmp_path / "m.pt2", False, torch.zeros(4, 3, 4, 4, dtype=torch.uint8))
    convert(tmp_path / "m.pt2", tmp_path / "m.onnx")
    x = np.arange(2 * 48, dtype=np.uint8).reshape(2, 3, 4, 4)
    assert np.allclose(RuntimeEngine(tmp_path / "m.onnx").run(x), x.reshape(2, -1)[:, :10] / 255 * 3)


def test_a_batch_that_cannot_be_freed_says_how_to_keep_it(tmp_path):
    def mixes(x, y):
        return y + y.mean(0, keepdim=True)

    saved(mixes, tmp_path / "m.pt2", False, count=4)
    refused(called("convert", "m.pt2", "-o", "m.onnx", cwd=tmp_path), "--keep-batch")
    assert called("convert", "m.pt2", "-o", "m.onnx", "--keep-batch", cwd=tmp_path).returncode == 0
    assert RuntimeEngine(tmp_path / "m.onnx").batch_size == 4


def test_a_slice_of_the_batch_is_refused(tmp_path):
    def halves(x, y):
        return torch.cat([y[:2], y[2:]], 0)

    saved(halves, tmp_path / "m.pt2", False, count=4)
    with pytest.raises(SourceError, match="batch"):
        convert(tmp_path / "m.pt2", tmp_path / "m.onnx")


def test_labels_need_classes(shipped, tmp_path):
    saved(lambda x, y: x * 2, tmp_path / "m.pt2")
    refused(
        called("convert", "m.pt2", "-o", "m.onnx", "--any-shape", "--labels", shipped / "labels.txt", cwd=tmp_path),
        "classes",
    )


# What scores are


ENDS = {
    "logits": lambda y: y * 2,
    "probabilities": lambda y: y.softmax(1),
    "log-probabilities": lambda y: F.log_softmax(y, 1),
    "independent probabilities": lambda y: y.sigmoid(),
}
DISGUISES = {
    "plain": lambda y: y,
    "reshaped": lambda y: y.unsqueeze(2).flatten(1),
    "turned twice": lambda y: y.transpose(0, 1).transpose(0, 1),
    "copied": lambda y: y.clone().contiguous(),
    "with dropout": lambda y: F.dropout(y, 0.5, False),
}


@pytest.mark.parametrize("disguise", DISGUISES)
@pytest.mark.parametrize("kind", ENDS)
def test_a_source_and_its_artifact_say_alike_what_scores_are(kind, disguise, tmp_path):
    saved(lambda x, y: DISGUISES[disguise](ENDS[kind](y)), tmp_path / "m.pt2")
    convert(tmp_path / "m.pt2", tmp_path / "m.onnx")
    assert source_facts(tmp_path / "m.pt2").scores == read_artifact(tmp_path / "m.onnx").scores == kind


def test_both_frameworks_sources_are_judged_alike(tmp_path):
    keras = pytest.importorskip("keras")
    layers = keras.layers
    model = keras.Sequential(
        [layers.Input((4, 4, 3)), layers.Flatten(), layers.Dense(6, "softmax"), layers.Reshape((6,))]
    )
    model.save(tmp_path / "m.keras")
    convert(tmp_path / "m.keras", tmp_path / "m.onnx")
    assert source_facts(tmp_path / "m.keras").scores == read_artifact(tmp_path / "m.onnx").scores == "probabilities"


# Several outputs


class Several(nn.Module):
    def __init__(self):
        super().__init__()
        self.body = nn.Conv2d(3, 5, 3)
        self.head = nn.Linear(20, 4)

    def forward(self, x):
        features = F.relu(self.body(x))
        return {
            "features": features,
            "scores": {"main": self.head(torch.flatten(features, 1)), "sum": features.sum((1, 2, 3))},
        }


def test_any_output_can_be_recorded_and_put_beside(tmp_path, shipped):
    module = Several()
    capture(module, tmp_path / "m.pt2", (3, 4, 4))
    x = np.random.default_rng(0).standard_normal((3, 3, 4, 4), np.float32)
    with torch.inference_mode():
        wanted = module(torch.from_numpy(x))
    assert np.allclose(open_live_engine(tmp_path / "m.pt2", "features").run(x), wanted["features"].numpy(), atol=1e-6)
    assert open_live_engine(tmp_path / "m.pt2").chosen.name == "scores.main"
    assert np.allclose(
        open_live_engine(tmp_path / "m.pt2", "scores.main").run(x), wanted["scores"]["main"].numpy(), atol=1e-6
    )
    with pytest.raises(SourceError, match="no output main; it has features, scores.main"):
        open_live_engine(tmp_path / "m.pt2", "main")
    inlet = (shipped / "channel_marks.inlet.toml").read_text()
    size = inlet.replace("64", "4").replace("72", "5").replace("80", "5")
    (tmp_path / "i.toml").write_text(size)
    call = ("witness", "m.pt2", "--images", shipped / "reference", "--inlet", "i.toml", "-o", "w.witness")
    refused(called(*call, "--scores", "features", cwd=tmp_path), "choose another of its outputs with --scores")
    done = called(*call, cwd=tmp_path)
    assert done.returncode == 0 and "the scores are taken from scores.main" in done.stderr, done.stderr
    assert (
        called(
            "convert", "m.pt2", "-o", "m.onnx", "--scores", "scores.main", "--inlet", "i.toml", cwd=tmp_path
        ).returncode
        == 0
    )
    assert (
        called("match", "m.onnx", "--witness", "w.witness", "--images", shipped / "reference", cwd=tmp_path).returncode
        == 0
    )
    beside = ("classify", "m.onnx", shipped / "reference/mark-05.jpg", "--compare", "m.pt2")
    assert called(*beside, "--compare-scores", "scores.main", cwd=tmp_path).returncode == 0
    assert called(*beside, cwd=tmp_path).returncode == 0
    refused(called(*beside, "--compare-scores", "features", cwd=tmp_path), "[batch, classes]")
    refused(
        called(*beside[:-1], "m.onnx", "--compare-scores", "scores.main", cwd=tmp_path), "has no output scores.main"
    )


def test_outputs_of_the_other_framework(tmp_path):
    keras = pytest.importorskip("keras")
    layers = keras.layers
    image = keras.Input((4, 4, 3), name="image")
    flat = layers.Flatten()(image)
    first, second = layers.Dense(3, name="first")(flat), layers.Dense(2, name="second")(flat)
    x = np.random.default_rng(0).standard_normal((2, 4, 4, 3)).astype(np.float32)
    for outputs in ([first, second], {"a": first, "b": second}):
        model = keras.Model(image, outputs)
        model.save(tmp_path / "m.keras")
        wanted = model(x, training=False)
        names = list(source_facts(tmp_path / "m.keras").outputs)
        for place, name in enumerate(names):
            right = keras.ops.convert_to_numpy(wanted[name] if isinstance(outputs, dict) else wanted[place])
            assert np.allclose(open_live_engine(tmp_path / "m.keras", name).run(x), right, atol=1e-6)
            convert(tmp_path / "m.keras", tmp_path / "m.onnx", choices=Choices(scores=name))
            assert np.allclose(RuntimeEngine(tmp_path / "m.onnx").run(x), right, atol=1e-5)
    with pytest.raises(SourceError, match="no output c"):
        open_live_engine(tmp_path / "m.keras", "c")


def test_an_engine_that_fails_is_a_sentence(tmp_path):
    saved(lambda x, y: y, tmp_path / "m.pt2")
    with pytest.raises(EngineError, match="cannot be run by PyTorch on tensors"):
        open_live_engine(tmp_path / "m.pt2").run(np.zeros((2, 1, 1, 1), np.float32))
