"""Sums of products by index letters, as matrix products."""

from __future__ import annotations

from math import prod

from zygal.graph import Batch
from zygal.sources.emitter import Emitter


def by_letters(emit: Emitter, left: str, right: str, terms: tuple[str, str], made: str) -> str:
    """The product that terms of letters state, as in bhid,bhjd->bhij: a matrix product of the letters that both and the
    result have in front, else the graph's own sum of products."""
    first, second = terms
    both = [letter for letter in first if letter in second]
    ahead, inner = [each for each in both if each in made], [each for each in both if each not in made]
    rows, columns = ([each for each in term if each not in both] for term in terms)
    sizes = dict(zip(first + second, emit.type_of(left).shape + emit.type_of(right).shape))
    whole = (
        len(set(first)) == len(first)
        and len(set(second)) == len(second)
        and sorted(made) == sorted([*ahead, *rows, *columns])
    )
    single = [[sizes[each] for each in group] for group in (rows, inner, columns)]
    if not (whole and inner and rows and columns) or any(isinstance(size, Batch) for group in single for size in group):
        return emit.step("Einsum", left, right, equation=f"{first},{second}->{made}")
    names = []
    for value, term, order in ((left, first, [*ahead, *rows, *inner]), (right, second, [*ahead, *inner, *columns])):
        if list(term) != order:
            value = emit.step("Transpose", value, perm=[term.index(each) for each in order])
        groups = (rows, inner) if term is first else (inner, columns)
        if any(len(group) > 1 for group in groups):
            value = emit.reshaped(
                value, [*(sizes[each] for each in ahead), *(prod(sizes[each] for each in group) for group in groups)]
            )
        names.append(value)
    product = emit.step("MatMul", *names)
    order = [*ahead, *rows, *columns]
    if len(rows) > 1 or len(columns) > 1:
        product = emit.reshaped(product, [sizes[each] for each in order])
    return (
        product if list(made) == order else emit.step("Transpose", product, perm=[order.index(each) for each in made])
    )
