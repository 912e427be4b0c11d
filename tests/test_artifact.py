"""Passes and the artifact: the demo's real model, judged by the reference engine, the checker and the runtime."""

import json

import numpy as np
import onnx
import pytest
from conftest import program, refused

from zygal.artifact.formats import read_artifact
from zygal.artifact.onnx import write
from zygal.classifier.labels import Labels, read_labels
from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ArtifactError, InletError, LabelsError, SourceError
from zygal.graph.passes import PASSES, fold_constants, remove_dead
from zygal.graph.reference import run_graph
from zygal.inlet import Crop, Inlet, Tensor, read_inlet
from zygal.sources import read_source
from zygal.sources.onnx.translate import artifact_graph


@pytest.fixture(scope="module")
def batch():
    return np.random.default_rng(1).standard_normal((3, 3, 64, 64), np.float32)


def test_no_pass_changes_what_the_graph_computes(shipped, batch):
    with read_source(shipped / "channel_marks.pt2") as source:
        graph = source.graph
        wanted = run_graph(graph, {"image": batch})["linear"]
        counts = [len(graph.nodes)]
        for each in PASSES:
            graph = each(graph)
            found = run_graph(graph, {"image": batch})[graph.outputs[0]]
            assert np.abs(found - wanted).max() < 1e-6 * np.ptp(wanted), each
            counts.append(len(graph.nodes))
    left = {node.operator for node in graph.nodes}
    assert counts == sorted(counts, reverse=True) and counts[0] == 75 and counts[-1] == 58
    assert not left & {"BatchNormalization", "Identity"}
    assert not [name for name in graph.constants if "num_batches" in name]


def test_constants_are_folded_and_the_dead_removed():
    from zygal.graph import Batch, GraphBuilder, TensorType

    builder = GraphBuilder()
    builder.input("x", TensorType(np.dtype("float32"), (Batch(), 4)))
    builder.constant("a", np.float32([1, 2, 3, 4]))
    builder.add("Mul", ["a", "a"], "squares")
    builder.add("Exp", ["x"], "nobody_asks")
    builder.add("Add", ["x", "squares"], "y")
    graph = remove_dead(fold_constants(builder.finish(["y"])))
    assert [node.operator for node in graph.nodes] == ["Add"] and set(graph.constants) == {"squares"}
    assert run_graph(graph, {"x": np.zeros((1, 4), np.float32)})["y"].tolist() == [[1, 4, 9, 16]]


def test_the_artifact_is_standard_small_and_the_same_when_made_twice(shipped, tmp_path):
    inlet = read_inlet(shipped / "channel_marks.inlet.toml")
    for name in ("first.onnx", "second.onnx"):
        convert(shipped / "channel_marks.pt2", tmp_path / name, inlet, None, Choices("photo", "logits"))
    content = (tmp_path / "first.onnx").read_bytes()
    assert content == (tmp_path / "second.onnx").read_bytes() and len(content) < 260_000
    model = onnx.load(tmp_path / "first.onnx")
    onnx.checker.check_model(model, full_check=True)
    assert model.ir_version == 8 and [(each.domain, each.version) for each in model.opset_import] == [("", 17)]
    assert {node.domain for node in model.graph.node} == {""}
    assert len({node.name for node in model.graph.node}) == len(model.graph.node)
    artifact = read_artifact(tmp_path / "first.onnx")
    assert artifact.inputs == {"photo": ("float32", ("N", 3, 64, 64))}
    assert artifact.outputs == {"logits": ("float32", ("N", 10))}
    assert artifact.metadata.inlet == inlet and artifact.metadata.labels is None
    assert artifact.metadata.origin.framework_version.startswith("2.13")


def test_runtime_and_reference_agree_on_the_artifact(shipped, batch):
    graph = artifact_graph(shipped / "channel_marks.onnx")
    engine = RuntimeEngine(shipped / "channel_marks.onnx", 1)
    for count in (1, 3):
        wanted = run_graph(graph, {"image": batch[:count]})["scores"]
        assert np.abs(engine.run(batch[:count]) - wanted).max() < 1e-6 * np.ptp(wanted)
    assert "features.0.expand.0" in graph.layer_names()


