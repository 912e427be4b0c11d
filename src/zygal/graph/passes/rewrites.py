"""The rewrites, one function each, and the list in which they are applied.

Each gets the nodes of a matching chain, first to last, the constants, and a place for new
constants, and gives the node that replaces the chain, or None where it does not apply.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from zygal.graph.model import Node
from zygal.graph.passes.rules import Constants, Rule, attribute

Known = Mapping[str, np.ndarray]


def normalization_line(normalization: Node, known: Known) -> tuple[np.ndarray, np.ndarray] | None:
    """Batch normalisation as factor and shift a channel, in float64; None if it is not constant."""
    if any(name not in known for name in normalization.inputs[1:]):
        return None
    scale, bias, mean, variance = (known[name].astype(np.float64) for name in normalization.inputs[1:])
    factor = scale / np.sqrt(variance + attribute(normalization, "epsilon"))
    return factor, bias - mean * factor


def _weights(node: Node, known: Known) -> tuple[np.ndarray, np.ndarray | float] | None:
    """Weight and bias of a convolution or a matrix product; None if they are not constant."""
    if any(name and name not in known for name in node.inputs[1:]):
        return None
    return known[node.inputs[1]], known[node.inputs[2]] if len(node.inputs) > 2 and node.inputs[2] else 0.0


def _reweighted(node: Node, made: str, weight: np.ndarray, bias: np.ndarray, dtype: np.dtype, added: Constants) -> Node:
    """The node with other weights, making the value `made`. Rounded once, here."""
    added[f"{made}.weight"], added[f"{made}.bias"] = weight.astype(dtype, copy=False), bias.astype(dtype)
    return replace(node, inputs=(node.inputs[0], f"{made}.weight", f"{made}.bias"), outputs=(made,))


def normalization_after_convolution(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """f (W x + b) + s = (f W) x + (f b + s)."""
    convolution, normalization = chain
    weights, line = _weights(convolution, known), normalization_line(normalization, known)
    if weights is None or line is None:
        return None
    (weight, bias), (factor, shift) = weights, line
    scaled = _each_scaled(weight, factor)
    return _reweighted(convolution, normalization.outputs[0], scaled, bias * factor + shift, weight.dtype, added)


def _each_scaled(weight: np.ndarray, factor: np.ndarray, together: int = 1 << 18) -> np.ndarray:
    """The kernel of each output times its factor, a part at a time to save memory, in the order in which the weights
    lie.

    The factor is the sum of two numbers of the weights' dtype, so that nothing of it is lost and no wider product is
    needed.
    """
    made = np.empty_like(weight)
    wide = factor.reshape(-1, *(1,) * (weight.ndim - 1))
    high = np.broadcast_to(wide.astype(weight.dtype), weight.shape)
    low = np.broadcast_to((wide - wide.astype(weight.dtype)).astype(weight.dtype), weight.shape)
    outermost = int(np.argmax(weight.strides))
    step = max(together * weight.shape[outermost] // max(weight.size, 1), 1)
    for start in range(0, weight.shape[outermost], step):
        some = (*(slice(None),) * outermost, slice(start, start + step))
        np.multiply(weight[some], low[some], out=made[some])
        made[some] += weight[some] * high[some]
    return made


def normalization_after_product(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """The same for a matrix product with a transposed weight [outputs, inputs]."""
    product, normalization = chain
    weights, line = _weights(product, known), normalization_line(normalization, known)
    if weights is None or line is None or not _is_plain_product(product):
        return None
    (weight, bias), (factor, shift) = weights, line
    scaled = weight * factor[:, None]
    return _reweighted(product, normalization.outputs[0], scaled, bias * factor + shift, weight.dtype, added)


def normalization_before_convolution(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """W (f x + s) + b = (W f) x + (W s + b). With pads the border would see s instead of 0."""
    normalization, convolution = chain
    weights, line = _weights(convolution, known), normalization_line(normalization, known)
    if weights is None or line is None or any(attribute(convolution, "pads") or ()):
        return None
    (weight, bias), (factor, shift) = weights, line
    groups = attribute(convolution, "group")
    # Input channel j of group g is j-th of that group's share.
    factors, shifts = (each.reshape(groups, 1, -1) for each in (factor, shift))
    by_group = weight.astype(np.float64).reshape(groups, weight.shape[0] // groups, weight.shape[1], -1)
    scaled = (by_group * factors[..., None]).reshape(weight.shape)
    offset = (by_group.sum(-1) * shifts).sum(-1).reshape(-1)
    node = replace(convolution, inputs=(normalization.inputs[0], *convolution.inputs[1:]))
    return _reweighted(node, convolution.outputs[0], scaled, bias + offset, weight.dtype, added)


def normalization_before_product(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """A normalisation whose scale and shift move into the weights behind it."""
    normalization, product = chain
    weights, line = _weights(product, known), normalization_line(normalization, known)
    if weights is None or line is None or not _is_plain_product(product):
        return None
    (weight, bias), (factor, shift) = weights, line
    node = replace(product, inputs=(normalization.inputs[0], *product.inputs[1:]))
    offset = weight.astype(np.float64) @ shift
    return _reweighted(node, product.outputs[0], weight * factor, bias + offset, weight.dtype, added)


def _is_plain_product(node: Node) -> bool:
    """x @ weight' + bias, as linear layers are stated."""
    return (
        attribute(node, "transB") == 1
        and not attribute(node, "transA")
        and (attribute(node, "alpha") == attribute(node, "beta") == 1)
    )


