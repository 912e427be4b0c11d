"""Each rewrite on a graph that it is made for, and on one that it must leave alone; the reference engine judges."""

import numpy as np
import pytest

from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph

FLOAT = np.dtype("float32")
CHANCE = np.random.default_rng(5)


def draw(*shape, low=-1.0, high=1.0):
    return CHANCE.uniform(low, high, shape).astype(np.float32)


def chain(shape, *nodes):
    """A graph of nodes (operator, constants, attributes), each reading the one before it as its first input."""
    builder = GraphBuilder()
    value = builder.input("x", TensorType(FLOAT, (Batch(), *shape)))
    for place, (operator, constants, attributes) in enumerate(nodes):
        names = [builder.constant(f"c{place}.{number}", array) for number, array in enumerate(constants)]
        value = builder.add(operator, [value, *names], f"v{place}", f"layer{place}", **attributes)
    return builder.finish([value])


def normalization(channels):
    return (
        "BatchNormalization",
        [draw(channels, low=0.5), draw(channels), draw(channels), draw(channels, low=0.2)],
        {},
    )


def convolution(inputs, outputs, group=1, size=3, pads=0, bias=True):
    constants = [draw(outputs, inputs // group, size, size)] + [draw(outputs)] * bias
    return ("Conv", constants, {"pads": [pads] * 4, "group": group})


def linear(inputs, outputs):
    return ("Gemm", [draw(outputs, inputs), draw(outputs)], {"transB": 1})


def number(value):
    return [np.float32(value)]


CASES = {
    "normalisation after convolution": ((4, 8, 8), [convolution(4, 6, bias=False), normalization(6)], ["Conv"]),
    "twice": ((4, 8, 8), [convolution(4, 6), normalization(6), normalization(6)], ["Conv"]),
    "before, in groups": ((4, 8, 8), [normalization(4), convolution(4, 6, group=2)], ["Conv"]),
    "before, but padded": ((4, 8, 8), [normalization(4), convolution(4, 6, pads=1)], ["BatchNormalization", "Conv"]),
    "around a product": ((7,), [normalization(7), linear(7, 5), normalization(5)], ["Gemm"]),
    "padding": ((4, 8, 8), [("Pad", [], {"pads": [0, 0, 1, 2, 0, 0, 0, 3]}), convolution(4, 6, pads=1)], ["Conv"]),
    "padding with ones": (
        (4, 8, 8),
        [("Pad", [], {"pads": [0, 0, 1, 1, 0, 0, 1, 1], "value": 1.0}), convolution(4, 6)],
        ["Pad", "Conv"],
    ),
    "padded channels": (
        (3, 8, 8),
        [("Pad", [], {"pads": [0, 0, 0, 0, 0, 1, 0, 0]}), convolution(4, 6)],
        ["Pad", "Conv"],
    ),
    "transposes": (
        (3, 4, 5),
        [("Transpose", [], {"perm": [0, 2, 3, 1]}), ("Transpose", [], {"perm": [0, 3, 2, 1]})],
        ["Transpose"],
    ),
    "transposes that undo each other": (
        (3, 4, 5),
        [("Transpose", [], {"perm": [0, 2, 3, 1]}), ("Transpose", [], {"perm": [0, 3, 1, 2]}), ("Relu", [], {})],
        ["Relu"],
    ),
    "reshapes": ((4, 6), [("Reshape", [], {"shape": [-1, 24]}), ("Reshape", [], {"shape": [-1, 3, 8]})], ["Reshape"]),
    "a reshape that keeps a size": (
        (4, 6),
        [("Reshape", [], {"shape": [-1, 24]}), ("Reshape", [], {"shape": [0, 3, 8]})],
        ["Reshape", "Reshape"],
    ),
    "nothing added": (
        (5,),
        [("Add", number(0), {}), ("Mul", number(1), {}), ("Relu", [], {}), ("Sub", number(0), {})],
        ["Relu"],
    ),
    "something added": ((5,), [("Add", number(0.5), {}), ("Div", number(2), {})], ["Add", "Div"]),
    "hard sigmoid": (
        (5,),
        [("Add", number(3), {}), ("Clip", [], {"min": 0.0, "max": 6.0}), ("Div", number(6), {})],
        ["HardSigmoid"],
    ),
    "not quite a hard sigmoid": (
        (5,),
        [("Add", number(3), {}), ("Clip", [], {"min": 0.0, "max": 6.0}), ("Div", number(5), {})],
        ["Add", "Clip", "Div"],
    ),
}


@pytest.mark.parametrize("shape, nodes, left", CASES.values(), ids=CASES)
def test_rewrites(shape, nodes, left):
    graph = chain(shape, *nodes)
    x = draw(3, *shape, low=-4, high=4)
    wanted = run_graph(graph, {"x": x})[graph.outputs[0]]
    better = run_passes(graph)
    assert [node.operator for node in better.nodes] == left
    np.testing.assert_allclose(run_graph(better, {"x": x})[better.outputs[0]], wanted, rtol=2e-5, atol=2e-5)
    assert set(better.constants) == {name for node in better.nodes for name in node.inputs} & set(better.constants)


def test_what_others_read_is_kept_and_what_is_the_same_is_shared():
    builder = GraphBuilder()
    builder.input("x", TensorType(FLOAT, (Batch(), 4, 8, 8)))
    weight, factors = draw(6, 4, 3, 3), [draw(6, low=0.5) for _ in range(4)]
    builder.constant("w", weight)
    for place, array in enumerate(factors):
        builder.constant(f"f{place}", array)
        builder.constant(f"again{place}", array.copy())
    builder.add("Conv", ["x", "w"], "a", "conv")
    builder.add("BatchNormalization", ["a", "f0", "f1", "f2", "f3"], "b", "norm")
    builder.add("BatchNormalization", ["a", "again0", "again1", "again2", "again3"], "c", "norm again")
    builder.add("Add", ["b", "c"], "d")
    builder.add("Add", ["d", "a"], "e")
    graph = builder.finish(["e"])
    better = run_passes(graph)
    x = draw(2, 4, 8, 8)
    assert [node.operator for node in better.nodes] == ["Conv", "BatchNormalization", "Add", "Add"]
    np.testing.assert_allclose(run_graph(better, {"x": x})["e"], run_graph(graph, {"x": x})["e"], rtol=1e-6)