@pytest.mark.parametrize("opset", [14, 18, 21])
def test_other_opsets_say_the_same(opset, shipped, tmp_path, batch):
    convert(shipped / "channel_marks.pt2", tmp_path / "a.onnx", choices=Choices(opset=opset))
    onnx.checker.check_model(tmp_path / "a.onnx", full_check=True)
    assert read_artifact(tmp_path / "a.onnx").opset == opset
    wanted = RuntimeEngine(shipped / "channel_marks.onnx", 1).run(batch)
    assert np.abs(RuntimeEngine(tmp_path / "a.onnx", 1).run(batch) - wanted).max() < 1e-6 * np.ptp(wanted)


def test_an_opset_that_is_too_old_names_the_layer_and_the_lowest_that_will_do(shipped, tmp_path):
    with pytest.raises(ArtifactError, match=r"HardSwish \(layer .*\); the lowest that can is opset 14"):
        convert(shipped / "channel_marks.pt2", tmp_path / "a.onnx", choices=Choices(opset=13))
    with pytest.raises(ArtifactError, match="choose 13 to"):
        convert(shipped / "channel_marks.pt2", tmp_path / "a.onnx", choices=Choices(opset=99))
    assert not list(tmp_path.iterdir())


def test_weights_that_are_too_large_for_one_file_lie_beside_it(shipped, tmp_path, batch, monkeypatch):
    monkeypatch.setattr(write, "LARGEST_FILE_BYTES", write.SPARE_BYTES + 100_000)
    convert(shipped / "channel_marks.pt2", tmp_path / "large.onnx")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["large.onnx", "large.onnx.weights"]
    assert (tmp_path / "large.onnx").stat().st_size < 40_000
    wanted = RuntimeEngine(shipped / "channel_marks.onnx", 1).run(batch)
    assert np.array_equal(RuntimeEngine(tmp_path / "large.onnx", 1).run(batch), wanted)


def test_what_does_not_fit_the_model_is_refused_and_nothing_is_written(shipped, tmp_path):
    source, target = shipped / "channel_marks.pt2", tmp_path / "never.onnx"
    cases = [
        (LabelsError, "fewer", {"labels": Labels(("a", "b"), "")}),
        (LabelsError, "more", {"labels": Labels(tuple(map(str, range(11))), "")}),
        (InletError, "crop", {"inlet": Inlet(frame=(Crop((60, 64)),))}),
        (InletError, "layout", {"inlet": Inlet(frame=(Crop((64, 64)),), tensor=Tensor("NHWC"))}),
        (InletError, "each image", {"inlet": Inlet()}),
        (SourceError, "two different names", {"choices": Choices("scores")}),
    ]
    for error, words, arguments in cases:
        with pytest.raises(error, match=words):
            convert(source, target, **arguments)
    assert not list(tmp_path.iterdir())


def test_convert_never_imports_a_framework(shipped, tmp_path):
    done = program(
        "convert",
        "channel_marks.pt2",
        "-o",
        tmp_path / "a.onnx",
        cwd=shipped,
        env={"PYTHONPROFILEIMPORTTIME": "1", "PATH": "/usr/bin:/bin"},
    )
    imported = {line.rpartition("|")[2].strip().partition(".")[0] for line in done.stderr.splitlines()}
    assert done.returncode == 0 and "numpy" in imported
    assert not imported & {"torch", "keras", "tensorflow", "jax", "onnxruntime", "matplotlib"}


LABELS = {
    "lines.txt": "a\nb b\nc\n\n",
    "list.json": '["a", "b b", "c"]',
    "by_index.json": '{"0": "a", "2": "c", "1": "b b"}',
    "by_name.json": '{"c": 2, "a": 0, "b b": 1}',
    "numbered.txt": "2: c\n0: a\n1: b b\n",
    "columns.csv": "colour,index,name\nred,1,b b\ngreen,0,a\nred,2,c\n",
    "by_id.csv": "label;id\nc;2\na;0\nb b;1\n",
    "no_heading.csv": "1,b b\n0,a\n2,c\n",
    "rows.tsv": "name\tpictures\na\t70\nb b\t12\nc\t70\n",
}


