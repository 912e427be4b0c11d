"""ATen operators that put elements in order, or find their place in one."""

from __future__ import annotations

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.pytorch.table_indexing import cut


@aten("topk.default")
def topk(site: Site):
    x, axis = site.tensor("self"), site.plain("dim", -1)
    largest = int(site.plain("largest", True))
    return site.several("TopK", x, count=2, k=[site.plain("k")], axis=axis, largest=largest)


@aten("sort.default", "sort.stable")
def sort(site: Site):
    x, axis = site.tensor("self"), site.plain("dim", -1)
    count = site.type_of(x).shape[axis]
    largest = int(site.plain("descending", False))
    return site.several("TopK", x, count=2, k=[count], axis=axis, largest=largest)


@aten("argsort.default", "argsort.stable")
def argsort(site: Site):
    return sort(site)[1]


@aten("bucketize.Tensor", "searchsorted.Tensor")
def bucket(site: Site):
    """How many boundaries lie below each element, or up to it."""
    name, sequence = ("self", "boundaries") if site.has("boundaries") else ("self", "sorted_sequence")
    x, limits = site.tensor(name), site.known_array(sequence)
    if limits.ndim != 1 or site.plain("side") not in (None, "left", "right") or site.has("sorter"):
        site.refuse("searches in several sequences, which is not supported")
    wide = site.step("Unsqueeze", x, axes=[site.type_of(x).rank])
    upto = site.plain("right", False) or site.plain("side") == "right"
    operator = "GreaterOrEqual" if upto else "Greater"
    below = site.step(operator, wide, site.constant(limits.astype(site.type_of(x).dtype), "limits"))
    whole = site.step("Cast", below, to="int32" if site.plain("out_int32") else "int64")
    return site.step("ReduceSum", whole, axes=[site.type_of(x).rank], keepdims=0)


@aten("median.dim", "kthvalue.default")
def ordered_element(site: Site):
    """The k-th smallest; the median of an even number is the lower one, as in the framework."""
    x = site.tensor("self")
    axis = site.plain("dim", -1) % site.type_of(x).rank
    size = site.type_of(x).shape[axis]
    count = site.plain("k") if site.has("k") else (size + 1) // 2
    ordered = site.several("TopK", x, count=2, k=[count], axis=axis, largest=0)
    picked = [cut(site, each, axis, count - 1, count) for each in ordered]
    return tuple(picked if site.plain("keepdim") else [site.step("Squeeze", each, axes=[axis]) for each in picked])
