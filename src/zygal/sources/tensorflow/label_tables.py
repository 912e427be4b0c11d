"""The names of classes that a model's tables hold: as constants in the graph, or in text files of its folder."""

from __future__ import annotations

from typing import Any

from zygal.errors import FileError
from zygal.files.opening import read_text
from zygal.sources.tensorflow.graph_file import GraphFile
from zygal.sources.tensorflow.site import NodeSite, Resource
from zygal.sources.tensorflow.tensors import array_of

_FROM_CONSTANTS = ("LookupTableImportV2", "InitializeTableV2", "InitializeTable", "LookupTableImport")
_FROM_FILES = ("InitializeTableFromTextFileV2", "InitializeTableFromTextFile")


class LabelTables:
    """What fills a table stands in the same graph, and nothing but its name connects the two."""

    def __init__(self, file: GraphFile):
        self._file = file

    def labels(self, resource: Resource, call: NodeSite) -> tuple[str, ...] | None:
        """The names in the order of the numbers that they are looked up by; None if that is not known."""
        for nodes, node, table in self._fillings():
            if table not in (resource.node, resource.name):
                continue
            if node.op in _FROM_CONSTANTS:
                return self._from_constants(nodes, node, call)
            return self._from_file(nodes, node)
        return None

    def _fillings(self):
        """Nodes that fill tables, with the nodes around them and the name of the table."""
        for nodes in (
            {**self._file.nodes},
            *({each.name: each for each in function.node_def} for function in self._file.functions.values()),
        ):
            for node in nodes.values():
                if node.op in _FROM_CONSTANTS + _FROM_FILES and node.input:
                    table = nodes.get(node.input[0].partition(":")[0])
                    shared = (
                        table.attr["shared_name"].s.decode("utf-8", "replace")
                        if table is not None and "shared_name" in table.attr
                        else ""
                    )
                    yield nodes, node, shared or node.input[0].partition(":")[0]

    def _from_constants(self, nodes: dict[str, Any], node: Any, call: NodeSite) -> tuple[str, ...] | None:
        arrays = []
        for reference in node.input[1:3]:
            constant = nodes.get(reference.partition(":")[0])
            if constant is None or constant.op != "Const":
                return None
            arrays.append(array_of(constant.attr["value"].tensor, str(self._file.path))[0].reshape(-1))
        keys, values = arrays
        if keys.dtype == object or values.dtype != object or len(keys) != len(values):
            return None
        named = {int(key): value.decode("utf-8", "replace") for key, value in zip(keys, values)}
        return tuple(named[place] for place in range(len(named))) if sorted(named) == list(range(len(named))) else None

    def _from_file(self, nodes: dict[str, Any], node: Any) -> tuple[str, ...] | None:
        constant = nodes.get(node.input[1].partition(":")[0]) if len(node.input) > 1 else None
        if constant is None or constant.op != "Const" or self._file.meta is None:
            return None
        name = next(
            (
                each.filename
                for each in self._file.meta.asset_file_def
                if each.tensor_info.name.partition(":")[0] == constant.name
            ),
            None,
        )
        # A folder is asked for its own files only.
        if not name or "/" in name or "\\" in name or name.startswith("."):
            return None
        try:
            return tuple(read_text(self._file.assets / name, "a labels file").splitlines())
        except FileError:
            return None