@pytest.mark.alike
@pytest.mark.parametrize("name", LABELS)
def test_labels_in_every_form(name, tmp_path):
    (tmp_path / name).write_text(LABELS[name])
    done = program("survey", name, "--json", "out.json", cwd=tmp_path)
    assert done.returncode == 0 and json.loads((tmp_path / "out.json").read_text())["labels"] == ["a", "b b", "c"]


@pytest.mark.alike
@pytest.mark.parametrize(
    "text, words",
    [
        ("a\n\nb", "empty line 2"),
        ("", "an empty file"),
        ("\n\n", "no label"),
        ('{"a": 0, "b": 2}', "1 is missing"),
        ('{"0": "a", "2": "b"}', "1 is missing"),
        ("[1, 2]", "list of names"),
        ('["a", "b"', "not JSON"),
        ("a\nb\na", "'a' twice"),
        ('{"1": "a", "2": "b"}', "from 1 to 2"),
        ("\udcff", "not text in UTF-8"),
    ],
)
def test_labels_that_cannot_be_understood(text, words, shipped, tmp_path):
    (tmp_path / "labels.txt").write_bytes(text.encode("utf-8", "surrogateescape"))
    done = program("convert", shipped / "channel_marks.pt2", "-o", "a.onnx", "--labels", "labels.txt", cwd=tmp_path)
    if text == "":
        words = "no label"
    refused(done, words)
    assert not (tmp_path / "a.onnx").exists()


@pytest.mark.parametrize(
    "text, words",
    [
        ("kind,family\na,b\nc,d", 'head the right one "name"'),
        ("index,name\n0,a\n2,b", "does not count"),
        ("index,name\n1,a\n2,b", "from 1 to 2"),
        ("index,count\n0,7\n1,8", "no column of names"),
        ("index,name\n0,a\n1", "1 columns in row 3"),
    ],
)
def test_tables_of_labels_that_cannot_be_understood(text, words, tmp_path):
    (tmp_path / "labels.csv").write_text(text)
    refused(program("survey", "labels.csv", cwd=tmp_path), words)


def test_the_order_of_a_training_folder_is_that_of_its_names_and_is_kept(shipped, tmp_path):
    for name in (".cache", *map(str, range(9, -1, -1))):
        (tmp_path / "train" / name).mkdir(parents=True)
        (tmp_path / "train" / name / "a.jpg").touch()
    (tmp_path / "train/9").rename(tmp_path / "train/10")
    arguments = ("convert", shipped / "channel_marks.pt2", "-o", "a.onnx", "--labels", "train")
    done = program(*arguments, cwd=tmp_path)
    assert done.returncode == 0 and ".cache" in done.stderr and "output 1 is 1" in done.stderr, done.stderr
    metadata = read_artifact(tmp_path / "a.onnx").metadata
    assert metadata.labels == ("0", "1", "10", "2", "3", "4", "5", "6", "7", "8")
    assert "sub-folders, sorted as text, of train" in metadata.labels_order
    assert "sub-folders, sorted as text, of train" in program("survey", "a.onnx", cwd=tmp_path).stdout


@pytest.mark.parametrize(
    "configuration, names",
    [
        ({"architectures": ["A"], "id2label": {"1": "b", "0": "a"}}, ("a", "b")),
        ({"label2id": {"b": 1, "a": 0}, "id2label": {"0": "a", "1": "b"}, "num_labels": 2}, ("a", "b")),
        ({"architecture": "resnet", "num_classes": 2, "label_names": ["x", "y"], "id2label": None}, ("x", "y")),
        ({"label2id": {"b": 1, "a": 0}, "id2label": {"0": "a", "1": "c"}}, "different class names"),
        ({"id2label": {"0": "a", "2": "b"}}, "without gaps"),
        ({"architectures": ["A"], "id2label": {}}, "must hold"),
    ],
)
def test_labels_of_a_model_folder(configuration, names, tmp_path):
    path = tmp_path / "config.json"
    path.write_text(json.dumps(configuration))
    if isinstance(names, str):
        with pytest.raises(LabelsError, match=names):
            read_labels(path)
    else:
        labels = read_labels(path)
        assert labels.names == names and labels.order.endswith("of config.json")
