"""ONNX files of anyone's as sources: judged by the runtime on the file as it came, and by the standard's own cases."""

import json
import warnings
from pathlib import Path

import numpy as np
import onnx
import onnxruntime
import pytest
from conftest import called, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from onnx import TensorProto, helper, numpy_helper

from zygal.artifact.formats import read_artifact
from zygal.classifier.scores import scores_by_operators
from zygal.engines.graph import GraphEngine
from zygal.errors import ArtifactError, SourceError, ZygalError
from zygal.graph import Batch
from zygal.graph.reference import run_graph
from zygal.sources import Reading, read_source
from zygal.sources.onnx.translate import artifact_graph, graph_of_model

FLOAT, INT64 = TensorProto.FLOAT, TensorProto.INT64
node = helper.make_node
RNG = np.random.default_rng(0)


def weights(*shape):
    return RNG.standard_normal(shape).astype(np.float32)


def constant(name, array):
    return node("Constant", [], [name], value=numpy_helper.from_array(np.asarray(array), name))


def model_of(nodes, opset, held=(), shape=("N", 3, 8, 8), dtype=FLOAT, output=None, **more):
    """A model from x to y. held: weights by name."""
    graph = helper.make_graph(
        nodes,
        "g",
        [helper.make_tensor_value_info("x", dtype, shape)],
        [helper.make_tensor_value_info(*output) if output else onnx.ValueInfoProto(name="y")],
        [numpy_helper.from_array(np.asarray(array), name) for name, array in dict(held).items()],
    )
    imports = [helper.make_opsetid("", opset), *(helper.make_opsetid(each, 1) for each in more.pop("domains", ()))]
    return helper.make_model(graph, opset_imports=imports, ir_version=8, **more)


def saved(model, folder, name="other.onnx"):
    onnx.save(model, folder / name)
    return folder / name


def by_runtime(path, x):
    path = path if isinstance(path, bytes) else str(path)
    session = onnxruntime.InferenceSession(path, providers=["CPUExecutionProvider"])
    return session.run(None, {session.get_inputs()[0].name: x})[0]


def check(model, dtype=np.float32, atol=1e-5, counts=(1, 3), loose=1e-4):
    """The graph of a model gives what the runtime gives on the model itself, at two batches; loose: how far the
    operators' own meanings may be from that."""
    graph = graph_of_model(model, "m.onnx")
    engine = GraphEngine(graph)
    shape = graph.types["x"].shape
    for count in counts if isinstance(shape[0], Batch) else (shape[0],):
        x = np.random.default_rng(count).standard_normal((count, *shape[1:]))
        x = x.astype(np.float32).astype(dtype) if np.dtype(dtype).kind == "f" else (abs(x) * 60).astype(dtype)
        right = by_runtime(model.SerializeToString(), x)
        found = engine.run(x)
        assert found.shape == right.shape and found.dtype == right.dtype
        np.testing.assert_allclose(found, right, atol=atol * max(float(np.ptp(right)), 1e-6), rtol=0)
        assert np.allclose(run_graph(graph, {"x": x})[graph.outputs[0]], right, atol=loose, rtol=1e-3)
    return graph


def head(name="f"):
    """From channels to two axes."""
    return [node("GlobalAveragePool", [name], ["pooled"]), node("Flatten", ["pooled"], ["y"])]


def exported(tmp_path):
    """A classifier as other exporters write one: weights as constants in nodes, sizes of -1, the batch taken from the
    shape, pads left to a rule, a softmax spelled out."""
    nodes = [
        constant("w", weights(8, 3, 3, 3)),
        node("Conv", ["x", "w"], ["c"], "stem", auto_pad="SAME_UPPER", strides=[2, 2]),
        node("Relu", ["c"], ["r"], "act"),
        node("GlobalAveragePool", ["r"], ["g"], "pool"),
        node("Shape", ["g"], ["s"]),
        constant("zero", 0),
        node("Gather", ["s", "zero"], ["n"], axis=0),
        node("Unsqueeze", ["n"], ["n1"], axes=[0]),
        constant("rest", [-1]),
        node("Concat", ["n1", "rest"], ["to"], axis=0),
        node("Reshape", ["g", "to"], ["f"], "flat"),
        constant("fw", weights(8, 10)),
        node("MatMul", ["f", "fw"], ["a"], "fc"),
        node("ReduceMax", ["a"], ["most"], axes=[1], keepdims=1),
        node("Sub", ["a", "most"], ["d"]),
        node("Exp", ["d"], ["e"]),
        node("ReduceSum", ["e"], ["t"], axes=[1], keepdims=1),
        node("Div", ["e", "t"], ["y"]),
    ]
    return saved(
        model_of(nodes, 11, shape=(-1, 3, -1, -1), output=("y", FLOAT, ["p2o.DynamicDimension.0", 10])), tmp_path
    )


