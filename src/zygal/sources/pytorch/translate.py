"""A captured program to a graph, call by call through the operator table."""

from __future__ import annotations

from dataclasses import dataclass, replace

from zygal.errors import GraphError, SourceError, UnknownOperators, shown, some_of
from zygal.graph import Graph
from zygal.sources.pytorch import (  # noqa: F401  (each table enters its operators into HANDLERS)
    table_activations,
    table_arithmetic,
    table_convolution,
    table_creation,
    table_decomposed,
    table_distances,
    table_elementary,
    table_fused,
    table_indexing,
    table_ordering,
    table_products,
    table_recurrent,
    table_reduction,
    table_resampling,
    table_shaping,
    table_windows,
    table_writing,
)
from zygal.sources.pytorch.aliases import VIEWS, Aliases
from zygal.sources.pytorch.calls import HANDLERS, IN_TRAINING, Context, Site
from zygal.sources.pytorch.neutral import unread_arguments
from zygal.sources.pytorch.program import Call, Program
from zygal.sources.pytorch.randomness import without_chance
from zygal.sources.pytorch.tensors import TensorBytes, read_tensor
from zygal.sources.pytorch.widths import Widths


@dataclass(frozen=True)
class Translation:
    """A graph with one output of the program, and what a person should know about it."""

    graph: Graph
    notes: tuple[str, ...]


def translate(
    program: Program,
    tensors: TensorBytes,
    output: str | None = None,
) -> Translation:
    """The program's graph with one output, the first unless one is named, every type in it checked against the one that
    the framework recorded.

    What the output does not depend on is left out. Raises UnknownOperators naming all of them, or SourceError naming
    the layer that cannot be converted.
    """
    program = with_one_output(program, output or program.output_names[0])
    calls, drew = without_chance(program.calls)
    program = replace(program, calls=calls)
    unknown = unknown_operators(program)
    branches = sorted(layer for name, layers in unknown.items() if name in _CONTROL_FLOW for layer in layers)
    if branches:
        raise SourceError(
            f"{program.path} runs different layers depending on the image ({some_of(branches)}); an artifact runs "
            "the same layers for every image, so compute all branches and choose with torch.where, then capture again."
        )
    if unknown:
        raise UnknownOperators(str(program.path), unknown)
    if len(program.inputs) != 1:
        raise SourceError(
            f"{program.path} takes {len(program.inputs)} input tensors ({', '.join(program.inputs) or 'none'}); "
            "an image classifier takes one, so capture a model that takes the image alone."
        )
    translator = _Translator(program, tensors)
    if drew:
        translator.context.notes.append(IN_TRAINING)
    return translator.run()


def with_one_output(program: Program, name: str) -> Program:
    """The program with one output, and only the calls on which it depends or which write in place."""
    if name not in program.output_names:
        raise SourceError(f"{program.path} has no output {name}; it has {', '.join(program.output_names)}.")
    output = program.outputs[program.output_names.index(name)]
    memory = _memory_of(program)
    needed, kept, shared = {output}, [], {memory.get(output, output)}
    for call in reversed(program.calls):
        writes = operator_name(call.target)[1] and any(
            memory.get(each, each) in shared for each in call.tensors_read()[:1]
        )
        if writes or needed.intersection(call.results):
            read = call.names_read()
            needed |= read
            shared |= {memory.get(each, each) for each in read}
            kept.append(call)
    return replace(program, outputs=(output,), output_names=(name,), calls=tuple(reversed(kept)))


def _memory_of(program: Program) -> dict[str, str]:
    """For each name that may share memory with an earlier one, the first of them: what writes into it matters to
    all."""
    found: dict[str, str] = {}
    for call in program.calls:
        name, writes = operator_name(call.target)
        first = call.tensors_read()[:1]
        if first and (writes or name.removeprefix("aten.").partition(".")[0] in VIEWS):
            found.update(dict.fromkeys(call.results, found.get(first[0], first[0])))
    return found


