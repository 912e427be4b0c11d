"""ATen operators that move elements, and the sizes that they are told."""

from __future__ import annotations

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.symbols import multiply


@aten("flatten.using_ints")
def flatten(call: Site):
    x = call.tensor("self")
    shape = call.type_of(x).shape
    first, last = (axis % len(shape) for axis in (call.plain("start_dim", 0), call.plain("end_dim", -1)))
    if first == 1 and last == len(shape) - 1:
        return call.result("Flatten", x, axis=1)
    return call.reshaped(x, [*shape[:first], multiply(*shape[first : last + 1]), *shape[last + 1 :]])


@aten("view.default", "reshape.default", "_unsafe_view.default")
def reshape(call: Site):
    return call.reshaped(call.tensor("self"), call.plain("size" if call.has("size") else "shape"))


@aten("permute.default")
def permute(call: Site):
    x = call.tensor("self")
    rank = call.type_of(x).rank
    return call.result("Transpose", x, perm=[axis % rank for axis in call.plain("dims")])


@aten("transpose.int", "t.default")
def transpose(call: Site):
    x = call.tensor("self")
    order = list(range(call.type_of(x).rank))
    first, second = call.plain("dim0", 0), call.plain("dim1", 1)
    order[first], order[second] = order[second], order[first]
    return call.result("Transpose", x, perm=order)


@aten("squeeze.dim", "squeeze.dims")
def squeeze(call: Site):
    """Axes of another size than 1 stay, as in the framework."""
    x = call.tensor("self")
    shape, axes = call.type_of(x).shape, call.plain("dim")
    single = [axis for axis in ([axes] if isinstance(axes, int) else axes) if shape[axis] == 1]
    return call.result("Squeeze", x, axes=single) if single else call.result("Identity", x)


@aten("unsqueeze.default")
def unsqueeze(call: Site):
    return call.result("Unsqueeze", call.tensor("self"), axes=[call.plain("dim")])


@aten("cat.default", "concat.default")
def concatenate(call: Site):
    return call.result("Concat", *call.tensors("tensors"), axis=call.plain("dim", 0))


@aten("pad.default", "constant_pad_nd.default")
def pad(call: Site):
    """The framework lists pads from the last axis backwards, begin and end together."""
    x = call.tensor("self")
    mode = {"constant": "constant", "reflect": "reflect", "replicate": "edge"}.get(call.plain("mode", "constant"))
    if mode is None:
        call.refuse(f"pads in the mode {call.plain('mode')}, which is not supported")
    given, rank = call.plain("pad"), call.type_of(x).rank
    begins, ends = [0] * rank, [0] * rank
    for place, (begin, end) in enumerate(zip(given[::2], given[1::2])):
        begins[rank - 1 - place], ends[rank - 1 - place] = begin, end
    return call.result("Pad", x, pads=begins + ends, value=float(call.plain("value", 0.0) or 0.0), mode=mode)


@aten("sym_size.int")
def size(call: Site):
    return call.type_of(call.tensor("self")).shape[call.plain("dim")]
