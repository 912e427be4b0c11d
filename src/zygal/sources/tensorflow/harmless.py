"""Whether a graph may be handed to the framework: nothing that it would run may touch files, processes or the network.

The framework runs what a signature needs, what initialises tables, and what restores variables. Every operator there
must be one of ours, or one of those that hold and restore values. What only saves is never run, and may write.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from zygal.errors import SourceError, some_of
from zygal.sources.tensorflow.graph_file import GraphFile
from zygal.sources.tensorflow.site import OPERATORS
from zygal.sources.tensorflow.table_entrance import STEPS
from zygal.sources.tensorflow.translate import BRANCHES, CALLS

HOLDING = frozenset(
    (
        "Assign",
        "AssignVariableOp",
        "ConsumeMutexLock",
        "IsVariableInitialized",
        "LookupTableImportV2",
        "InitializeTableV2",
        "Placeholder",
        "RandomStandardNormal",
        "TruncatedNormal",
        "RestoreV2",
        "StatefulPartitionedCall",
        "LookupTableExportV2",
        "LookupTableSizeV2",
        "InitializeTableFromTextFileV2",
        "Enter",
        "Exit",
        "NextIteration",
        "LoopCond",
        "While",
        "StatelessWhile",
        "StringJoin",
        "MatchingFiles",
    )
)
"""Operators that hold, initialise and restore values, and those of loops over images."""


def refuse_harmful(file: GraphFile) -> None:
    """Raises SourceError naming the operators that keep a graph from being run."""
    saving = _names_of_saving(file)
    unknown = {}
    for where, node in _nodes(file):
        known = (
            node.op in OPERATORS or node.op in STEPS or node.op in HOLDING or node.op in CALLS or node.op in BRANCHES
        )
        if not known and node.op not in file.functions and (where or node.name) not in saving:
            unknown.setdefault(node.op, node.name)
    if unknown:
        listed = some_of([f"{name} ({user})" for name, user in sorted(unknown.items())], 6)
        raise SourceError(
            f"{file.path} is not run by TensorFlow: it holds operators that Zygal does not know to be harmless: "
            f"{listed}. Run it in the environment that made it, and give the scores with --from-arrays."
        )


def _nodes(file: GraphFile) -> Iterator[tuple[str, Any]]:
    for node in file.nodes.values():
        yield "", node
    for name, function in file.functions.items():
        for node in function.node_def:
            yield name, node


def _names_of_saving(file: GraphFile) -> set[str]:
    """The functions that only saving calls, and the outermost nodes that only it reads."""
    if file.meta is None:
        return set()
    saver = file.meta.saver_def
    root = saver.save_tensor_name.partition(":")[0]
    saving = _reached(file, [root])
    reading = [tensor.partition(":")[0] for each in file.signatures for tensor, _, _ in each.outputs.values()]
    initial = [
        info.name.partition(":")[0]
        for described in file.meta.signature_def.values()
        for info in described.outputs.values()
    ]
    kept = _reached(file, [*reading, *initial, saver.restore_op_name.partition(":")[0]])
    kept |= {name for each in file.signatures if each.function for name in _functions_of(file, each.function)}
    return saving - kept


def _reached(file: GraphFile, roots: Iterable[str]) -> set[str]:
    """The outermost nodes that lead to some, and the functions that are called on the way."""
    found, waiting = set(), [each for each in roots if each in file.nodes]
    while waiting:
        name = waiting.pop()
        if name in found:
            continue
        found.add(name)
        node = file.nodes[name]
        waiting += [
            each for each in (given.lstrip("^").partition(":")[0] for given in node.input) if each in file.nodes
        ]
        for called in _called(file, node):
            found |= _functions_of(file, called)
    return found


def _functions_of(file: GraphFile, function: str) -> set[str]:
    found, waiting = set(), [function]
    while waiting:
        name = waiting.pop()
        if name in found or name not in file.functions:
            continue
        found.add(name)
        waiting += [called for node in file.functions[name].node_def for called in _called(file, node)]
    return found


def _called(file: GraphFile, node: Any) -> Iterator[str]:
    if node.op in file.functions:
        yield node.op
    for value in node.attr.values():
        if value.func.name:
            yield value.func.name
        for each in value.list.func:
            yield each.name
