"""Models that a Python function builds: Keras, networks with a scikit-learn classifier behind them, and what is said of
them."""

import json
import textwrap
import warnings

import numpy as np
import pytest
import torch
from conftest import called, refused
from sklearn.base import clone
from sklearn.datasets import load_breast_cancer, load_iris
from sklearn.decomposition import PCA, TruncatedSVD
from sklearn.discriminant_analysis import LinearDiscriminantAnalysis
from sklearn.ensemble import (
    ExtraTreesClassifier,
    GradientBoostingClassifier,
    HistGradientBoostingClassifier,
    RandomForestClassifier,
)
from sklearn.feature_selection import SelectKBest
from sklearn.linear_model import LogisticRegression, Perceptron, RidgeClassifier, SGDClassifier
from sklearn.model_selection import GridSearchCV
from sklearn.naive_bayes import GaussianNB
from sklearn.neighbors import KNeighborsClassifier
from sklearn.neural_network import MLPClassifier
from sklearn.pipeline import make_pipeline
from sklearn.preprocessing import MaxAbsScaler, MinMaxScaler, Normalizer, RobustScaler, StandardScaler
from sklearn.svm import SVC, LinearSVC, NuSVC
from sklearn.tree import DecisionTreeClassifier

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import SourceError
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.sources.estimators import class_labels, score_method, with_estimator

CLASSIFIERS = [
    LogisticRegression(),
    RidgeClassifier(),
    Perceptron(),
    SGDClassifier(loss="log_loss"),
    LinearSVC(),
    LinearDiscriminantAnalysis(),
    MLPClassifier((12, 8), max_iter=60),
    MLPClassifier((9,), activation="tanh", max_iter=40),
    SVC(),
    SVC(kernel="poly", degree=2),
    SVC(kernel="linear"),
    SVC(kernel="sigmoid"),
    NuSVC(nu=0.2),
    KNeighborsClassifier(),
    KNeighborsClassifier(weights="distance"),
    KNeighborsClassifier(metric="manhattan"),
    KNeighborsClassifier(metric="cosine"),
    DecisionTreeClassifier(),
    RandomForestClassifier(12, class_weight="balanced"),
    ExtraTreesClassifier(9),
    GradientBoostingClassifier(n_estimators=8),
    HistGradientBoostingClassifier(max_iter=8),
    GridSearchCV(SVC(), {"C": [1, 3]}, cv=2),
]
BEFORE = [
    (),
    (StandardScaler(),),
    (MinMaxScaler(clip=True), PCA(3, whiten=True)),
    (Normalizer(), SelectKBest(k=3)),
    (RobustScaler(), MaxAbsScaler(), TruncatedSVD(3), "passthrough"),
]


def behind_features(estimator, count):
    builder = GraphBuilder()
    image = builder.input("image", TensorType(np.dtype(np.float32), (Batch(), count)))
    return with_estimator(builder.finish([builder.add("Identity", (image,), "features")]), estimator)


@pytest.mark.alike
@pytest.mark.parametrize("data", [load_iris, load_breast_cancer], ids=["three classes", "two classes"])
@pytest.mark.parametrize("classifier", CLASSIFIERS, ids=lambda each: f"{type(each).__name__}-{CLASSIFIERS.index(each)}")
def test_an_artifact_scores_as_scikit_learn_does(classifier, data, tmp_path):
    features, truth = data(return_X_y=True)
    features = (features + np.random.default_rng(0).normal(0, 1e-3, features.shape)).clip(0).astype(np.float32)
    # Where all lie in nearly one direction, or close together, which one is nearer is decided by the rounding of
    # float32.
    close = getattr(classifier, "metric", "") == "cosine" or getattr(classifier, "weights", "") == "distance"
    features = (features - features.mean(axis=0)) / features.std(axis=0) if close else features
    # scikit-learn itself computes perceptrons in float32 where the features are, ours in float64.
    within = 2e-5 if isinstance(classifier, MLPClassifier) else 3e-6
    for before in BEFORE[:2] if close else BEFORE:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            last = clone(classifier)
            if "random_state" in last.get_params():
                last.set_params(random_state=0)
            fitted = make_pipeline(*[each if isinstance(each, str) else clone(each) for each in before], last)
            fitted.fit(features[::2], truth[::2])
        graph = behind_features(fitted, features.shape[1])
        unseen = features[1::2]
        wanted = np.asarray(getattr(fitted, score_method(fitted))(unseen))
        wanted = np.stack([np.zeros_like(wanted), wanted], axis=1) if wanted.ndim == 1 else wanted
        passed = run_passes(graph).renamed({run_passes(graph).outputs[0]: "scores"})
        write_artifact(passed, tmp_path / "m.onnx", Metadata())
        for found in (
            run_graph(graph, {"image": unseen})[graph.outputs[0]],
            RuntimeEngine(tmp_path / "m.onnx", 1).run(unseen),
        ):
            assert found.dtype == np.float32 and np.abs(found - wanted).max() <= within * np.ptp(wanted), before
            assert np.array_equal(found.argmax(axis=1), wanted.argmax(axis=1)), before


