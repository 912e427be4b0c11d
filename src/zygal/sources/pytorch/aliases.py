"""In-place calls: who else sees what they write.

In the graph every value is written once, so a call that writes into its first argument makes a new
value, and from there on the argument's name stands for that new value. A name that shares memory
with the argument through a view would have to follow; where such a name is read again, the
conversion is refused rather than done wrong.
"""

from __future__ import annotations

from zygal.errors import SourceError
from zygal.sources.pytorch.program import Call, Program

SAME_MEMORY = frozenset((
    "alias", "chunk", "contiguous", "detach", "detach_", "diagonal", "dropout", "expand", "expand_as",
    "feature_dropout", "flatten", "movedim", "narrow", "permute", "reshape", "select", "slice", "split",
    "split_with_sizes", "squeeze", "swapaxes", "t", "to", "transpose", "type_as", "unbind", "unflatten",
    "unsqueeze", "view", "view_as",
))  # fmt: skip
"""Operators whose result may share the memory of their first argument."""


class Aliases:
    """Follows which names share memory, and what each in-place call does to them."""

    def __init__(self, program: Program):
        self._program = program
        self._root: dict[str, str] = {}
        self._last_read: dict[str, int] = {}
        for position, call in enumerate(program.calls):
            for name in call.tensors_read():
                self._last_read[name] = position
        self._last_read.update(dict.fromkeys(program.outputs, len(program.calls)))

    def after(self, position: int, call: Call, values: dict) -> dict:
        """The names that stand for another value after this call. Raises SourceError."""
        operator = call.target.split(".")[-2]
        names = call.tensors_read()
        if not names:
            return {}
        first, root = names[0], self._root.get(names[0], names[0])
        writes = operator.endswith("_") and not operator.endswith("__")
        if writes or operator in SAME_MEMORY:
            self._root.update(dict.fromkeys(call.results, root))
        if not writes:
            return {}
        sharing = {name for name, its in self._root.items() if its == root} | {root}
        for name in sharing - {first, *call.results}:
            read_later = self._last_read.get(name, -1) > position
            if read_later and values.get(name) != values.get(first):
                raise SourceError(
                    f"{self._program.path} cannot be converted: layer {call.layer} writes in place into a tensor "
                    "that another layer reads through a view; use the operator that is not in-place there."
                )
        same = {name for name in sharing if values.get(name) == values.get(first)}
        return dict.fromkeys({first, *same}, values[call.results[0]])
