"""Two works that do not change from one release of a model to the next, run on the same runtime in the same run.

The matrix product says what the machine's arithmetic allows at that moment. The reference workload is a small
convolutional network: what slows a classifier down slows it down by about as much, so that runs of different days can
be compared in multiples of its time.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache, partial

import numpy as np

from zygal.engines.session import SessionSettings, open_session

SIDE = 512
MULTIPLY_ADDS = SIDE**3
CHANNELS, PICTURE, BATCH, BLOCKS = 48, 28, 4, 3


def matrix_product(threads: int) -> Callable[[], object]:
    """One product of two float32 matrices [SIDE, SIDE], MULTIPLY_ADDS."""
    session = open_session(_product(), SessionSettings(threads))
    return partial(session.run, None, {"left": _numbers(0, SIDE, SIDE)})


def reference_workload(threads: int) -> Callable[[], object]:
    """One run of a network of dense, depthwise and pointwise convolutions on pictures [BATCH, 3, PICTURE, PICTURE]."""
    session = open_session(_network(), SessionSettings(threads))
    return partial(session.run, None, {"pictures": _numbers(0, BATCH, 3, PICTURE, PICTURE)})


def _numbers(seed: int, *shape: int) -> np.ndarray:
    return np.random.default_rng(seed).standard_normal(shape, np.float32)


@lru_cache(maxsize=1)
def _product() -> bytes:
    from onnx import helper

    return _message(
        [helper.make_node("MatMul", ["left", "right"], ["product"])],
        {"left": (SIDE, SIDE)},
        "product",
        {"right": _numbers(1, SIDE, SIDE)},
    )


@lru_cache(maxsize=1)
def _network() -> bytes:
    from onnx import helper

    nodes, weights = [], {}

    def convolved(value: str, into: int, of: int, side: int, groups: int = 1, activated: bool = True) -> str:
        index = len(weights)
        weights[f"weight_{index}"] = _numbers(index, into, of // groups, side, side) / np.float32(
            (of / groups) ** 0.5 * side
        )
        ways = {"kernel_shape": [side, side], "pads": [side // 2] * 4, "group": groups}
        nodes.append(helper.make_node("Conv", [value, f"weight_{index}"], [f"sum_{index}"], **ways))
        if not activated:
            return f"sum_{index}"
        nodes.append(helper.make_node("Relu", [f"sum_{index}"], [f"value_{index}"]))
        return f"value_{index}"

    value = convolved("pictures", CHANNELS, 3, 3)
    for block in range(BLOCKS):
        wide = convolved(convolved(value, CHANNELS, CHANNELS, 3), 4 * CHANNELS, CHANNELS, 1)
        wide = convolved(wide, 4 * CHANNELS, 4 * CHANNELS, 3, groups=4 * CHANNELS)
        narrow = convolved(wide, CHANNELS, 4 * CHANNELS, 1, activated=False)
        nodes.append(helper.make_node("Add", [value, narrow], [f"block_{block}"]))
        value = f"block_{block}"
    nodes.append(helper.make_node("GlobalAveragePool", [value], ["means"]))
    return _message(nodes, {"pictures": (BATCH, 3, PICTURE, PICTURE)}, "means", weights)


def _message(nodes: list, fed: dict[str, tuple[int, ...]], result: str, constants: dict[str, np.ndarray]) -> bytes:
    from onnx import TensorProto, helper, numpy_helper

    graph = helper.make_graph(
        nodes,
        "reference workload",
        [helper.make_tensor_value_info(name, TensorProto.FLOAT, shape) for name, shape in fed.items()],
        [helper.make_tensor_value_info(result, TensorProto.FLOAT, None)],
        [numpy_helper.from_array(array, name) for name, array in constants.items()],
    )
    return helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8).SerializeToString()