def fitted_on_iris(estimator, names=False):
    features, truth = load_iris(return_X_y=True)
    return estimator.fit(features, np.array(["a", "b", "c"])[truth] if names else truth)


REFUSED = {
    "another classifier": (lambda: fitted_on_iris(GaussianNB()), "GaussianNB cannot be converted as a classifier"),
    "not fitted": (LogisticRegression, "is not fitted"),
    "a kernel of one's own": (lambda: fitted_on_iris(SVC(kernel=lambda a, b: a @ b.T)), "kernel"),
    "weights of one's own": (
        lambda: fitted_on_iris(KNeighborsClassifier(weights=lambda far: 1 / (1 + far))),
        "by a function",
    ),
    "pairs of classes": (lambda: fitted_on_iris(SVC(decision_function_shape="ovo")), "decision_function_shape"),
    "another metric": (lambda: fitted_on_iris(KNeighborsClassifier(metric="canberra")), "canberra"),
}


@pytest.mark.parametrize("name", REFUSED)
def test_an_estimator_that_is_not_known_is_refused_by_name(name):
    make, words = REFUSED[name]
    with pytest.raises(SourceError, match=words):
        behind_features(make(), 4)


def test_features_that_do_not_fit_and_names_of_classes():
    with pytest.raises(SourceError, match="takes .batch, 4."):
        behind_features(fitted_on_iris(LogisticRegression(max_iter=500)), 5)
    assert class_labels(fitted_on_iris(DecisionTreeClassifier(), names=True)) == ("a", "b", "c")
    assert class_labels(fitted_on_iris(DecisionTreeClassifier())) is None


CODE = textwrap.dedent("""
    import numpy as np

    def network():
        import torch
        torch.manual_seed(0)
        layers = torch.nn.Conv2d(3, 6, 5, stride=3), torch.nn.ReLU(), torch.nn.AdaptiveAvgPool2d(3), torch.nn.Flatten()
        return torch.nn.Sequential(*layers)

    def with_forest():
        from sklearn.ensemble import RandomForestClassifier
        from sibling import NAMES
        rng = np.random.default_rng(0)
        features = rng.random((60, 54), np.float32)
        classes = np.array(NAMES)[rng.integers(0, 3, 60)]
        return network(), RandomForestClassifier(10, random_state=0).fit(features, classes)

    def keras_model():
        import keras
        keras.utils.set_random_seed(3)
        return keras.Sequential([keras.Input((64, 64, 3)), keras.layers.Conv2D(4, 3, 4, activation="relu"),
                                 keras.layers.GlobalAveragePooling2D(), keras.layers.Dense(10, activation="softmax")])

    def with_text():
        return network(), "no estimator"

    def in_training():
        import torch
        return torch.nn.Sequential(network(), torch.nn.Dropout(0.5), torch.nn.Linear(54, 10))

    def flips(path):
        import random
        from training_code import load_image
        image = load_image(path)
        return image[..., ::-1].copy() if random.random() < 0.5 else image
""")


