"""Names that share memory, and what a call that writes in place does to them.

In the graph every value is made once. A call that writes into its first argument therefore makes a
new value, and every name that shares its memory stands for something new from there on: the tensor
that the views were taken of is put together again with the written part in its place, and views of
it that are read later are taken again.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from zygal.graph import Batch, Dimension
from zygal.sources.pytorch.calls import Site
from zygal.sources.pytorch.program import Call, Program
from zygal.sources.pytorch.table_indexing import whole_batch
from zygal.sources.pytorch.table_shaping import permutation
from zygal.sources.pytorch.table_writing import replaced

SAME = frozenset(
    (
        "alias",
        "contiguous",
        "detach",
        "detach_",
        "to",
        "type_as",
        "dropout",
        "feature_dropout",
        "alpha_dropout",
        "feature_alpha_dropout",
    )
)
RESHAPED = frozenset(
    (
        "view",
        "reshape",
        "flatten",
        "unflatten",
        "squeeze",
        "unsqueeze",
        "_unsafe_view",
        "view_as",
        "reshape_as",
    )
)
TURNED = frozenset(("transpose", "permute", "t", "swapaxes", "swapdims", "movedim", "moveaxis", "numpy_T"))
CUT = frozenset(("slice", "select", "narrow"))
OTHER_VIEWS = frozenset(
    (
        "expand",
        "expand_as",
        "broadcast_to",
        "mT",
        "adjoint",
        "ravel",
        "unsafe_split",
        "unsafe_chunk",
        "tensor_split",
        "chunk",
        "split",
        "split_with_sizes",
        "unbind",
        "unfold",
        "diagonal",
        "as_strided",
    )
)
MAY_COPY = frozenset(("reshape", "reshape_as", "flatten", "ravel"))
VIEWS = SAME | RESHAPED | TURNED | CUT | OTHER_VIEWS

Values = dict[str, "str | Dimension | None"]
SiteOf = Callable[[Call], Site]


class Aliases:
    """Follows which names share memory. `run(call)` translates a call again; `site_of(call)` gives its site."""

    def __init__(self, program: Program, values: Values, site_of: SiteOf, run: Callable[[Call], None]):
        self._program, self._values, self._site_of, self._run = program, values, site_of, run
        self._views_of: dict[str, tuple[str, tuple[Call, ...]]] = {}
        # Results that are views or copies, which one cannot be told without knowing where tensors lay.
        self._unsure: set[str] = set()
        self._same_as: dict[str, str] = {}
        # Writes of which the root does not know yet, in their order.
        self._pending: dict[str, list[tuple[Call, tuple[Call, ...], str]]] = {}
        self._last_read: dict[str, int] = {}
        for position, call in enumerate(program.calls):
            self._last_read.update(dict.fromkeys(call.tensors_read(), position))
        self._last_read.update(dict.fromkeys(program.outputs, len(program.calls)))

    def after(self, position: int, call: Call, writes: bool) -> None:
        """Notes what the call's results share, and spreads what it wrote. Raises SourceError."""
        operator = call.target.split(".")[-2]
        names = call.tensors_read()
        if not names:
            return
        root, steps = self._views_of.get(names[0], (names[0], ()))
        if writes:
            self._views_of.update(dict.fromkeys(call.results, (root, steps)))
            self._same_as.update(dict.fromkeys(call.results, self._same_as.get(names[0], names[0])))
            self._spread(position, call, names[0], root, steps)
        elif operator in VIEWS and call.results and self._shares(operator, names[0], call):
            self._views_of.update(dict.fromkeys(call.results, (root, (*steps, call))))

    def _shares(self, operator: str, source: str, call: Call) -> bool:
        """Whether the result lies in the source's memory: some operators copy where they must."""
        program, made = self._program, call.results[0]
        if program.dtype_names.get(source) != program.dtype_names.get(made):
            return False
        before, after = program.layouts.get(source), program.layouts.get(made)
        if operator in ("to", "type_as", "contiguous"):
            # They give the tensor itself unless they must move it, or are told to copy.
            if call.arguments.get("copy", ("none", None))[1]:
                return False
            if before is not None and after is not None:
                return before.lies_like(after)
            if operator == "contiguous" or "memory_format" in call.arguments:
                self._unsure.add(made)
            return True
        if operator not in MAY_COPY:
            return True
        if before is not None and after is not None:
            return before.keeps_memory_as(after.sizes)
        self._unsure.add(made)
        return True

    def _spread(self, position: int, call: Call, written: str, root: str, steps: tuple[Call, ...]) -> None:
        value = self._values[call.results[0]]
        self._values[written] = value
        self._pending.setdefault(root, []).append((call, steps, value))
        sharing = [
            name for name, (its, _) in self._views_of.items() if its == root and name not in (written, *call.results)
        ]
        later = [name for name in sharing if self._last_read.get(name, -1) > position]
        if not later and self._last_read.get(root, -1) <= position:
            return  # Nobody reads the whole as it is now; if something of it is written to again, it is made up for.
        passed = [step for name in later for step in self._views_of[name][1]]
        for writing, through, made in self._pending.pop(root):
            self._refuse_unsure(writing, (*through, *passed))
            self._values[root] = self._put_back(writing, root, through, made)
            self._pass_on(root)
        for step in passed:
            self._again(root, step)
        self._values[written] = self._values[call.results[0]] = value
        self._values[self._same_as.get(written, written)] = value
        self._pass_on(root)

    def _refuse_unsure(self, call: Call, steps: tuple[Call, ...]) -> None:
        if any(step.results[0] in self._unsure for step in steps):
            self._site_of(call).refuse(
                "writes in place into a tensor of which another layer reads a reshaped part, and whether both share "
                "memory is not known; write without in-place operators, or capture the model with torch.export"
            )

    def _again(self, root: str, step: Call) -> None:
        """Takes a view of a root again."""
        self._run(step)
        self._pass_on(root)

    def _pass_on(self, root: str) -> None:
        """What a write gives stands for the very tensor that was written to."""
        for name, same in self._same_as.items():
            if self._views_of[name][0] == root:
                self._values[name] = self._values[same]

    def _put_back(self, call: Call, root: str, steps: tuple[Call, ...], value: str) -> str:
        """The root's new value, from the new value of the view at the end of the steps."""
        before = [self._values[root]]
        for step in steps[:-1]:
            self._again(root, step)
            before.append(self._values[step.results[0]])
        for step, base in zip(reversed(steps), reversed(before)):
            value = self._undo(call, step, base, value)
        return value

    def _undo(self, call: Call, step: Call, base: str, value: str) -> str:
        operator, site, rebuilt = step.target.split(".")[-2], self._site_of(step), self._site_of(call)
        shape = site.type_of(base).shape
        if operator in SAME:
            return value
        if operator in RESHAPED:
            return rebuilt.reshaped(value, shape)
        if operator in TURNED:
            order = permutation(site, len(shape))
            return rebuilt.step("Transpose", value, perm=[order.index(axis) for axis in range(len(shape))])
        if operator in CUT:
            return _joined(site, rebuilt, operator, base, value)
        return rebuilt.refuse(f"writes in place through {operator}, of which another layer reads the whole")


def _joined(site: Site, rebuilt: Site, operator: str, base: str, value: str) -> str:
    """The base with the written slice in its place."""
    shape = site.type_of(base).shape
    axis = site.plain("dim", 0) % len(shape)
    size = shape[axis]
    if operator == "slice" and site.plain("step", 1) == 1 and site.plain("start") in (None, 0):
        end = site.plain("end")
        if (
            isinstance(size, Batch)
            and whole_batch(site, 0, end, 1)
            or not isinstance(size, Batch)
            and (end is None or isinstance(end, int) and end >= size)
        ):
            return value
    if isinstance(size, Batch):
        rebuilt.refuse("writes in place into some images of the batch")
    if operator == "select":
        start = site.plain("index") % size
        value, places = rebuilt.step("Unsqueeze", value, axes=[axis]), [start]
    elif operator == "narrow":
        start = site.plain("start") % size
        places = range(start, start + site.plain("length"))
    else:
        places = range(size)[slice(site.plain("start"), site.plain("end"), site.plain("step", 1))]
    return replaced(rebuilt, base, value, axis, np.array(places)) if len(places) else base
