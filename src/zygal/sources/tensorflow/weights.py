"""Which variable of the checkpoint a resource of the graph is."""

from __future__ import annotations

from typing import Any

import numpy as np

from zygal.errors import SourceError
from zygal.sources.tensorflow.graph_file import GraphFile
from zygal.sources.tensorflow.messages import message
from zygal.sources.tensorflow.site import NodeSite, Resource
from zygal.sources.tensorflow.tensors import array_of
from zygal.sources.tensorflow.variables import Variables


class Weights:
    """Arrays of variables. Three ways lead from a variable to its key in the checkpoint, tried in this order: what the
    saver's own restore assigns to it, the graph of objects, and its name."""

    def __init__(self, file: GraphFile):
        self._file = file
        self._variables: Variables | None = None
        self._restored: dict[str, tuple[str, str]] | None = None
        self._by_object: dict[str, str] | None = None
        self._held: dict[str, np.ndarray] = {}
        self._texts: dict[int, list[str]] = {}

    @property
    def widths(self) -> set[str]:
        """The dtypes of the variables that were read."""
        return self._variables.widths if self._variables is not None else set()

    def stored(self) -> list[tuple[str, tuple[int, ...], str]]:
        """The name, the shape and the dtype of every variable in the checkpoint."""
        if self._file.variables is None:
            return []
        opened = self._opened()
        return [(key, opened.stored(key).shape, opened.stored(key).dtype) for key in opened.numeric_keys()]

    def of(self, resource: Resource, call: NodeSite) -> np.ndarray:
        """The numbers of a variable. Raises SourceError."""
        if resource.node not in self._held:
            self._held[resource.node] = self._read(resource, call)
        return self._held[resource.node]

    def _read(self, resource: Resource, call: NodeSite) -> np.ndarray:
        if self._file.variables is None:
            call.refuse(
                f"reads the variable {resource.name}, but there is no folder variables with its values beside the graph"
            )
        opened = self._opened()
        restored = self._restores().get(resource.node)
        if restored is not None:
            return opened.array(*restored)
        for name in (resource.name, resource.node):
            if name in self._objects():
                return opened.array(self._objects()[name])
            if name in opened:
                return opened.array(name)
        return call.refuse(f"reads the variable {resource.name}, which {self._file.variables}.index does not hold")

    def _opened(self) -> Variables:
        if self._variables is None:
            self._variables = Variables(self._file.variables)
        return self._variables

    def _objects(self) -> dict[str, str]:
        """Keys by the names of variables, and by the places of their objects."""
        if self._by_object is None:
            self._by_object, ambiguous = {}, set()
            graph = self._opened().object_graph() or message("TrackableObjectGraph")()
            for place, each in enumerate(graph.nodes):
                for attribute in each.attributes:
                    if attribute.name != "VARIABLE_VALUE":
                        continue
                    for name in (attribute.full_name, f"object {place}"):
                        if self._by_object.setdefault(name, attribute.checkpoint_key) != attribute.checkpoint_key:
                            ambiguous.add(name)
            # A name that two variables have says nothing.
            for name in ambiguous:
                del self._by_object[name]
        return self._by_object

    def _restores(self) -> dict[str, tuple[str, str]]:
        """For each variable's node the key, and the slice, that the saver restores it from."""
        if self._restored is None:
            self._restored = {}
            name = self._file.meta.saver_def.restore_op_name if self._file.meta is not None else ""
            root = self._file.nodes.get(name.partition(":")[0])
            if root is not None:
                self._follow(root)
        return self._restored

    def _follow(self, root: Any) -> None:
        function = self._file.functions.get(root.attr["f"].func.name) if "f" in root.attr else None
        if function is not None:
            outside = dict(zip((each.name for each in function.signature.input_arg), root.input))
            self._assignments({node.name: node for node in function.node_def}, function.node_def, outside)
            return
        # The first generation: a node that waits for one assignment for each variable.
        reached, waiting = [], [root]
        seen = set()
        while waiting:
            node = waiting.pop()
            if node.name in seen:
                continue
            seen.add(node.name)
            reached.append(node)
            names = (each.lstrip("^").partition(":")[0] for each in node.input)
            waiting += [self._file.nodes[each] for each in names if each in self._file.nodes]
        self._assignments(self._file.nodes, reached, {})

    def _assignments(self, nodes: dict[str, Any], listed: Any, outside: dict[str, str]) -> None:
        for node in listed:
            if node.op not in ("AssignVariableOp", "Assign") or len(node.input) < 2:
                continue
            variable, source = node.input[0], node.input[1]
            found = self._restore_behind(nodes, source)
            if found is not None:
                name = outside.get(variable, variable).partition(":")[0]
                self._restored.setdefault(name, found)

    def _restore_behind(self, nodes: dict[str, Any], source: str) -> tuple[str, str] | None:
        """The key and the slice that a value was restored from, looking through what passes it on."""
        for _ in range(20):
            name, _, rest = source.partition(":")
            node = nodes.get(name)
            if node is None:
                return None
            if node.op == "RestoreV2":
                number = rest.rpartition(":")[2]
                return self._restore_arguments(
                    nodes, node, int(number) if number.isascii() and number.isdigit() and len(number) < 10 else 0
                )
            if node.op not in ("Identity", "Cast", "IdentityN") or not node.input:
                return None
            source = node.input[0]
        return None

    def _restore_arguments(self, nodes: dict[str, Any], node: Any, place: int) -> tuple[str, str] | None:
        listed = []
        for reference in node.input[1:3]:
            constant = nodes.get(reference.partition(":")[0])
            if constant is None or constant.op != "Const" or "value" not in constant.attr:
                return None
            if id(constant) not in self._texts:
                try:
                    texts, _ = array_of(constant.attr["value"].tensor, str(self._file.path))
                except SourceError:
                    return None
                self._texts[id(constant)] = [each.decode("utf-8", "backslashreplace") for each in texts.reshape(-1)]
            listed.append(self._texts[id(constant)])
        return (listed[0][place], listed[1][place]) if all(place < len(each) for each in listed) else None
