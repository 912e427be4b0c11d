"""How many multiply-adds an artifact does for one image, node by node."""

from __future__ import annotations

from dataclasses import dataclass
from math import prod
from pathlib import Path

import numpy as np

from zygal.artifact.formats import MOBILE, format_of
from zygal.bench.feeds import Feeds
from zygal.classifier.metadata import Metadata
from zygal.graph.arithmetic import COUNTS
from zygal.inlet.sizes import tensor_shape
from zygal.onnx.read import load_model


@dataclass(frozen=True)
class Arithmetic:
    """by_node: multiply-adds for one image, by the node's place in the artifact. unknown: how many nodes that
    multiply have shapes that are not known; the count is then a lower bound."""

    by_node: dict[int, int]
    unknown: int

    @property
    def total(self) -> int:
        """Multiply-adds of all nodes."""
        return sum(self.by_node.values())


def multiply_adds(artifact: str | Path, feeds: Feeds) -> Arithmetic:
    """Counts convolutions and matrix products, which is where an image classifier's arithmetic is.

    By the rules of `graph.arithmetic`.
    """
    if format_of(artifact) is MOBILE:
        return _of_flatbuffer(artifact)
    model = load_model(artifact)
    shapes = _shapes(model, feeds)
    by_node, unknown = {}, 0
    for index, node in enumerate(model.graph.node):
        count = COUNTS.get(node.op_type)
        if count is None:
            continue
        try:
            whole = count(_attributes(node), *(shapes[name] for name in (*node.input[:2], node.output[0])))
            by_node[index] = whole // (feeds.batch_size or 1)
        except (KeyError, IndexError):
            unknown += 1
    return Arithmetic(by_node, unknown)


def _attributes(node) -> dict[str, int | str]:
    """Those of a node that its arithmetic depends on."""
    return {
        each.name: each.s.decode() if each.name == "equation" else each.i
        for each in node.attribute
        if each.name in ("equation", "transA")
    }


def _of_flatbuffer(artifact: str | Path) -> Arithmetic:
    """The same of a mobile flatbuffer, whose tensors state their sizes at the batch that it was made with."""
    from zygal.mobile.read import read_model

    model, by_node = read_model(artifact), {}
    batch = max(model.tensors[model.inputs[0]].shape[:1] or (1,))
    for index, operator in enumerate(model.operators):
        if operator.name not in _FLATBUFFER_COUNTS:
            continue
        # A transposed convolution has the wanted sizes before its weights and its image.
        left, right = (
            model.tensors[number].shape
            for number in (operator.inputs[1:3] if operator.name == "TRANSPOSE_CONV" else operator.inputs[:2])
        )
        by_node[index] = _FLATBUFFER_COUNTS[operator.name](
            left, right, model.tensors[operator.outputs[0]].shape
        ) // max(batch, 1)
    return Arithmetic(by_node, 0)


_FLATBUFFER_COUNTS = {
    "CONV_2D": lambda image, kernel, result: prod(result) * prod(kernel[1:]),
    "CONV_3D": lambda image, kernel, result: prod(result) * prod(kernel[:-1]),
    "DEPTHWISE_CONV_2D": lambda image, kernel, result: prod(result) * prod(kernel[1:3]),
    "TRANSPOSE_CONV": lambda kernel, image, result: prod(image) * prod(kernel[:-1]),
    "FULLY_CONNECTED": lambda image, kernel, result: prod(result) * kernel[-1],
    "BATCH_MATMUL": lambda left, right, result: (
        prod(result)
        * (prod(left) * prod(right[-2:]) // max(prod(right[-2:]) * result[-2] * max(prod(left[:-2]), 1), 1))
    ),
}


def _shapes(model, feeds: Feeds) -> dict[str, tuple[int, ...]]:
    """Of all values whose sizes are known once the smallest batch is fed."""
    import onnx

    given = feeds.shapes_of(feeds.batch_size or 1)
    for info in model.graph.input:
        if info.name in given:
            del info.type.tensor_type.shape.dim[:]
            for size in given[info.name][0]:
                info.type.tensor_type.shape.dim.add().dim_value = size
    for info in model.graph.output:
        # A name of an open size would contradict the number that it has now.
        info.type.tensor_type.ClearField("shape")
    del model.graph.value_info[:]
    _declare_tensor(model, feeds.batch_size or 1)
    try:
        inferred = onnx.shape_inference.infer_shapes(model, data_prop=True).graph
    except Exception:  # The library raises what it likes on graphs that it cannot follow; nothing is known then.
        return {}
    shapes = {tensor.name: tuple(tensor.dims) for tensor in model.graph.initializer}
    for info in (*inferred.input, *inferred.value_info, *inferred.output):
        sizes = info.type.tensor_type.shape.dim
        if info.type.tensor_type.HasField("shape") and all(size.HasField("dim_value") for size in sizes):
            shapes[info.name] = tuple(size.dim_value for size in sizes)
    return shapes


def _declare_tensor(model, batch: int) -> None:
    """States what an inlet inside the artifact makes: its size depends on numbers that only a run knows."""
    import onnx

    metadata = Metadata.from_properties({each.key: each.value for each in model.metadata_props}, "the artifact")
    shape = tensor_shape(metadata.inlet) if metadata.tensor and metadata.inlet else None
    if shape is not None:
        kind = onnx.helper.np_dtype_to_tensor_dtype(np.dtype(metadata.inlet.tensor.dtype))
        model.graph.value_info.append(onnx.helper.make_tensor_value_info(metadata.tensor, kind, [batch, *shape]))
