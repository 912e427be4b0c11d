"""Random choices that training code writes out by hand, as they are at inference."""

from __future__ import annotations

from collections.abc import Iterator

from zygal.sources.pytorch.program import Call

_FULL = "torch.ops.aten.full.default"


def without_chance(calls: tuple[Call, ...]) -> tuple[tuple[Call, ...], bool]:
    """The calls with floor(random + share), which is 1 as often as the share says, as the share itself.

    So whole layers are dropped in training (Huang et al., 2016), and what is kept is divided by the share; at
    inference both cancel out. Also says whether there was any.
    """
    shares = dict(_shares(calls))
    if not shares:
        return calls, False
    made = []
    for call in calls:
        name = call.results[0] if call.results else None
        made.append(Call(_FULL, shares[name], call.results, call.layer) if name in shares else call)
    return tuple(made), True


def _shares(calls: tuple[Call, ...]) -> Iterator[tuple[str, dict]]:
    """For each name that such a choice passes through, the arguments of the constant that stands for it."""
    readers: dict[str, list[Call]] = {}
    for call in calls:
        for name in call.tensors_read():
            readers.setdefault(name, []).append(call)
    for draw in calls:
        if draw.target != "torch.ops.aten.rand.default":
            continue
        add = _first(readers.get(draw.results[0], []), "add.Tensor")
        floor = add and _first(readers.get(add.results[0], []), "floor")
        if floor and add.arguments["other"][0] in ("float", "int"):
            share = {"size": draw.arguments["size"], "fill_value": add.arguments["other"]}
            for each in (draw, add, floor):
                yield each.results[0], share


def _first(readers: list[Call], operator: str) -> Call | None:
    """The first reader, if it is of that operator; what reads the result of a floor in place may follow it."""
    return readers[0] if readers and readers[0].target.startswith(f"torch.ops.aten.{operator}") else None
