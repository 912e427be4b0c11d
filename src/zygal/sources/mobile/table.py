"""The operators of flatbuffers: most by the table of graph definitions under other names, the others here."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from zygal.mobile.model import Quantization
from zygal.mobile.schema import ACTIVATIONS, DTYPES
from zygal.sources.layouts import View
from zygal.sources.layouts.arranging import flattened, joined
from zygal.sources.mobile.site import MobileSite
from zygal.sources.recipes import activations
from zygal.sources.tensorflow.messages import DTYPES as GRAPH_DTYPES
from zygal.sources.tensorflow.site import OPERATORS as SHARED
from zygal.sources.tensorflow.site import Value
from zygal.sources.tensorflow.table_shaping import reshaped

Handler = Callable[[MobileSite], "Value | list[Value]"]
OWN: dict[str, Handler] = {}
"""Operators whose settings or inputs are too different to share a function."""
WITHOUT_MEANING = frozenset(
    ("asymmetric_quantize_inputs", "quantized_bias_type", "pot_scale_int16", "values_count", "in_data_type")
)
"""Settings that say how a runtime gets at the numbers, or what the tensors say too."""
_GRAPH_NUMBERS = {name: number for number, name in GRAPH_DTYPES.items()}


def _dtype(number: Any) -> int:
    return _GRAPH_NUMBERS[DTYPES[int(number)]]


@dataclass(frozen=True)
class Row:
    """shared: the name in the shared table. settings: for each of its settings the schema's name of it. dtypes: those
    that are dtypes. fixed: settings that follow from the operator itself."""

    shared: str
    settings: Mapping[str, str] = field(default_factory=dict)
    dtypes: tuple[str, ...] = ()
    fixed: Mapping[str, Any] = field(default_factory=dict)


_KEEPS = {"keep_dims": "keep_dims"}
_GRID = {"align_corners": "align_corners", "half_pixel_centers": "half_pixel_centers"}
_BLOCK = {"block_size": "block_size"}
_MASKS = {f"{name}_mask": f"{name}_mask" for name in ("begin", "end", "ellipsis", "new_axis", "shrink_axis")}
ROWS: dict[str, Row] = {
    "ABS": Row("Abs"), "ADD": Row("AddV2"), "ADD_N": Row("AddN"), "ARG_MAX": Row("ArgMax",
    {"output_type": "output_type"}, ("output_type",)),
    "ARG_MIN": Row("ArgMin", {"output_type": "output_type"}, ("output_type",)), "BATCH_MATMUL": Row("BatchMatMulV2",
    {"adj_x": "adj_x", "adj_y": "adj_y"}),
    "BATCH_TO_SPACE_ND": Row("BatchToSpaceND"), "BROADCAST_TO": Row("BroadcastTo"), "CAST": Row("Cast",
    {"DstT": "out_data_type"}, ("DstT",)),
    "CEIL": Row("Ceil"), "COS": Row("Cos"), "CUMSUM": Row("Cumsum", {"exclusive": "exclusive", "reverse": "reverse"}),
    "DEPTH_TO_SPACE": Row("DepthToSpace", _BLOCK), "DIV": Row("Div"), "ELU": Row("Elu"), "EQUAL": Row("Equal"),
    "EXP": Row("Exp"),
    "EXPAND_DIMS": Row("ExpandDims"), "FILL": Row("Fill"), "FLOOR": Row("Floor"), "FLOOR_DIV": Row("FloorDiv"),
    "FLOOR_MOD": Row("FloorMod"),
    "FAKE_QUANT": Row("FakeQuantWithMinMaxArgs", {each: each for each in ("min", "max", "num_bits", "narrow_range")}),
    "GATHER_ND": Row("GatherNd"), "GELU": Row("Gelu", {"approximate": "approximate"}), "GREATER": Row("Greater"),
    "GREATER_EQUAL": Row("GreaterEqual"),
    "LEAKY_RELU": Row("LeakyRelu", {"alpha": "alpha"}), "LESS": Row("Less"), "LESS_EQUAL": Row("LessEqual"),
    "LOCAL_RESPONSE_NORMALIZATION": Row("LRN", {"depth_radius": "radius", "bias": "bias", "alpha": "alpha",
    "beta": "beta"}), "LOG": Row("Log"),
    "LOGICAL_AND": Row("LogicalAnd"), "LOGICAL_NOT": Row("LogicalNot"), "LOGICAL_OR": Row("LogicalOr"),
    "LOGISTIC": Row("Sigmoid"),
    "LOG_SOFTMAX": Row("LogSoftmax"), "MAXIMUM": Row("Maximum"), "MEAN": Row("Mean", _KEEPS),
    "MINIMUM": Row("Minimum"), "MUL": Row("Mul"), "NEG": Row("Neg"),
    "NOT_EQUAL": Row("NotEqual"), "ONE_HOT": Row("OneHot", {"axis": "axis"}), "PACK": Row("Pack", {"axis": "axis"}),
    "PAD": Row("Pad"), "PADV2": Row("PadV2"),
    "POW": Row("Pow"), "PRELU": Row("Prelu"), "RANGE": Row("Range"), "RANK": Row("Rank"), "REDUCE_ALL": Row("All",
    _KEEPS), "REDUCE_ANY": Row("Any", _KEEPS),
    "REDUCE_MAX": Row("Max", _KEEPS), "REDUCE_MIN": Row("Min", _KEEPS), "REDUCE_PROD": Row("Prod", _KEEPS),
    "RELU": Row("Relu"), "RELU6": Row("Relu6"),
    "RESIZE_BILINEAR": Row("ResizeBilinear", _GRID), "RESIZE_NEAREST_NEIGHBOR": Row("ResizeNearestNeighbor", _GRID),
    "REVERSE_V2": Row("ReverseV2"),
    "ROUND": Row("Round"), "RSQRT": Row("Rsqrt"), "SELECT": Row("Select"), "SELECT_V2": Row("SelectV2"),
    "SHAPE": Row("Shape", {"out_type": "out_type"}, ("out_type",)), "SIGN": Row("Sign"), "SIN": Row("Sin"),
    "SLICE": Row("Slice"),
    "SPACE_TO_BATCH_ND": Row("SpaceToBatchND"), "SPACE_TO_DEPTH": Row("SpaceToDepth", _BLOCK), "SPLIT": Row("Split",
    {"num_split": "num_splits"}),
    "SPLIT_V": Row("SplitV", {"num_split": "num_splits"}), "SQRT": Row("Sqrt"), "SQUARE": Row("Square"),
    "SQUARED_DIFFERENCE": Row("SquaredDifference"),
    "SQUEEZE": Row("Squeeze", {"squeeze_dims": "squeeze_dims"}), "STRIDED_SLICE": Row("StridedSlice", _MASKS),
    "SUB": Row("Sub"), "SUM": Row("Sum", _KEEPS),
    "TANH": Row("Tanh"), "TILE": Row("Tile"), "TOPK_V2": Row("TopKV2"), "TRANSPOSE": Row("Transpose"),
    "UNPACK": Row("Unpack", {"num": "num", "axis": "axis"}),
    "ZEROS_LIKE": Row("ZerosLike"),
}  # fmt: skip


def handler_of(site: MobileSite) -> Handler | None:
    """What translates an operator, its settings put where it looks for them; None for one that is not known."""
    name = site.operator.name
    if name in OWN:
        return OWN[name]
    row = ROWS.get(name)
    if row is None:
        return None
    site.shared_kind = row.shared
    settings = {}
    for wanted, given in row.settings.items():
        value = site.option(given)
        settings[wanted] = (
            _dtype(value) if wanted in row.dtypes else value.tolist() if isinstance(value, np.ndarray) else value
        )
    site.settings = settings | row.fixed
    return SHARED[row.shared]


def own(*names: str) -> Callable[[Handler], Handler]:
    def enter(handler: Handler) -> Handler:
        OWN.update(dict.fromkeys(names, handler))
        return handler

    return enter


def activated(call: MobileSite, view: View) -> View:
    """The result through the activation that is joined to its operator."""
    number = call.option("activation") or 0
    name = ACTIVATIONS.get(number, f"number {number}")
    if name is None:
        return view
    if name not in _ACTIVATIONS:
        call.refuse(f"is joined to the activation {name}, which is not supported")
    return call.elementwise(view, lambda x: _ACTIVATIONS[name](call, x))


_ACTIVATIONS: dict[str, Callable[[MobileSite, str], str]] = {
    "RELU": lambda call, x: call.step("Relu", x),
    "RELU6": lambda call, x: activations.clipped(call, x, 0, 6),
    "RELU_N1_TO_1": lambda call, x: activations.clipped(call, x, -1, 1),
    "TANH": lambda call, x: call.step("Tanh", x),
}


@own("RELU_N1_TO_1", "RELU_0_TO_1")
def between(call: MobileSite) -> View:
    low = -1 if call.operator.name == "RELU_N1_TO_1" else 0
    return call.elementwise(call.x(), lambda x: activations.clipped(call, x, low, 1))


@own("HARD_SWISH")
def hard_swish(call: MobileSite) -> View:
    return call.elementwise(call.x(), lambda x: call.step("HardSwish", x))


@own("SOFTMAX")
def softmax(call: MobileSite) -> View:
    """Along the last axis, of beta times the numbers."""
    view, beta = call.x(), float(call.option("beta"))
    name = call.gathered(view)
    if beta != 1:
        name = call.step("Mul", name, call.number(beta, name))
    return View(call.step("Softmax", name, axis=view.order.index(len(view.order) - 1)), view.order)


def bias_of(call: MobileSite, place: int, weight: int) -> list[str]:
    if not call.has(place):
        return []
    tensor = call.tensor(place)
    if tensor.data is None:
        call.refuse("has a bias that depends on the image")
    given, kernel = call.tensor(0).quantization, call.tensor(weight).quantization
    if tensor.dtype in ("int32", "int64") and given is not None and kernel is not None:
        # A runtime adds the bias to sums of stored products, whatever scale is stated for it.
        zeros = np.zeros(kernel.scales.size, np.int64)
        tensor = replace(tensor, quantization=Quantization(given.scales[0] * kernel.scales, zeros))
    return [call.quantizer.weight(tensor, tensor.data.reshape(-1), 0, call.fresh("bias"))]


@own("FULLY_CONNECTED")
def fully_connected(call: MobileSite) -> View:
    """x [..., inputs] by a weight [outputs, inputs]; without keep_num_dims x is a matrix of rows of that many."""
    if call.option("weights_format"):
        call.refuse("has weights in an order of one processor's own, which is not supported")
    tensor, view, keep = call.tensor(1), call.x(), bool(call.option("keep_num_dims"))
    if tensor.data is None:
        return activated(call, _by_known_rows(call, view))
    outputs, width = tensor.data.shape
    shape = call.shape(view)
    if not (keep or len(shape) == 2):
        whole = int(np.prod(list(shape[1:]))) if all(isinstance(size, int) for size in shape[1:]) else 0
        view = flattened(call, view) if whole == width else call.value(call.reshaped(call.plain(view), [-1, width]))
    if len(view.order) == 2:
        stored = tensor.data if view.permutation is None else tensor.data[:, np.argsort(view.permutation)]
        name = View(view.name, view.order).name if view.order == (0, 1) else call.plain(view)
        weight = call.quantizer.weight(tensor, stored, 0, call.fresh("kernel"))
        return activated(call, call.value(call.step("Gemm", name, weight, *bias_of(call, 2, 1), transB=1)))
    weight = call.quantizer.weight(tensor, tensor.data.T, 1, call.fresh("kernel"))
    made = call.step("MatMul", call.plain(view), weight)
    bias = bias_of(call, 2, 1)
    return activated(call, call.value(call.step("Add", made, *bias) if bias else made))


def _by_known_rows(call: MobileSite, view: View) -> View:
    """A weight that depends on the image."""
    turned = call.step("Transpose", call.plain(call.x(1)), perm=[1, 0])
    made = call.step("MatMul", call.plain(view), turned)
    return call.value(call.step("Add", made, call.plain(call.x(2))) if call.has(2) else made)


@own("CONCATENATION")
def concatenation(call: MobileSite) -> View:
    views = call.xs()
    axis = int(call.option("axis"))
    made = joined(call, views, axis % len(views[0].order)) if len(views) > 1 else views[0]
    return activated(call, made)


@own("RESHAPE")
def reshape(call: MobileSite) -> View:
    """The shape is the second input, or else stands in the settings."""
    listed = call.option("new_shape")
    if call.has(1) and call.tensor(1).shape != (0,):
        return reshaped(call, call.x(), call.sizes(1))
    if listed is None:
        call.refuse("does not say to which shape")
    return reshaped(call, call.x(), [int(each) for each in listed])


@own("GATHER")
def gather(call: MobileSite) -> Value:
    rank = len(call.x().order)
    axis = int(call.option("axis")) % rank
    call.inputs = [*call.inputs[:2], call.held(np.array(axis, np.int32), "axis")]
    call.settings, call.shared_kind = {"batch_dims": int(call.option("batch_dims"))}, "GatherV2"
    return SHARED["GatherV2"](call)


@own("DEQUANTIZE", "DENSIFY")
def same(call: MobileSite) -> View:
    """Only how the numbers are stored changes, which the tensors say."""
    return call.x()


@own("QUANTIZE")
def stored_anew(call: MobileSite) -> View:
    """Of numbers that are stored already in other steps: spelt out, because a runtime may join two roundings that
    follow each other to one, and they are not the same."""
    view, before, after = call.x(), call.tensor(0).quantization, call.result.quantization
    maker = call.made_by(view.name)
    moved = before is not None and after is not None and np.array_equal(before.scales, after.scales)
    if maker is None and view.order == (0, 1, 2, 3) and not call.quantizer.widen:
        # What is turned behind this would stand between the stored image and its first convolution.
        return View(call.in_order(view, (0, 3, 1, 2)), (0, 3, 1, 2))
    if maker is None or maker.operator != "DequantizeLinear" or moved:
        return view
    stored, scale, *zero = maker.inputs
    wide = call.step("Cast", stored, to="float32")
    if zero and call.array(zero[0]).any():
        wide = call.step("Sub", wide, call.constant(call.array(zero[0]).astype(np.float32), "zero_point"))
    return View(call.step("Mul", wide, scale), view.order)