_CONTROL_FLOW = ("higher_order.cond", "higher_order.while_loop", "higher_order.map_impl", "higher_order.scan")


def operator_name(target: str) -> tuple[str, bool]:
    """The name under which the table has a call, and whether the call writes into its first argument."""
    name = target.removeprefix("torch.ops.")
    operator, dot, overload = name.rpartition(".")
    if operator.endswith("_") and not operator.endswith("__") and name not in HANDLERS:
        return f"{operator[:-1]}{dot}{overload}", True
    return name, False


def known_operator(target: str) -> bool:
    """Whether the tables have a call's operator. A target that only resembles one of theirs is not known."""
    plain = target.startswith("torch.ops.aten.") or target in HANDLERS and not target.startswith("aten.")
    return plain and operator_name(target)[0] in HANDLERS


def unknown_operators(program: Program) -> dict[str, list[str]]:
    """The operators that the table lacks, each with the layers that use it."""
    unknown: dict[str, list[str]] = {}
    for call in program.calls:
        if not known_operator(call.target):
            unknown.setdefault(call.target.removeprefix("torch.ops."), []).append(call.layer)
    return unknown


def translated(site: Site, where: str) -> tuple:
    """What the handler of a call makes, a value for each result. Raises SourceError."""
    try:
        made = HANDLERS[operator_name(site.target)[0]](site)
    except GraphError as fault:
        raise SourceError(f"{where} cannot be converted: {fault}") from fault
    except (KeyError, TypeError, ValueError, IndexError, AttributeError, ArithmeticError) as fault:
        site.refuse(f"has arguments that do not fit it ({type(fault).__name__}: {fault})")
    return made if isinstance(made, tuple) else (made,)


class _Translator:
    def __init__(self, program: Program, tensors: TensorBytes):
        (name,) = program.inputs
        type = program.types[name]
        self._program, self.context = program, Context(str(program.path), layouts=program.layouts)
        self._widths = Widths(program)
        self._builder, self._values = self.context.builder, self.context.values
        self._values[name] = self._builder.input(name, type)
        read = {name for call in program.calls for name in call.tensors_read()} | set(program.outputs)
        for name, stored in program.tensors.items():
            if name in read:
                self._values[name] = self._builder.constant(name, read_tensor(tensors, stored))

    def run(self) -> Translation:
        aliases = Aliases(self._program, self._values, self.site_of, self._translate)
        for position, call in enumerate(self._program.calls):
            self._translate(call)
            aliases.after(position, call, operator_name(call.target)[1])
        outputs = [self._values.get(name) for name in self._program.outputs]
        if not all(isinstance(value, str) for value in outputs):
            raise SourceError(f"{self._program.path} is damaged: its outputs are not produced by any node.")
        return Translation(self._builder.finish(outputs), tuple(self.context.notes))

    def site_of(self, call: Call) -> Site:
        return Site(call, self.context)

    def _translate(self, call: Call) -> None:
        site = self.site_of(call)
        made = translated(site, str(self._program.path))
        unread = unread_arguments(call, site.read)
        if unread:
            values = ", ".join(f"{name} = {shown(call.arguments[name][1])}" for name in unread)
            site.refuse(f"has an argument that is not supported ({values})")
        for name, value in zip(call.results, made):
            if isinstance(value, str):
                self._compare(site, name, value)
                value = site.renamed(self._widths.as_recorded(site, name, value), name)
            self._values[name] = value

    def _compare(self, site: Site, name: str, value: str) -> None:
        """Refuses the call if its result is not of the type that the framework recorded."""
        if self._program.dtype_names.get(name) == "unknown":
            site.refuse("computes in a dtype that is not supported")
        recorded, found = self._program.types.get(name), self._builder.types[value]
        if recorded is None:
            return
        if found != recorded:
            site.refuse(f"was recorded with the result {recorded}, but its operator gives {found}")
