"""ONNX files of others: validated as a whole, read back as graphs where their meaning is known, else refused."""

import numpy as np
import onnx
import pytest
from conftest import called, refused
from onnx import TensorProto, helper, numpy_helper

from zygal.artifact.formats import read_artifact
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import ArtifactError, SourceError, ZygalError
from zygal.graph.reference import run_graph
from zygal.inlet import read_inlet
from zygal.inlet.apply import apply_inlet
from zygal.onnx.read import check_artifact, load_model
from zygal.sources.onnx.translate import artifact_graph

FLOAT = TensorProto.FLOAT


def model_of(
    nodes, inputs=(("x", FLOAT, ["N", 4]),), outputs=(("y", FLOAT, ["N", 4]),), weights=(), opset=17, domains=()
):
    graph = helper.make_graph(
        list(nodes),
        "g",
        [helper.make_tensor_value_info(*each) for each in inputs],
        [helper.make_tensor_value_info(*each) for each in outputs],
        [numpy_helper.from_array(array, name) for name, array in weights],
    )
    imports = [helper.make_opsetid("", opset), *(helper.make_opsetid(domain, 1) for domain in domains)]
    return helper.make_model(graph, opset_imports=imports, ir_version=8)


def relu(x="x", y="y", **more):
    return helper.make_node("Relu", [x], [y], **more)


def saved(model, tmp_path):
    path = tmp_path / "m.onnx"
    path.write_bytes(model.SerializeToString())
    return path


def with_change(change, *arguments, **more):
    model = model_of(*arguments, **more)
    change(model)
    return model


