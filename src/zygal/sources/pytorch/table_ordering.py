"""ATen operators that put elements in order, or find their place in one."""

from __future__ import annotations

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_indexing import cut


@aten("topk.default")
def topk(call: Site):
    x, axis = call.tensor("self"), call.plain("dim", -1)
    largest = int(call.plain("largest", True))
    return call.results("TopK", x, count=2, k=[call.plain("k")], axis=axis, largest=largest)


@aten("sort.default", "sort.stable")
def sort(call: Site):
    x, axis = call.tensor("self"), call.plain("dim", -1)
    count = call.type_of(x).shape[axis]
    largest = int(call.plain("descending", False))
    return call.results("TopK", x, count=2, k=[count], axis=axis, largest=largest)


@aten("argsort.default", "argsort.stable")
def argsort(call: Site):
    return sort(call)[1]


@aten("bucketize.Tensor", "searchsorted.Tensor")
def bucket(call: Site):
    """How many boundaries lie below each element, or up to it."""
    name, sequence = ("self", "boundaries") if call.has("boundaries") else ("self", "sorted_sequence")
    x, limits = call.tensor(name), call.known_array(sequence)
    if limits.ndim != 1 or call.plain("side") not in (None, "left", "right") or call.has("sorter"):
        call.refuse("searches in several sequences, which is not supported")
    wide = call.step("Unsqueeze", x, axes=[call.type_of(x).rank])
    upto = call.plain("right", False) or call.plain("side") == "right"
    operator = "GreaterOrEqual" if upto else "Greater"
    below = call.step(operator, wide, call.constant(limits.astype(call.type_of(x).dtype), "limits"))
    whole = call.step("Cast", below, to="int32" if call.plain("out_int32") else "int64")
    return call.result("ReduceSum", whole, axes=[call.type_of(x).rank], keepdims=0)


@aten("median.dim", "kthvalue.default")
def ordered_element(call: Site):
    """The k-th smallest; the median of an even number is the lower one, as in the framework."""
    x = call.tensor("self")
    axis = call.plain("dim", -1) % call.type_of(x).rank
    size = call.type_of(x).shape[axis]
    count = call.plain("k") if call.has("k") else (size + 1) // 2
    ordered = call.results("TopK", x, count=2, k=[count], axis=axis, largest=0)
    picked = [cut(call, each, axis, count - 1, count) for each in ordered]
    return tuple(picked if call.plain("keepdim") else [call.step("Squeeze", each, axes=[axis]) for each in picked])