@pytest.fixture
def folder(shipped, tmp_path):
    (tmp_path / "built.py").write_text(CODE)
    (tmp_path / "sibling.py").write_text("NAMES = ('green', 'red', 'white')\n")
    for name in ("channel_marks.inlet.toml", "training_code.py", "labels.txt"):
        (tmp_path / name).write_bytes((shipped / name).read_bytes())
    (tmp_path / "keras.toml").write_text((tmp_path / "channel_marks.inlet.toml").read_text().replace("NCHW", "NHWC"))
    return tmp_path


def test_a_network_and_a_forest_become_one_artifact_that_the_pair_itself_judges(folder, shipped):
    done = called("convert", "built.py:with_forest", "-o", "m.onnx", "--inlet", "channel_marks.inlet.toml", cwd=folder)
    assert done.returncode == 0 and "3 labels (classes_ of the estimator)" in done.stdout, done.stderr
    assert (
        "random, unless it loads trained ones" in done.stderr and "RandomForestClassifier.predict_proba" in done.stderr
    )
    record = (
        "witness",
        "built.py:with_forest",
        "--images",
        shipped / "reference",
        "--training-code",
        "training_code.py:load_image",
    )
    assert called(*record, "-o", "w.witness", cwd=folder).returncode == 0
    done = called(
        "match", "m.onnx", "--witness", "w.witness", "--images", shipped / "reference", "--json", "m.json", cwd=folder
    )
    assert done.returncode == 0, done.stdout
    found = json.loads((folder / "m.json").read_text())
    assert found["framework"].endswith(tuple("0123456789")) and "scikit-learn" in found["framework"]
    done = called(
        "classify",
        "m.onnx",
        shipped / "reference/mark-05.jpg",
        "--compare",
        "built.py:with_forest",
        "--json",
        "c.json",
        cwd=folder,
    )
    result = json.loads((folder / "c.json").read_text())
    assert (
        result["labels"] == ["green", "red", "white"]
        and result["scores"] == "probabilities"
        and result["counts"]["disagreements"] == 0
    )
    refused(called("convert", "built.py:with_text", "-o", "x.onnx", cwd=folder), "returned Sequential and str")


def test_a_keras_function_with_its_weights(folder, shipped):
    """With PyTorch behind Keras its models are PyTorch's modules too, and are Keras' all the same."""
    import keras

    space = {}
    exec(CODE, space)
    model = space["keras_model"]()
    model.set_weights([each + 0.05 for each in model.get_weights()])
    model.save_weights(folder / "trained.weights.h5")
    build = ("built.py:keras_model", "--weights", "trained.weights.h5")
    done = called("convert", *build, "-o", "k.onnx", "--inlet", "keras.toml", "--labels", "labels.txt", cwd=folder)
    assert done.returncode == 0, done.stderr
    images = np.random.default_rng(0).random((3, 64, 64, 3), np.float32)
    wanted = np.asarray(keras.ops.convert_to_numpy(model(images, training=False)))
    assert np.abs(RuntimeEngine(folder / "k.onnx", 1).run(images) - wanted).max() < 1e-6
    done = called("survey", *build, cwd=folder)
    assert done.returncode == 0 and "10 classes, probabilities" in done.stdout, done.stderr
    (folder / "other.weights.h5").write_bytes((folder / "trained.weights.h5").read_bytes()[:3000])
    refused(
        called("convert", "built.py:keras_model", "--weights", "other.weights.h5", "-o", "x.onnx", cwd=folder),
        "nothing was loaded",
    )
    refused(
        called("convert", "built.py:keras_model", "--weights", "labels.txt", "-o", "x.onnx", cwd=folder),
        "not a weights file of Keras",
    )


def test_random_steps_and_a_wrong_tensor_are_said_before_a_framework_is_loaded(folder, shipped, monkeypatch):
    monkeypatch.setattr("zygal.engines.live.open_live_engine", lambda *_: pytest.fail("the framework was loaded"))
    record = ("witness", shipped / "channel_marks.pt2", "--images", shipped / "reference", "-o", "w.witness")
    refused(called(*record, "--training-code", "built.py:flips", cwd=folder), "makes another tensor of mark-")
    refused(called(*record, "--inlet", "keras.toml", cwd=folder), "check the inlet")
    assert not (folder / "w.witness").exists()