def test_a_file_as_others_write_it_is_surveyed_converted_and_proven(shipped, tmp_path):
    path, inlet = exported(tmp_path), shipped / "channel_marks.inlet.toml"
    called("survey", path, "--json", "s.json", cwd=tmp_path)
    found = json.loads((tmp_path / "s.json").read_text())
    assert found["parameters"] == 8 * 27 + 80 and found["scores"] == "probabilities"
    assert found["inputs"][0]["shape"] == [None, 3, None, None] and "--shape" in found["cannot_be_converted"]
    shown = called("survey", path, "--shape", "3,64,64", cwd=tmp_path).stdout
    assert "DynamicDimension" not in shown and "yes, every operator is known" in shown
    more = ("--inlet", inlet, "--labels", shipped / "labels.txt")
    done = called("convert", path, "-o", "m.onnx", *more, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    x = weights(3, 3, 64, 64)
    np.testing.assert_allclose(by_runtime(tmp_path / "m.onnx", x), by_runtime(path, x), atol=1e-6)
    short = ("--seconds", "0.2", "--batches", "1", "--threads", "1")
    done = called("bench", "m.onnx", "--compare", path, *short, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    images = shipped / "reference"
    done = called("witness", path, "--images", images, "--inlet", inlet, "-o", "m.witness", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    for artifact in ("m.onnx", path):
        done = called("match", artifact, "--witness", "m.witness", "--images", images, "--inlet", inlet, cwd=tmp_path)
        assert done.returncode == 0, done.stdout + done.stderr


def test_the_runtimes_layers_carry_the_names_of_nodes(shipped, tmp_path):
    from zygal.engines.onnx import OnnxEngine

    engine = OnnxEngine(exported(tmp_path), Reading(image_shape=(3, 16, 16)))
    layers = engine.layer_outputs(weights(2, 3, 16, 16))
    assert [name for name, _, _ in layers][:3] == ["stem", "act", "pool"]
    assert layers[0][2].shape == (2, 8, 8, 8)


def test_a_fixed_batch_is_freed_and_proven_or_kept(tmp_path):
    nodes = [
        node("Relu", ["x"], ["r"]),
        node("Reshape", ["r", "to"], ["f"]),
        node("Gemm", ["f", "w"], ["g"]),
        node("Reshape", ["g", "rows"], ["y"]),
    ]
    held = {"to": np.array([1, 192]), "rows": np.array([1, 10]), "w": weights(192, 10)}
    path = saved(model_of(nodes, 13, held, shape=(1, 3, 8, 8), output=("y", FLOAT, [1, 10])), tmp_path)
    done = called("convert", path, "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode == 0 and "fixed batch of 1" in done.stderr, done.stderr
    x = weights(3, 3, 8, 8)
    right = np.concatenate([by_runtime(path, x[place : place + 1]) for place in range(3)])
    np.testing.assert_allclose(by_runtime(tmp_path / "m.onnx", x), right, atol=1e-5)
    assert called("convert", path, "-o", "kept.onnx", "--keep-batch", cwd=tmp_path).returncode == 0
    assert read_artifact(tmp_path / "kept.onnx").inputs["image"][1][0] == 1


def test_no_memory_is_taken_for_a_batch_that_only_a_damaged_file_has(tmp_path):
    model = model_of(
        [node("Flatten", ["x"], ["y"])], 13, shape=(2**31 - 4, 3, 8, 8), output=("y", FLOAT, [2**31 - 4, 192])
    )
    path = saved(model, tmp_path)
    refused(called("convert", path, "-o", "m.onnx", cwd=tmp_path), "too much to prove")
    assert "was not compared" in called("convert", path, "-o", "m.onnx", "--keep-batch", cwd=tmp_path).stderr


@pytest.mark.parametrize("more", [(), ("--half",), ("--raw-pixels",), ("--opset", "21")], ids=" ".join)
def test_converting_an_artifact_again_gives_the_same_bytes(more, shipped, tmp_path):
    source = shipped / "channel_marks.onnx"
    for name in ("one.onnx", "two.onnx"):
        done = called("convert", source, "-o", name, *more, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        source = tmp_path / name
    assert (tmp_path / "one.onnx").read_bytes() == (tmp_path / "two.onnx").read_bytes()
    first, again = read_artifact(shipped / "channel_marks.onnx").metadata, read_artifact(source).metadata
    assert (again.origin, again.labels, again.inlet) == (first.origin, first.labels, first.inlet)


def test_an_artifact_becomes_a_flatbuffer(shipped, tmp_path):
    done = called("convert", shipped / "channel_marks.onnx", "-o", "m.tflite", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    witness, images = shipped / "channel_marks.witness", shipped / "reference"
    done = called("match", "m.tflite", "--witness", witness, "--images", images, cwd=tmp_path)
    assert done.returncode == 0, done.stdout


# As it is


def test_a_graph_that_cannot_be_read_is_kept_as_it_is(shipped, tmp_path):
    nodes = [
        node("Gelu", ["x"], ["g"], domain="com.microsoft"),
        node("GlobalAveragePool", ["g"], ["image"]),
        node("Flatten", ["image"], ["f"]),
        node("Gemm", ["f", "w"], ["y"]),
    ]
    model = model_of(
        nodes, 17, {"w": weights(3, 10)}, ("N", 3, 64, 64), output=("y", FLOAT, ["N", 10]), domains=["com.microsoft"]
    )
    path = saved(model, tmp_path)
    refused(called("convert", path, "-o", "m.onnx", cwd=tmp_path), "com.microsoft.Gelu")
    more = ("--inlet", shipped / "channel_marks.inlet.toml", "--labels", shipped / "labels.txt", "--as-it-is")
    done = called("convert", path, "-o", "m.onnx", *more, cwd=tmp_path)
    assert done.returncode == 0 and "as it came" in done.stderr and "com.microsoft.Gelu" in done.stderr
    facts = read_artifact(tmp_path / "m.onnx")
    assert (list(facts.inputs), list(facts.outputs), len(facts.metadata.labels)) == (["image"], ["scores"], 10)
    assert facts.metadata.origin.source == "other.onnx"
    x = weights(2, 3, 64, 64)
    assert np.array_equal(by_runtime(tmp_path / "m.onnx", x), by_runtime(path, x))
    for option in ("--half", "--raw-pixels", "--weights-beside", "--keep-batch"):
        refused(called("convert", path, "-o", "n.onnx", *more, option, cwd=tmp_path), option)
    refused(called("convert", path, "-o", "n.tflite", *more, cwd=tmp_path), "another format")
    refused(
        called("convert", shipped / "channel_marks.pt2", "-o", "n.onnx", "--as-it-is", cwd=tmp_path), "leave it out"
    )
    refused(called("convert", path, "-o", "n.onnx", "--as-it-is", "--labels", path.parent / "m.onnx", cwd=tmp_path), "")
    assert not (tmp_path / "n.onnx").exists()


def test_weights_beside_a_file_are_read_and_go_into_it_as_it_is(tmp_path):
    nodes = [node("Flatten", ["x"], ["f"]), node("Gemm", ["f", "w"], ["y"])]
    model = model_of(nodes, 17, {"w": weights(192, 10)}, output=("y", FLOAT, ["N", 10]))
    (tmp_path / "in").mkdir()
    path = tmp_path / "in" / "other.onnx"
    onnx.save(model, path, save_as_external_data=True, location="w.bin", size_threshold=0)
    x = weights(2, 3, 8, 8)
    for more in ((), ("--as-it-is",)):
        done = called("convert", path, "-o", "m.onnx", "--overwrite", *more, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        np.testing.assert_allclose(by_runtime(tmp_path / "m.onnx", x), by_runtime(path, x), atol=1e-5)
    (tmp_path / "in" / "w.bin").write_bytes(b"\0" * 10)
    refused(called("convert", path, "-o", "m.onnx", "--overwrite", cwd=tmp_path), "copy both files again")


# Older forms of operators

OLD = {
    "statistics that are stored": (
        [node("BatchNormalization", ["x", "a", "b", "c", "v"], ["f"], momentum=0.8, spatial=1), *head()],
        7,
        {**{name: weights(3) for name in "abc"}, "v": abs(weights(3)) + 1},
    ),
    "an enlargement by attributes": (
        [node("Upsample", ["x"], ["f"], scales=[1.0, 1.0, 2.0, 3.0], mode="nearest"), *head()],
        7,
        {},
    ),
    "an enlargement by a tensor": (
        [node("Upsample", ["x", "s"], ["y"], mode="linear")],
        9,
        {"s": np.array([1, 1, 1.5, 2], np.float32)},
    ),
    "a dropout": ([node("Dropout", ["x"], ["f", ""], ratio=0.3), *head()], 7, {}),
    "a softmax over all that follows": ([node("Softmax", ["x"], ["y"], axis=1)], 11, {}),
    "a slice by attributes": ([node("Slice", ["x"], ["y"], axes=[2], starts=[1], ends=[-1])], 9, {}),
    "pads by attributes": ([node("Pad", ["x"], ["y"], pads=[0, 0, 1, 2, 0, 0, 0, 1], value=0.5)], 10, {}),
    "limits by attributes": ([node("Clip", ["x"], ["y"], min=-0.5, max=0.25)], 6, {}),
    "a count by an attribute": ([node("TopK", ["x"], ["y", "at"], axis=1, k=2)], 9, {}),
    "a sum and a mean": (
        [
            node("Sum", ["x", "x", "w"], ["s"]),
            node("Mean", ["s", "x"], ["m"]),
            node("Max", ["m"], ["y"]),
        ],
        8,
        {"w": weights(3, 1, 1)},
    ),
    "sizes of 0 and -1": ([node("Reshape", ["x", "s"], ["y"])], 7, {"s": np.array([0, -1, 4])}),
    "a mean by axes": ([node("ReduceMean", ["x"], ["y"], axes=[2, 3], keepdims=0)], 11, {}),
    "axes that are counted from behind": (
        [node("Unsqueeze", ["x"], ["u"], axes=[-1]), node("Squeeze", ["u"], ["y"], axes=[-1])],
        11,
        {},
    ),
    "a size by shape arithmetic": (
        [
            node("Shape", ["x"], ["s"]),
            node("Slice", ["s", "two", "four"], ["hw"]),
            node("Cast", ["hw"], ["wide"], to=FLOAT),
            node("Mul", ["wide", "factor"], ["larger"]),
            node("Floor", ["larger"], ["whole"]),
            node("Cast", ["whole"], ["sizes"], to=INT64),
            node("Slice", ["s", "zero", "two"], ["nc"]),
            node("Concat", ["nc", "sizes"], ["to"], axis=0),
            node("Resize", ["x", "", "", "to"], ["y"], mode="linear", coordinate_transformation_mode="align_corners"),
        ],
        13,
        {"zero": np.array([0]), "two": np.array([2]), "four": np.array([4]), "factor": np.float32(1.75)},
    ),
    "a token repeated for each image": (
        [
            node("Shape", ["x"], ["s"]),
            node("Gather", ["s", "zero"], ["n"]),
            node("Concat", ["n", "minus", "minus"], ["to"], axis=0),
            node("ConstantOfShape", ["three"], ["ones"], value=numpy_helper.from_array(np.array([1]))),
            node("Mul", ["ones", "minus"], ["open"]),
            node("Equal", ["to", "open"], ["left"]),
            node("Where", ["left", "ones", "to"], ["sizes"]),
            node("Expand", ["token", "sizes"], ["tokens"]),
            node("Reshape", ["x", "rows"], ["r"]),
            node("Concat", ["tokens", "r"], ["y"], axis=1),
        ],
        13,
        {
            "zero": np.array([0]),
            "minus": np.array([-1]),
            "three": np.array([3]),
            "token": weights(1, 1, 64),
            "rows": np.array([0, 3, 64]),
        },
    ),
    "a network in 8 bits": (
        [
            node("QuantizeLinear", ["x", "xs", "z"], ["q"]),
            node("QLinearConv", ["q", "xs", "z", "w", "ws", "wz", "ys", "z", "b"], ["c"], pads=[1] * 4),
            node("DequantizeLinear", ["c", "ys", "z"], ["f"]),
            *head(),
        ],
        10,
        {
            "xs": np.float32(0.02),
            "ys": np.float32(0.05),
            "ws": np.full(4, 0.01, np.float32),
            "z": np.uint8(128),
            "wz": np.zeros(4, np.int8),
            "w": RNG.integers(-100, 100, (4, 3, 3, 3)).astype(np.int8),
            "b": RNG.integers(-900, 900, 4).astype(np.int32),
        },
    ),
}


@pytest.mark.parametrize("name", OLD)
def test_older_forms_mean_what_the_runtime_computes(name):
    nodes, opset, held = OLD[name]
    # The runtime's kernels for 8 bits round halves of a step in their own way.
    check(model_of(nodes, opset, held), loose=0.05 if "8 bits" in name else 1e-4)


def test_products_of_whole_numbers_are_those_of_one_image():
    nodes = [
        node("Flatten", ["x"], ["f"]),
        node("DynamicQuantizeLinear", ["f"], ["q", "s", "z"]),
        node("MatMulInteger", ["q", "w", "z"], ["i"]),
        node("Cast", ["i"], ["c"], to=FLOAT),
        node("Mul", ["c", "s"], ["y"]),
    ]
    held = {"w": RNG.integers(-100, 100, (192, 5)).astype(np.int8)}
    check(model_of(nodes, 11, held, shape=(1, 3, 8, 8)))
    with pytest.raises(SourceError, match="depend on the others"):
        graph_of_model(model_of(nodes, 11, held), "m.onnx")


def test_statistics_of_each_element_before_opset_9():
    held = {name: weights(3, 8, 8) for name in "abc"} | {"v": abs(weights(3, 8, 8)) + 1}
    alone = node("BatchNormalization", ["x", "a", "b", "c", "v"], ["y"], spatial=0, epsilon=0.01)
    x = weights(2, 3, 8, 8)
    right = (x - held["c"]) / np.sqrt(held["v"] + 0.01) * held["a"] + held["b"]
    graph = graph_of_model(model_of([alone], 7, held), "m.onnx")
    np.testing.assert_allclose(run_graph(graph, {"x": x})["y"], right, atol=1e-5)


def test_initialisers_may_be_inputs_and_inputs_of_other_dtypes_are_taken():
    model = model_of([node("Mul", ["x", "w"], ["y"])], 8, {"w": weights(3, 1, 1)})
    model.graph.input.append(helper.make_tensor_value_info("w", FLOAT, [3, 1, 1]))
    assert check(model).inputs == ("x",)
    nodes = [node("Cast", ["x"], ["f"], to=FLOAT), *head()]
    check(model_of(nodes, 13, dtype=TensorProto.UINT8), np.uint8)
    nodes = [node("Flatten", ["x"], ["f"]), node("MatMul", ["f", "w"], ["y"])]
    check(model_of(nodes, 13, {"w": weights(192, 4).astype(np.float64)}, dtype=TensorProto.DOUBLE), np.float64)
    half = {"w": weights(192, 4).astype(np.float16)}
    check(model_of(nodes, 13, half, dtype=TensorProto.FLOAT16), np.float16, atol=2e-3)


def test_functions_are_entered_and_known_branches_taken():
    body = [
        node("Mul", ["a", "a"], ["square"]),
        node("LeakyRelu", ["square"], ["b"]),
    ]
    body[1].attribute.append(onnx.AttributeProto(name="alpha", type=onnx.AttributeProto.FLOAT, ref_attr_name="slope"))
    imports = [helper.make_opsetid("", 17)]
    function = helper.make_function("own", "Bent", ["a"], ["b"], body, imports, ["slope"])
    branches = {
        f"{name}_branch": helper.make_graph(
            [node(operator, ["g"], [name])], name, [], [helper.make_tensor_value_info(name, FLOAT, None)]
        )
        for name, operator in (("then", "Relu"), ("else", "Neg"))
    }
    nodes = [
        node("Bent", ["x"], ["first"], domain="own", slope=0.3),
        node("Sub", ["x", "first"], ["d"]),
        node("Bent", ["d"], ["g"], domain="own", slope=0.1),
        node("If", ["yes"], ["y"], **branches),
    ]
    model = model_of(nodes, 17, {"yes": np.array(False)}, functions=[function], domains=["own"])
    check(model)
    del model.graph.initializer[:]
    for place, each in enumerate((constant("one", [1, 3, 8, 8]), node("Shape", ["x"], ["s"]))):
        model.graph.node.insert(place, each)
    model.graph.node.insert(2, node("Equal", ["s", "one"], ["alike"]))
    model.graph.node.insert(3, node("Slice", ["alike", "from", "to"], ["yes"]))
    model.graph.initializer.extend(
        numpy_helper.from_array(np.array([at]), each) for at, each in enumerate(("from", "to"))
    )
    with pytest.raises(SourceError, match="decides by the image"):
        graph_of_model(model, "m.onnx")


def test_a_branch_inside_a_function_has_the_functions_attributes():
    bent = node("LeakyRelu", ["a"], ["t"])
    bent.attribute.append(onnx.AttributeProto(name="alpha", type=onnx.AttributeProto.FLOAT, ref_attr_name="slope"))
    made = [helper.make_tensor_value_info("t", FLOAT, None)]
    taken, other = (helper.make_graph([each], "b", [], made) for each in (bent, node("Neg", ["a"], ["t"])))
    body = [constant("yes", True), node("If", ["yes"], ["b"], then_branch=taken, else_branch=other)]
    function = helper.make_function("own", "Bent", ["a"], ["b"], body, [helper.make_opsetid("", 17)], ["slope"])
    model = model_of([node("Bent", ["x"], ["y"], domain="own", slope=0.7)], 17, functions=[function], domains=["own"])
    x = -np.ones((1, 3, 8, 8), np.float32)
    assert np.allclose(run_graph(graph_of_model(model, "m.onnx"), {"x": x})["y"], -0.7)


def test_sizes_as_truth_values_are_true_or_false():
    held = {"three": np.array([3]), "true": np.array([True]), "a": np.array([7]), "b": np.array([-1])}
    nodes = [
        node("Cast", ["three"], ["t"], to=TensorProto.BOOL),
        node("Equal", ["t", "true"], ["same"]),
        node("Where", ["same", "b", "a"], ["last"]),
        node("Concat", ["zero", "last"], ["to"], axis=0),
        node("Reshape", ["x", "to"], ["y"]),
    ]
    check(model_of(nodes, 17, {**held, "zero": np.array([0])}))


def test_functions_do_not_call_each_other_for_ever():
    imports = [helper.make_opsetid("", 17), helper.make_opsetid("own", 1)]
    function = helper.make_function("own", "Loop", ["a"], ["b"], [node("Loop", ["a"], ["b"], domain="own")], imports)
    nodes = [node("Loop", ["x"], ["y"], domain="own")]
    with pytest.raises(SourceError, match="deep"):
        graph_of_model(model_of(nodes, 17, functions=[function], domains=["own"]), "m.onnx")


def test_operators_that_the_standard_defines_by_others_are_expanded():
    for operator, opset, more in (("Celu", 12, {"alpha": 0.7}), ("ThresholdedRelu", 10, {}), ("Mish", 18, {})):
        check(model_of([node(operator, ["x"], ["y"], **more)], opset))
    held = {"a": weights(3), "b": weights(3)}
    check(model_of([node("GroupNormalization", ["x", "a", "b"], ["y"], num_groups=3)], 21, held))


# Refusals

REFUSED = {
    "an open size behind a fixed batch": ({"shape": (3, "N", 8, 8)}, [], 17, "another place than axis 0"),
    "open sizes of the image": ({"shape": ("N", 3, "H", "W")}, [], 17, "--shape"),
    "text": ({"dtype": TensorProto.STRING}, [], 17, "as object"),
    "an operator of the runtime": (
        {"domains": ["com.microsoft"]},
        [node("FusedMatMul", ["x", "x"], ["y"], domain="com.microsoft")],
        17,
        "com.microsoft.FusedMatMul",
    ),
    "what training makes": (
        {},
        [node("Dropout", ["x", "", "on"], ["y"])],
        13,
        "training mode",
    ),
    "places of the largest": (
        {},
        [
            node("MaxPool", ["x"], ["p", "at"], kernel_shape=[2, 2]),
            node("Cast", ["at"], ["y"], to=1),
        ],
        12,
        "places",
    ),
    "an operator that the standard gave up": (
        {},
        [node("Upsample", ["x", "w"], ["y"])],
        11,
        "unknown operator.*Upsample",
    ),
    "an attribute of another version": ({}, [node("Relu", ["x"], ["y"], alpha=0.1)], 17, "alpha"),
    "a loop": (
        {},
        [
            node(
                "Loop",
                ["", "on"],
                ["y"],
                body=helper.make_graph(
                    [node("Identity", ["i"], ["c"]), node("Cast", ["c"], ["o"], to=1)],
                    "b",
                    [helper.make_tensor_value_info("n", INT64, []), helper.make_tensor_value_info("i", 9, [])],
                    [helper.make_tensor_value_info("c", 9, []), helper.make_tensor_value_info("o", FLOAT, [])],
                ),
            )
        ],
        17,
        "Loop",
    ),
    "sequences of several lengths": (
        {"shape": (4, 2, 3)},
        [node("LSTM", ["x", "w", "r", "", "lengths"], ["y"], hidden_size=2)],
        14,
        "lengths",
    ),
}


@pytest.mark.parametrize("name", REFUSED)
def test_what_cannot_be_read_is_refused_by_name(name):
    more, nodes, opset, words = REFUSED[name]
    held = {"on": np.array(True), "w": weights(1, 8, 3), "r": weights(1, 8, 2), "lengths": np.array([4, 3], np.int32)}
    model = model_of(nodes or [node("Relu", ["x"], ["y"])], opset, held, **more)
    with pytest.raises((SourceError, ArtifactError), match=words):
        graph_of_model(model, "m.onnx")


def test_several_inputs_are_refused(tmp_path):
    model = model_of([node("Add", ["x", "z"], ["y"])], 17)
    model.graph.input.append(helper.make_tensor_value_info("z", FLOAT, ["N", 3, 8, 8]))
    path = saved(model, tmp_path)
    refused(called("convert", path, "-o", "m.onnx", cwd=tmp_path), "2 inputs")
    refused(called("convert", path, "-o", "m.onnx", "--signature", "a", cwd=tmp_path), "--signature")


@pytest.mark.parametrize(
    "operators, kind",
    [
        (["Gemm"], "logits"),
        (["Div", "Exp", "Sub"], "probabilities"),
        (["Reshape", "Div", "Exp"], "probabilities"),
        (["Reciprocal", "Add", "Exp", "Neg"], "independent probabilities"),
        (["Div", "Sqrt"], "not known"),
        (["unknown"], "not known"),
    ],
)
def test_scores_are_named_by_what_makes_them_or_not_known(operators, kind):
    assert scores_by_operators(operators) == kind


# Random chains of operators

STEPS = {
    "Relu": lambda o, i, s: ([node("Relu", [i], [o])], {}),
    "Clip": lambda o, i, s: (
        ([node("Clip", [i], [o], min=-1.0, max=0.9)], {})
        if s < 11
        else (
            [node("Clip", [i, f"{o}a", f"{o}b"], [o])],
            {f"{o}a": np.float32(-1), f"{o}b": np.float32(0.9)},
        )
    ),
    "Conv": lambda o, i, s: (
        [node("Conv", [i, f"{o}w"], [o], auto_pad="SAME_LOWER")],
        {f"{o}w": weights(3, 3, 2, 3) / 4},
    ),
    "AveragePool": lambda o, i, s: (
        [node("AveragePool", [i], [o], kernel_shape=[3, 3], pads=[1] * 4, count_include_pad=1)],
        {},
    ),
    "Softmax": lambda o, i, s: ([node("Softmax", [i], [o], axis=3)], {}),
    "Squeeze": lambda o, i, s: (
        (
            [
                node("Unsqueeze", [i], [f"{o}u"], axes=[1]),
                node("Squeeze", [f"{o}u"], [o], axes=[1]),
            ],
            {},
        )
        if s < 13
        else (
            [
                node("Unsqueeze", [i, f"{o}a"], [f"{o}u"]),
                node("Squeeze", [f"{o}u", f"{o}a"], [o]),
            ],
            {f"{o}a": np.array([1])},
        )
    ),
    "Split": lambda o, i, s: (
        [
            node("Split", [i], [f"{o}1", f"{o}2"], axis=2, **({"num_outputs": 2} if s >= 18 else {})),
            node("Concat", [f"{o}2", f"{o}1"], [o], axis=2),
        ],
        {},
    ),
    "Sum": lambda o, i, s: (
        (
            [
                node("ReduceSum", [i], [f"{o}s"], axes=[1], keepdims=1),
                node("Sub", [i, f"{o}s"], [o]),
            ],
            {},
        )
        if s < 13
        else (
            [
                node("ReduceSum", [i, f"{o}a"], [f"{o}s"], keepdims=1),
                node("Sub", [i, f"{o}s"], [o]),
            ],
            {f"{o}a": np.array([1])},
        )
    ),
    "Reshape": lambda o, i, s: (
        [
            node("Shape", [i], [f"{o}s"]),
            node("Reshape", [i, f"{o}r"], [f"{o}f"]),
            node("Reshape", [f"{o}f", f"{o}s"], [o]),
        ],
        {f"{o}r": np.array([0, -1])},
    ),
    "Transpose": lambda o, i, s: ([node("Transpose", [i], [o], perm=[0, 1, 3, 2])], {}),
    "Dropout": lambda o, i, s: ([node("Dropout", [i], [o])], {}),
}


@settings(max_examples=40, deadline=None)
@given(st.lists(st.sampled_from(sorted(STEPS)), min_size=1, max_size=6), st.sampled_from([7, 9, 11, 13, 17, 21]))
def test_chains_of_operators_in_every_opset(names, opset):
    nodes, held, last = [], {}, "x"
    for place, name in enumerate(names):
        made, more = STEPS[name](f"v{place}", last, opset)
        nodes, held, last = nodes + made, held | more, f"v{place}"
    nodes.append(node("Identity", [last], ["y"]))
    check(model_of(nodes, opset, held))


# The standard's own cases


def outcome(name, model, data_sets):
    """right, refused or what is wrong, for a case of the standard."""
    held = {tensor.name for tensor in model.graph.initializer}
    names = [info.name for info in model.graph.input if info.name not in held]
    for inputs, wanted in data_sets:
        if not all(isinstance(each, (np.ndarray, np.generic)) for each in (*inputs, *wanted)):
            return "refused"
        for others_are_constants in (True, False):
            changed = onnx.ModelProto.FromString(model.SerializeToString())
            for at, (each, array) in enumerate(zip(names, inputs, strict=False)):
                if at or not others_are_constants:
                    changed.graph.initializer.append(numpy_helper.from_array(np.asarray(array), each))
            try:
                graph = graph_of_model(changed, name)
                break
            except ZygalError:
                continue
        else:
            return "refused"
        found = run_graph(
            graph, {each: np.asarray(a) for each, a in zip(names, inputs, strict=False) if each in graph.inputs}
        )
        for array, right in zip(found.values(), wanted, strict=True):
            right = np.asarray(right)
            if array.shape != right.shape or array.dtype != right.dtype:
                return f"{array.dtype} {array.shape} instead of {right.dtype} {right.shape}"
            atol = 1e-3 if right.dtype == np.float16 else 1e-5
            if not np.allclose(array, right, rtol=1e-3, atol=atol, equal_nan=True):
                return "other numbers"
    return "right"


def verdicts(cases):
    found = {name: outcome(name, model, sets) for name, model, sets in cases}
    wrong = {name: each for name, each in found.items() if each not in ("right", "refused")}
    return sum(each == "right" for each in found.values()), wrong


def test_models_of_old_exporters_that_the_standard_ships():
    base = Path(onnx.__file__).parent / "backend" / "test" / "data"

    def tensors(folder, side):
        files = sorted(folder.glob(f"{side}_*.pb"), key=lambda file: int(file.stem.rpartition("_")[2]))
        return [numpy_helper.to_array(onnx.TensorProto.FromString(file.read_bytes())) for file in files]

    paths = [
        path
        for kind in ("pytorch-converted", "pytorch-operator")
        for path in sorted((base / kind).glob("*/model.onnx"))
    ]
    cases = (
        (
            path.parent.name,
            onnx.load(path),
            [[tensors(each, side) for side in ("input", "output")] for each in path.parent.glob("test_data_set*")],
        )
        for path in paths
    )
    right, wrong = verdicts(cases)
    assert not wrong and right >= 70


@pytest.mark.slow
def test_every_case_of_the_standard_is_right_or_refused():
    from onnx.backend.test.case.node import collect_testcases

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # The standard's case generator divides by zero on purpose.
        cases = [(case.name, case.model, case.data_sets) for case in collect_testcases(None) if case.model is not None]
        right, wrong = verdicts(cases)
    assert not wrong and right >= 1100


def test_a_head_in_the_middle_is_not_taken_whatever_the_order_of_nodes(tmp_path):
    nodes = [
        node("Relu", ["x"], ["r"]),
        *[each for each in head("r") if each.op_type != "Flatten"],
        node("Flatten", ["pooled"], ["flat"]),
        node("Gemm", ["flat", "w"], ["y"]),
        node("GlobalAveragePool", ["x"], ["early"]),
        node("Flatten", ["early"], ["middle"]),
        node("Gemm", ["middle", "w"], ["z"]),
    ]
    model = model_of(nodes, 17, {"w": weights(3, 10)}, output=("z", FLOAT, ["N", 10]))
    model.graph.output.append(helper.make_tensor_value_info("y", FLOAT, ["N", 10]))
    with read_source(saved(model, tmp_path)) as source:
        assert source.chosen.name == "y"
    assert read_artifact(tmp_path / "other.onnx").chosen.name == "y"


def test_a_source_says_how_it_is_called_and_what_it_returns(tmp_path):
    nodes = [node("Flatten", ["x"], ["f"]), node("Gemm", ["f", "w"], ["y"])]
    model = model_of(nodes, 17, {"w": weights(192, 10)}, output=("f", FLOAT, ["N", 192]))
    model.graph.output.append(helper.make_tensor_value_info("y", FLOAT, ["N", 10]))
    path = saved(model, tmp_path)
    with read_source(path) as source:
        assert source.chosen.name == "y" and source.output_names == ("f", "y") and source.framework == "ONNX"
    assert artifact_graph(path).outputs == ("f", "y")
