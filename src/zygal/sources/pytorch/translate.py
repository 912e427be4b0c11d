"""A captured program to a graph, call by call through the operator table."""

from __future__ import annotations

from zygal.errors import GraphError, SourceError, UnknownOperators
from zygal.graph import Dimension, Graph, GraphBuilder
from zygal.sources.pytorch import table_convolution, table_elementwise, table_shaping  # noqa: F401  (fill HANDLERS)
from zygal.sources.pytorch.aliases import Aliases
from zygal.sources.pytorch.archive import ProgramArchive
from zygal.sources.pytorch.calls import HANDLERS, Site
from zygal.sources.pytorch.program import Call, Program, read_tensor


def translate(program: Program, archive: ProgramArchive) -> Graph:
    """The program's graph, every type in it checked against the one that the framework recorded.

    Raises UnknownOperators naming all of them, or SourceError naming the layer that cannot be converted.
    """
    unknown = unknown_operators(program)
    if unknown:
        raise UnknownOperators(str(program.path), unknown)
    if len(program.inputs) != 1:
        raise SourceError(
            f"{program.path} takes {len(program.inputs)} input tensors ({', '.join(program.inputs) or 'none'}); "
            "an image classifier takes one, so capture a model that takes the image alone."
        )
    builder = GraphBuilder()
    values: dict[str, str | Dimension] = {}
    for name in program.inputs:
        values[name] = builder.input(name, program.types[name])
    read = {name for call in program.calls for name in call.tensors_read()} | set(program.outputs)
    for name, stored in program.tensors.items():
        if name in read:
            values[name] = builder.constant(name, read_tensor(archive, stored))
    aliases = Aliases(program)
    for position, call in enumerate(program.calls):
        _translate_call(program, call, builder, values)
        values.update(aliases.after(position, call, values))
    outputs = [values[name] for name in program.outputs if isinstance(values.get(name), str)]
    if not outputs:
        raise SourceError(f"{program.path} is damaged: its outputs are made by nothing.")
    return builder.finish(outputs)


def operator_name(target: str) -> tuple[str, bool]:
    """The name under which the table has a call, and whether the call writes into its first argument."""
    name = target.removeprefix("torch.ops.")
    operator, dot, overload = name.rpartition(".")
    if operator.endswith("_") and not operator.endswith("__") and name not in HANDLERS:
        return f"{operator[:-1]}{dot}{overload}", True
    return name, False


def unknown_operators(program: Program) -> dict[str, list[str]]:
    """The operators that the table lacks, each with the layers that use it."""
    unknown: dict[str, list[str]] = {}
    for call in program.calls:
        if operator_name(call.target)[0] not in HANDLERS:
            unknown.setdefault(call.target.removeprefix("torch.ops."), []).append(call.layer)
    return unknown


def _translate_call(program: Program, call: Call, builder: GraphBuilder, values: dict[str, str | Dimension]) -> None:
    handler = HANDLERS[operator_name(call.target)[0]]
    site = Site(call, builder, values, str(program.path))
    try:
        made = handler(site)
    except GraphError as fault:
        raise SourceError(f"{program.path} cannot be converted: {fault}") from fault
    except (KeyError, TypeError, ValueError, IndexError, AttributeError) as fault:
        site.refuse(f"has arguments that do not fit it ({type(fault).__name__}: {fault})")
    made = made if isinstance(made, tuple) else (made,)
    for name, value in zip(call.results, made):
        values[name] = value
        recorded = program.types.get(name)
        if isinstance(value, str) and recorded is not None and builder.types[value] != recorded:
            site.refuse(f"was recorded with the result {recorded}, but its operator gives {builder.types[value]}")