def test_a_missing_package_of_the_training_code_is_named(folder, shipped):
    (folder / "needs.py").write_text("import no_such_package\ndef load(path): pass\n")
    (folder / "late.py").write_text("def load(path):\n    import no_such_package\n")
    record = (
        "witness",
        shipped / "channel_marks.pt2",
        "--images",
        shipped / "reference",
        "-o",
        "w.witness",
        "--training-code",
    )
    for code in ("needs.py:load", "late.py:load"):
        refused(called(*record, code, cwd=folder), "the package no_such_package is not installed here")
    refused(called("convert", "late.py:nothing", "-o", "x.onnx", cwd=folder), "has no function nothing")


@pytest.mark.slow
def test_the_module_itself_is_measured_and_a_way_that_it_does_not_have_is_refused(folder, monkeypatch):
    (folder / "temporary").mkdir()
    monkeypatch.setenv("TMPDIR", str(folder / "temporary"))
    monkeypatch.setattr("tempfile.tempdir", None)
    assert called("convert", "built.py:in_training", "-o", "m.onnx", "--shape", "3,64,64", cwd=folder).returncode == 0
    bench = (
        "bench",
        "m.onnx",
        "--compare",
        "built.py:in_training",
        "--batches",
        "1",
        "--threads",
        "1",
        "--seconds",
        "0.3",
    )
    done = called(*bench, "--json", "b.json", cwd=folder)
    assert done.returncode == 0, done.stderr
    assert "the module itself" in json.loads((folder / "b.json").read_text())["compared"][0]["engine"]
    done = called(*bench, "--compare-as", "captured", "--json", "b.json", cwd=folder)
    assert "the captured program" in json.loads((folder / "b.json").read_text())["compared"][0]["engine"]
    refused(called(*bench, "--compare-as", "eager", cwd=folder), "does not apply to built.py:in_training")
    # The process of the framework has ended, and left nothing of ours behind; the framework keeps a cache there.
    assert not list((folder / "temporary").glob("zygal-*"))
    baseline = json.loads((folder / "b.json").read_text())
    baseline["runtime"] = "ONNX Runtime 0.1"
    (folder / "old.json").write_text(json.dumps(baseline))
    refused(
        called(
            *bench[:2], "--batches", "1", "--threads", "1", "--seconds", "500", "--baseline", "old.json", cwd=folder
        ),
        "not made in the same way",
    )


class Several(torch.nn.Module):
    """Several outputs, of which the second head is the one behind the last linear layer."""

    def __init__(self):
        super().__init__()
        self.features, self.aside, self.last = torch.nn.Conv2d(3, 4, 3), torch.nn.Linear(4, 7), torch.nn.Linear(4, 5)

    def forward(self, x):
        x = self.features(x)
        pooled = x.mean((2, 3))
        return {"maps": x, "pooled": pooled, "side": self.aside(pooled), "main": torch.softmax(self.last(pooled), 1)}


def test_of_several_outputs_the_one_that_looks_like_class_scores_is_taken_and_said(tmp_path):
    from conftest import capture

    capture(Several(), tmp_path / "m.pt2", (3, 8, 8))
    done = called("survey", "m.pt2", cwd=tmp_path)
    assert "the scores are taken from main, which ends in the last linear layer" in done.stderr.replace("\n", " ")
    assert "5 classes, probabilities" in done.stdout
    (tmp_path / "seven.txt").write_text("\n".join("abcdefg"))
    done = called("convert", "m.pt2", "-o", "m.onnx", "--labels", "seven.txt", cwd=tmp_path)
    assert done.returncode == 0 and "the only output with 7 classes" in done.stderr, done.stderr
    done = called("convert", "m.pt2", "-o", "m.onnx", "--scores", "pooled", cwd=tmp_path)
    assert done.returncode == 0 and "taken from" not in done.stderr
    assert RuntimeEngine(tmp_path / "m.onnx").run(np.zeros((1, 3, 8, 8), np.float32)).shape == (1, 4)