WEIGHT = np.arange(4, dtype=np.float32)
ADD = helper.make_node("Add", ["x", "w"], ["y"])
BROKEN = {
    "a cycle through identities": (
        model_of([helper.make_node("Identity", ["b"], ["a"]), helper.make_node("Identity", ["a"], ["b"]), relu("b")]),
        "no earlier node produces",
    ),
    "an identity without inputs": (model_of([helper.make_node("Identity", [], ["y"])]), None),
    "a node that comes too early": (model_of([relu("a", "y"), relu("x", "a")]), "no earlier node produces"),
    "a value made twice": (model_of([relu("x", "a"), relu("x", "a"), relu("a", "y")]), "produced twice"),
    "an input made again": (model_of([relu("x", "x"), relu("x", "y")]), "produced twice"),
    "an output of nothing": (model_of([relu("x", "z")]), "not produced by any node"),
    "a node without results": (model_of([helper.make_node("Relu", ["x"], []), relu()]), "no result"),
    "no outputs": (with_change(lambda m: m.graph.ClearField("output"), [relu()]), "without outputs"),
    "two outputs of one name": (model_of([relu()], outputs=[("y", FLOAT, ["N", 4])] * 2), "one name"),
    "two inputs of one name": (model_of([relu()], inputs=[("x", FLOAT, ["N", 4])] * 2), "two of its inputs"),
    "two weights of one name": (model_of([ADD], weights=[("w", WEIGHT)] * 2), "one name"),
    "a weight without a name": (model_of([relu()], weights=[("", WEIGHT)]), "one name, or none"),
    "operators imported twice": (with_change(lambda m: m.opset_import.add(domain="", version=13), [relu()]), "twice"),
    "both names of the standard": (
        with_change(lambda m: m.opset_import.add(domain="ai.onnx", version=13), [relu()]),
        "twice",
    ),
    "no operators of the standard": (
        with_change(lambda m: m.opset_import.pop(), [relu()]),
        "does not import a version",
    ),
    "a version of nothing": (model_of([relu()], opset=-3), "imports version -3"),
    "a domain that is not imported": (model_of([relu(domain="my.own")]), "not imported"),
    "an attribute twice": (
        with_change(lambda m: m.graph.node[0].attribute.extend([helper.make_attribute("a", 1)] * 2), [relu()]),
        "twice",
    ),
    "an attribute of no type": (
        with_change(lambda m: m.graph.node[0].attribute.add(name="a"), [relu()]),
        "an unknown type",
    ),
    "a function without a body": (
        with_change(lambda m: m.functions.add(name="f", output=["b"]), [relu()]),
        "returns 'b', which it does not make",
    ),
    "two functions of one name": (
        with_change(lambda m: [m.functions.add(name="f") for _ in range(2)], [relu()]),
        "functions have one name",
    ),
    "a weight of another size": (
        with_change(lambda m: m.graph.initializer[0].dims.append(9), [ADD], weights=[("w", WEIGHT)]),
        "bytes are there",
    ),
    "a negative size": (
        with_change(lambda m: m.graph.initializer[0].dims.__setitem__(0, -4), [ADD], weights=[("w", WEIGHT)]),
        "shape that no tensor has",
    ),
    "a huge size": (
        with_change(lambda m: m.graph.initializer[0].dims.extend([2**30, 2**30]), [ADD], weights=[("w", WEIGHT)]),
        "claims",
    ),
    "a dtype of no number": (
        with_change(lambda m: setattr(m.graph.initializer[0], "data_type", 99), [ADD], weights=[("w", WEIGHT)]),
        "number 99",
    ),
    "half a weight": (
        with_change(lambda m: setattr(m.graph.initializer[0], "raw_data", b"123"), [ADD], weights=[("w", WEIGHT)]),
        "3 bytes",
    ),
    "an input of a negative size": (model_of([relu()], inputs=[("x", FLOAT, ["N", -4])]), "size -4"),
    "an input of no dtype": (model_of([relu()], inputs=[("x", 77, ["N", 4])]), "number 77"),
    "an input that is no tensor": (
        with_change(
            lambda m: m.graph.input[0].CopyFrom(helper.make_tensor_sequence_value_info("x", FLOAT, None)), [relu()]
        ),
        "no tensor",
    ),
    "sparse weights": (with_change(lambda m: m.graph.sparse_initializer.add(), [relu()]), "sparse"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_what_is_not_sound_is_said(name, tmp_path):
    model, words = BROKEN[name]
    path = saved(model, tmp_path)
    done = called("survey", path, cwd=tmp_path)
    if words is None:  # Sound as far as a description goes; its meaning is the runtime's to refuse.
        assert done.returncode == 0
        with pytest.raises(ZygalError):
            artifact_graph(path)
        with pytest.raises(ZygalError):
            RuntimeEngine(path)
        return
    refused(done, words)
    for reader in (load_model, check_artifact, artifact_graph, RuntimeEngine):
        with pytest.raises(ArtifactError, match="damaged"):
            reader(path)


def test_blocks_may_read_what_was_made_outside(tmp_path):
    then, other = (
        helper.make_graph([relu("x", name)], name, [], [helper.make_tensor_value_info(name, FLOAT, None)])
        for name in ("t", "e")
    )
    condition = numpy_helper.from_array(np.array(True), "c")
    model = model_of([helper.make_node("If", ["c"], ["y"], then_branch=then, else_branch=other)])
    model.graph.initializer.append(condition)
    assert read_artifact(saved(model, tmp_path)).operators == {"If": 1}
    then.node[0].input[0] = "nowhere"
    model = model_of([helper.make_node("If", ["c"], ["y"], then_branch=then, else_branch=other)])
    model.graph.initializer.append(condition)
    with pytest.raises(ArtifactError, match="nowhere"):
        load_model(saved(model, tmp_path))


def test_blocks_are_not_nested_without_end(tmp_path):
    inner = helper.make_graph([relu("x", "r")], "inner", [], [helper.make_tensor_value_info("r", FLOAT, None)])
    for depth in range(12):
        node = helper.make_node("If", ["c"], [f"r{depth}"], then_branch=inner, else_branch=inner)
        inner = helper.make_graph([node], "b", [], [helper.make_tensor_value_info(f"r{depth}", FLOAT, None)])
        if depth > 8:
            break
    model = model_of([helper.make_node("If", ["c"], ["y"], then_branch=inner, else_branch=inner)])
    model.graph.initializer.append(numpy_helper.from_array(np.array(True), "c"))
    with pytest.raises(ArtifactError, match="deep"):
        load_model(saved(model, tmp_path))


# Graphs read back


@pytest.mark.parametrize(
    "node, opset, fine",
    [
        (relu(), 13, True),
        (relu(), 7, True),
        (helper.make_node("Softmax", ["x"], ["y"]), 11, True),
        (helper.make_node("Add", ["x", "x"], ["y"]), 6, False),
        (helper.make_node("Softmax", ["x"], ["y"]), 13, True),
        (helper.make_node("And", ["b", "b"], ["y"]), 7, True),
        (helper.make_node("Sin", ["x"], ["y"]), 9, True),
        (relu(), 9999, None),
    ],
)
def test_operators_that_meant_something_else_are_refused(node, opset, fine, tmp_path):
    model = model_of([node], opset=opset, inputs=[("x", FLOAT, ["N", 4]), ("b", TensorProto.BOOL, ["N", 4])])
    path = saved(model, tmp_path)
    if fine:
        assert len(artifact_graph(path).nodes) == 1
        return
    with pytest.raises(ZygalError, match="another meaning" if fine is False else "9999"):
        artifact_graph(path)


@pytest.mark.parametrize(
    "shape, fine",
    [(["N", 4], True), ([3, 4], True), ([None, 4], True), (["N", "M"], False), (["N", None], False), (None, False)],
)
def test_sizes_that_are_open_are_refused_but_the_batch(shape, fine, tmp_path):
    path = saved(model_of([relu()], inputs=[("x", FLOAT, shape)]), tmp_path)
    if fine:
        assert artifact_graph(path).inputs == ("x",)
    else:
        with pytest.raises(SourceError, match="open" if shape else "how many axes"):
            artifact_graph(path)


@pytest.mark.parametrize(
    "node, more, words",
    [
        (
            helper.make_node("Reshape", ["x", "s"], ["y"]),
            {"inputs": [("x", FLOAT, ["N", 4]), ("s", TensorProto.INT64, [2])]},
            "where an artifact needs a constant",
        ),
        (helper.make_node("NonZero", ["x"], ["y"]), {}, "where an artifact needs a constant"),
        (helper.make_node("Det", ["x"], ["y"]), {}, "unknown operator.*Det"),
        (
            helper.make_node("Gelu", ["x"], ["y"], domain="com.microsoft"),
            {"domains": ["com.microsoft"]},
            "com.microsoft.Gelu",
        ),
        (helper.make_node("Constant", [], ["y"], value_string="text"), {}, "form that is not supported"),
        (relu(), {"inputs": [("x", TensorProto.BFLOAT16, ["N", 4])]}, "does not compute with"),
        (helper.make_node("Concat", ["x", "x"], ["y"], axis=7), {}, "names axis 7"),
        (helper.make_node("LeakyRelu", ["x"], ["y"], beta=1.0), {}, "beta"),
    ],
)
def test_what_cannot_be_read_is_said(node, more, words, tmp_path):
    with pytest.raises(SourceError, match=words):
        artifact_graph(saved(model_of([node], **more), tmp_path))


def test_constants_of_all_forms_are_read(tmp_path):
    nodes = [
        helper.make_node("Constant", [], ["a"], value_floats=[1.0, 2.0, 3.0, 4.0]),
        helper.make_node("Constant", [], ["b"], value_float=2.0),
        helper.make_node("Constant", [], ["c"], value=numpy_helper.from_array(WEIGHT)),
        helper.make_node("Mul", ["x", "a"], ["m"]),
        helper.make_node("Add", ["m", "b"], ["n"]),
        helper.make_node("Sub", ["n", "c"], ["y"]),
    ]
    path = saved(model_of(nodes), tmp_path)
    x = np.random.default_rng(0).random((3, 4), np.float32)
    assert np.allclose(run_graph(artifact_graph(path), {"x": x})["y"], RuntimeEngine(path).run(x))


@pytest.mark.parametrize(
    "more", [(), ("--raw-pixels",), ("--opset", "13"), ("--opset", "21"), ("--layout", "NHWC")], ids=" ".join
)
@pytest.mark.parametrize("source", ["channel_marks.pt2", "keras/channel_marks.keras"])
def test_our_own_artifacts_are_read_back(source, more, shipped, tmp_path):
    inlet = shipped / source.replace("channel_marks.pt2", "channel_marks.inlet.toml").replace(".keras", ".inlet.toml")
    done = called("convert", shipped / source, "-o", tmp_path / "m.onnx", "--inlet", inlet, *more, cwd=tmp_path)
    if done.returncode and "opset 13 cannot express" in done.stderr:
        pytest.skip("this opset cannot express the model")
    assert done.returncode == 0, done.stderr
    graph = artifact_graph(tmp_path / "m.onnx")
    image = shipped / "reference" / "mark-05.jpg"
    inside = read_artifact(tmp_path / "m.onnx").metadata.inlet
    tensor = apply_inlet(image, inside or read_inlet(inlet)).tensor[None]
    found = run_graph(graph, {graph.inputs[0]: tensor})[graph.outputs[0]]
    if more == ("--raw-pixels",):
        assert graph.inputs == ("tensor",)
        witness = called(
            "match",
            tmp_path / "m.onnx",
            "--witness",
            shipped / source.rsplit(".", 1)[0].__add__(".witness"),
            cwd=tmp_path,
        )
        assert witness.returncode == 0, witness.stdout
    else:
        assert np.allclose(found, RuntimeEngine(tmp_path / "m.onnx").run(tensor), atol=1e-4)


def test_a_file_is_validated_once_while_it_does_not_change(shipped, tmp_path, monkeypatch):
    path = tmp_path / "m.onnx"
    path.write_bytes((shipped / "channel_marks.onnx").read_bytes())
    looked = []
    monkeypatch.setattr("zygal.onnx.read.validate", lambda model, path: looked.append(path))
    for _ in range(3):
        check_artifact(path)
    assert len(looked) == 1
    onnx.save(onnx.load(path), tmp_path / "other.onnx")
    path.write_bytes((tmp_path / "other.onnx").read_bytes())
    check_artifact(path)
    assert len(looked) == 2


@pytest.mark.parametrize(
    "key, value, words",
    [
        ("zygal.labels", "[1, 2]", "must be text"),
        ("zygal.labels", "{}", "not a JSON object"),
        ("zygal.labels", '["a", "a"]', "twice"),
        ("zygal.origin", "[]", "not a JSON object"),
        ("zygal.origin", '{"source": 1}', "source must be text"),
        ("zygal.origin", "{}", "is missing"),
        ("zygal.inlet", "x = [", "TOML"),
        ("zygal.inlet", "zygal_inlet = " + "1" * 5000, "TOML"),
    ],
)
def test_metadata_that_were_edited_are_refused(key, value, words, shipped, tmp_path):
    model = onnx.load(shipped / "channel_marks.onnx")
    for each in model.metadata_props:
        if each.key == key:
            each.value = value
    refused(called("survey", saved(model, tmp_path), cwd=tmp_path), words)
