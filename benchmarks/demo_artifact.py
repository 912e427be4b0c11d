"""The demo's artifact in a folder that is removed afterwards, and made slower on purpose."""

import tempfile
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import onnx
from onnx import helper, numpy_helper

from zygal.conversion.convert import convert
from zygal.demo.workspace import write_workspace
from zygal.inlet import read_inlet


@contextmanager
def demo_artifact():
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_workspace(folder)
        inlet = read_inlet(folder / "channel_marks.inlet.toml")
        convert(folder / "channel_marks.pt2", folder / "channel_marks.onnx", inlet)
        yield folder / "channel_marks.onnx"


def with_extra_work(artifact, products, path):
    """The same artifact that multiplies a matrix [128, 128] so often, and adds none of it to the scores."""
    model = onnx.load(artifact)
    (scores,) = model.graph.output
    for node in model.graph.node:
        node.output[:] = ["only_scores" if name == scores.name else name for name in node.output]
    matrix = np.random.default_rng(0).standard_normal((128, 128)).astype(np.float32) / np.float32(128**0.5)
    constants = {"matrix": matrix, "nothing": np.float32(0)}
    model.graph.initializer.extend(
        numpy_helper.from_array(np.asarray(array), name) for name, array in constants.items()
    )
    extra = [
        helper.make_node("ReduceMean", ["only_scores"], ["mean"], keepdims=0),
        helper.make_node("Add", ["matrix", "mean"], ["work_0"]),
    ]
    extra += [helper.make_node("MatMul", [f"work_{n}", "matrix"], [f"work_{n + 1}"]) for n in range(products)]
    extra.append(helper.make_node("ReduceMean", [f"work_{products}"], ["worked"], keepdims=0))
    extra.append(helper.make_node("Mul", ["worked", "nothing"], ["none_of_it"]))
    extra.append(helper.make_node("Add", ["only_scores", "none_of_it"], [scores.name]))
    model.graph.node.extend(extra)
    onnx.checker.check_model(model)
    onnx.save(model, path)
    return path
