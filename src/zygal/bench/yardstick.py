"""The yardstick: a matrix multiplication in the same runtime, on as many threads, in the same run.

It says what the machine's arithmetic allows at that moment. And since it does not change from one release of a model to
the next, runs of different days can be compared in multiples of it.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache, partial

import numpy as np

from zygal.engines.session import SessionSettings, open_session

SIDE = 512
MULTIPLY_ADDS = SIDE**3


def yardstick(threads: int) -> Callable[[], object]:
    """One run of it: the product of two float32 matrices [SIDE, SIDE]."""
    session = open_session(_model(), SessionSettings(threads))
    left = np.random.default_rng(0).standard_normal((SIDE, SIDE), np.float32)
    return partial(session.run, None, {"left": left})


@lru_cache(maxsize=1)
def _model() -> bytes:
    from onnx import TensorProto, helper, numpy_helper

    shape = [SIDE, SIDE]
    right = np.random.default_rng(1).standard_normal(shape, np.float32)
    graph = helper.make_graph(
        [helper.make_node("MatMul", ["left", "right"], ["product"])],
        "yardstick",
        [helper.make_tensor_value_info("left", TensorProto.FLOAT, shape)],
        [helper.make_tensor_value_info("product", TensorProto.FLOAT, shape)],
        [numpy_helper.from_array(right, "right")],
    )
    return helper.make_model(graph, opset_imports=[helper.make_opsetid("", 17)], ir_version=8).SerializeToString()