def _by_channel(array: np.ndarray | None, rank: int, channels: int) -> np.ndarray | None:
    """A constant that broadcasts against x [N, C, ...] as one number for each channel; None if it is not that."""
    if array is None or array.ndim > rank:
        return None
    wide = array.reshape((1,) * (rank - array.ndim) + array.shape)
    if any(size != 1 for axis, size in enumerate(wide.shape) if axis != 1) or wide.shape[1] not in (1, channels):
        return None
    return np.broadcast_to(wide.reshape(-1), channels)


def _constants_by_channel(
    convolution: Node, after: Node, known: Known
) -> tuple[np.ndarray, np.ndarray, np.ndarray] | None:
    """The weights and the bias of a convolution, and in float64 the constant by channel of what follows; None if they
    do not fit."""
    weights = _weights(convolution, known)
    if weights is None:
        return None
    weight, bias = weights
    constant = _by_channel(known.get(after.inputs[1]), weight.ndim, len(weight))
    if constant is None or constant.dtype != weight.dtype:
        return None
    return weight, bias, constant.astype(np.float64)


def factor_after_convolution(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """f (W x + b) = (f W) x + f b, as batch normalisation is often written out."""
    convolution, scale = chain
    constants = _constants_by_channel(convolution, scale, known)
    if constants is None:
        return None
    weight, bias, wide = constants
    return _reweighted(
        convolution,
        scale.outputs[0],
        _each_scaled(weight, wide),
        np.broadcast_to(bias * wide, len(weight)),
        weight.dtype,
        added,
    )


def addend_after_convolution(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """(W x + b) + s = W x + (b + s)."""
    convolution, shift = chain
    constants = _constants_by_channel(convolution, shift, known)
    if constants is None:
        return None
    weight, bias, addend = constants
    added[f"{shift.outputs[0]}.bias"] = (bias + addend).astype(weight.dtype)
    return replace(convolution, inputs=(*convolution.inputs[:2], f"{shift.outputs[0]}.bias"), outputs=shift.outputs)


def addend_after_product(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """The same for a matrix product with a constant matrix."""
    product, shift = chain
    weights, addend = _weights(product, known), known.get(shift.inputs[1])
    plain = attribute(product, "alpha") == attribute(product, "beta") == 1 and not attribute(product, "transA")
    if weights is None or addend is None or not plain:
        return None
    weight, bias = weights
    columns = weight.shape[0 if attribute(product, "transB") else 1]
    if addend.dtype != weight.dtype or addend.shape[-1:] != (columns,) or addend.size != columns or np.ndim(bias) > 1:
        return None
    added[f"{shift.outputs[0]}.bias"] = (bias + addend.reshape(-1).astype(np.float64)).astype(weight.dtype)
    return replace(product, inputs=(*product.inputs[:2], f"{shift.outputs[0]}.bias"), outputs=shift.outputs)


def factor_and_addend(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """f x + s, a number a channel each, is a batch normalisation with nothing to subtract: one operator instead of
    two."""
    scale, shift = chain
    factor, addend = (known.get(each.inputs[1]) for each in chain)
    if (
        factor is None
        or addend is None
        or factor.ndim < 3
        or factor.shape != addend.shape
        or factor.dtype != np.float32
    ):
        return None
    channels = factor.shape[1]
    lines = [_by_channel(each, factor.ndim, channels) for each in (factor, addend)]
    if channels == 1 or factor.shape[0] != 1 or any(line is None for line in lines):
        return None
    made = shift.outputs[0]
    arrays = (*lines, np.zeros(channels, np.float32), np.ones(channels, np.float32))
    names = [f"{made}.{hint}" for hint in ("factor", "addend", "mean", "variance")]
    added.update(zip(names, map(np.ascontiguousarray, arrays)))
    return replace(shift, operator="BatchNormalization", inputs=(scale.inputs[0], *names), attributes={"epsilon": 0.0})


def padding_into_convolution(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """Zeros around the image are what a convolution's own pads are."""
    pad, convolution = chain
    pads = list(attribute(pad, "pads"))
    rank = len(pads) // 2
    begins, ends = pads[:rank], pads[rank:]
    zeros = attribute(pad, "mode") == "constant" and attribute(pad, "value") == 0
    if not zeros or any(begins[:2] + ends[:2]) or min(pads) < 0:
        return None
    own = list(attribute(convolution, "pads") or [0] * 2 * (rank - 2))
    together = [own_pad + outer_pad for own_pad, outer_pad in zip(own, begins[2:] + ends[2:])]
    attributes = {**convolution.attributes, "pads": together}
    return replace(convolution, inputs=(pad.inputs[0], *convolution.inputs[1:]), attributes=attributes)


def transposes_to_one(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """Two orders of axes are one; where they undo each other nothing is left."""
    first, second = chain
    orders = [attribute(each, "perm") for each in chain]
    # Without an order the axes are reversed; two such are nothing.
    rank = next((len(each) for each in orders if each), 0)
    inner, outer = (each or list(range(rank))[::-1] for each in orders)
    order = [inner[axis] for axis in outer]
    if order == list(range(len(order))):
        return replace(second, operator="Identity", inputs=first.inputs, attributes={})
    return replace(second, inputs=first.inputs, attributes={"perm": order})


def reshapes_to_one(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """Only the last shape counts, unless it keeps sizes of the one before it."""
    first, second = chain
    if second.operator == "Reshape" and 0 in attribute(second, "shape"):
        return None
    return replace(second, inputs=first.inputs)


def arithmetic_with_nothing(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """x + 0, x - 0, x * 1 and x / 1, where the constant is a single number."""
    (node,) = chain
    number = known.get(node.inputs[1])
    neutral = 0 if node.operator in ("Add", "Sub") else 1
    if number is None or number.ndim or number != neutral:
        return None
    return replace(node, operator="Identity", inputs=node.inputs[:1])


def hard_sigmoid(chain: tuple[Node, ...], known: Known, added: Constants) -> Node | None:
    """clip(x + 3, 0, 6) / 6, as it is often written out."""
    add, clip, scale = chain
    three, sixth = known.get(add.inputs[1]), known.get(scale.inputs[1])
    if three is None or sixth is None or three.ndim or sixth.ndim or three != 3:
        return None
    if (attribute(clip, "min"), attribute(clip, "max")) != (0, 6):
        return None
    factor = float(sixth) if scale.operator == "Mul" else 1 / float(sixth)
    if abs(factor * 6 - 1) > 1e-6:
        return None
    return replace(scale, operator="HardSigmoid", inputs=add.inputs[:1], attributes={"alpha": 1 / 6, "beta": 0.5})


RULES: tuple[Rule, ...] = (
    Rule(("Conv", "BatchNormalization"), normalization_after_convolution),
    Rule(("Gemm", "BatchNormalization"), normalization_after_product),
    Rule(("BatchNormalization", "Conv"), normalization_before_convolution),
    Rule(("BatchNormalization", "Gemm"), normalization_before_product),
    Rule(("Pad", "Conv"), padding_into_convolution),
    Rule(("Conv", "Mul"), factor_after_convolution),
    Rule(("Conv", "Add"), addend_after_convolution),
    Rule(("Gemm", "Add"), addend_after_product),
    Rule(("Mul", "Add"), factor_and_addend),
    Rule(("Transpose", "Transpose"), transposes_to_one),
    Rule(("Reshape", "Reshape"), reshapes_to_one),
    Rule(("Flatten", "Reshape"), reshapes_to_one),
    Rule(("Add",), arithmetic_with_nothing),
    Rule(("Sub",), arithmetic_with_nothing),
    Rule(("Mul",), arithmetic_with_nothing),
    Rule(("Div",), arithmetic_with_nothing),
    Rule(("Add", "Clip", "Div"), hard_sigmoid),
    Rule(("Add", "Clip", "Mul"), hard_sigmoid),
)
