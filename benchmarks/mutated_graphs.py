"""Graphs of other makers that mutations.py changes: ONNX files with functions, branches, shape arithmetic and 8 bits,
and symbol files with their parameters."""

import io
import json
from pathlib import Path

import numpy as np
from onnx import TensorProto, helper, numpy_helper

SYMBOLS = Path(__file__).parents[1] / "tests" / "data" / "symbols.npz"
SHAPE_OF_SYMBOLS = "4,9,7"
node = helper.make_node


def _model(nodes, opset, held, functions=(), domains=()):
    given = helper.make_tensor_value_info("x", TensorProto.FLOAT, ["N", 3, 8, 8])
    made = helper.make_tensor_value_info("y", TensorProto.FLOAT, ["N", 10])
    weights = [numpy_helper.from_array(np.asarray(array), name) for name, array in held.items()]
    imports = [helper.make_opsetid("", opset), *(helper.make_opsetid(each, 1) for each in domains)]
    graph = helper.make_graph(nodes, "g", [given], [made], weights)
    return helper.make_model(graph, opset_imports=imports, ir_version=8, functions=functions).SerializeToString()


def foreign():
    """The bytes of several small files."""
    rng = np.random.default_rng(0)
    weights = {"w": rng.standard_normal((10, 3, 3, 3)).astype(np.float32)}
    end = [node("GlobalAveragePool", ["f"], ["p"]), node("Flatten", ["p"], ["y"])]
    imports = [helper.make_opsetid("", 17)]
    bent = helper.make_function("own", "Bent", ["a"], ["b"], [node("Mul", ["a", "a"], ["b"])], imports)
    branches = {
        f"{name}_branch": helper.make_graph(
            [node("Relu", ["c"], [name])], name, [], [helper.make_tensor_value_info(name, TensorProto.FLOAT, None)]
        )
        for name in ("then", "else")
    }
    sizes = {"zero": np.array(0), "rest": np.array([-1]), "axis": np.array([0])}
    stored = {
        "xs": np.float32(0.02),
        "ys": np.float32(0.05),
        "ws": np.full(10, 0.01, np.float32),
        "z": np.uint8(128),
        "wz": np.zeros(10, np.int8),
        "w": rng.integers(-100, 100, (10, 3, 3, 3)).astype(np.int8),
    }
    return [
        _model(
            [
                node("Conv", ["x", "w"], ["c"], "stem", auto_pad="SAME_UPPER"),
                node("If", ["yes"], ["i"], **branches),
                node("Bent", ["i"], ["f"], "bent", domain="own"),
                *end,
            ],
            17,
            {**weights, "yes": np.array(True)},
            [bent],
            ["own"],
        ),
        _model(
            [
                node("Conv", ["x", "w"], ["c"], "stem"),
                node("GlobalAveragePool", ["c"], ["g"]),
                node("Shape", ["g"], ["s"]),
                node("Gather", ["s", "zero"], ["n"]),
                node("Unsqueeze", ["n", "axis"], ["n1"]),
                node("Concat", ["n1", "rest"], ["to"], axis=0),
                node("Reshape", ["g", "to"], ["r"]),
                node("Softmax", ["r"], ["y"]),
            ],
            13,
            {**weights, **sizes},
        ),
        _model(
            [
                node("QuantizeLinear", ["x", "xs", "z"], ["q"]),
                node("QLinearConv", ["q", "xs", "z", "w", "ws", "wz", "ys", "z"], ["c"]),
                node("DequantizeLinear", ["c", "ys", "z"], ["f"]),
                *end,
            ],
            13,
            stored,
        ),
    ]


def symbols(chance):
    """The files of one recorded case: a symbol and its parameters, by their names."""
    with np.load(io.BytesIO(SYMBOLS.read_bytes())) as file:
        names = sorted({each.partition("/")[0] for each in file.files} - {"images"})
        name = chance.choice(["a network", "several labels", *names])
        return {
            "net-symbol.json": json.dumps(json.loads(file[f"{name}/symbol"].tobytes())).encode(),
            "net-0000.params": file[f"{name}/parameters"].tobytes(),
        }
