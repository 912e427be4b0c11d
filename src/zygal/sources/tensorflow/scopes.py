"""The nodes of a graph and of the functions that it calls, and where their inputs lead."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from zygal.errors import SourceError
from zygal.sources.tensorflow.graph_file import GraphFile
from zygal.sources.tensorflow.site import OUTPUTS, Value

DEEPEST_CALLS, MOST_CALLS = 200, 20_000


@dataclass(eq=False)
class Scope:
    """The nodes of the graph or of one call of a function. arguments: of a call, what each name stands for outside."""

    nodes: dict[str, Any]
    path: str = ""
    caller: Scope | None = None
    arguments: dict[str, str | Value] = field(default_factory=dict)
    within: tuple[str, ...] = ()
    returns: tuple[str, ...] = ()
    calls: dict[str, Scope] = field(default_factory=dict)


@dataclass(frozen=True)
class Place:
    """One result of a node, or a value that is known already."""

    scope: Scope
    node: str
    result: int = 0
    value: Value | None = None


class Scopes:
    """Goes into functions where they are called, and follows references across them."""

    def __init__(self, file: GraphFile):
        self.file, self._bodies, self._calls = file, {}, 0

    def called(self, caller: Scope, function: str, arguments: list, path: str) -> Scope:
        """The scope of a function that is called. Raises SourceError."""
        body = self.file.functions.get(function)
        if body is None:
            raise SourceError(
                f"{self.file.path} is damaged: it calls a function {function or 'without a name'}, which it "
                f"does not hold."
            )
        if function in caller.within or len(caller.within) > DEEPEST_CALLS:
            raise SourceError(f"{self.file.path} cannot be converted: the function {function} calls itself.")
        self._calls += 1
        if self._calls > MOST_CALLS:
            raise SourceError(
                f"{self.file.path} cannot be converted: its functions call each other more than {MOST_CALLS} times."
            )
        names = [each.name for each in body.signature.input_arg]
        if len(names) != len(arguments):
            raise SourceError(
                f"{self.file.path} is damaged: the function {function} takes {len(names)} arguments and is "
                f"given {len(arguments)}."
            )
        if function not in self._bodies:
            self._bodies[function] = {node.name: node for node in body.node_def}
        returns = []
        for each in body.signature.output_arg:
            if each.name not in body.ret:
                raise SourceError(
                    f"{self.file.path} is damaged: the function {function} does not say what it returns as {each.name}."
                )
            returns.append(body.ret[each.name])
        return Scope(
            self._bodies[function],
            f"{caller.path}{path}/",
            caller,
            dict(zip(names, arguments)),
            (*caller.within, function),
            tuple(returns),
        )

    def resolved(self, scope: Scope, reference: str | Value) -> Place:
        """What a reference leads to: arguments of functions are followed to where they come from."""
        while True:
            if not isinstance(reference, str):
                return Place(scope, "", 0, reference)
            name, _, rest = reference.partition(":")
            if scope.caller is not None and name in scope.arguments and not rest:
                reference, scope = scope.arguments[name], scope.caller
                continue
            if name not in scope.nodes:
                raise SourceError(f"{self.file.path} is damaged: {scope.path}{name} is read, but no node makes it.")
            return Place(scope, name, self._result_number(scope.nodes[name], rest))

    def _result_number(self, node: Any, rest: str) -> int:
        """Which result "1", "output:1" or "y:0" is: functions name the result, and count within it."""
        name, _, number = rest.rpartition(":")
        place = int(number) if number.isascii() and number.isdigit() and len(number) < 10 else 0
        if not name or node.op not in OUTPUTS:
            return place
        if name not in OUTPUTS[node.op]:
            raise SourceError(f"{self.file.path} is damaged: {node.name} ({node.op}) has no result {name}.")
        return OUTPUTS[node.op].index(name) + place

    def array_behind(self, scope: Scope, reference: str) -> str:
        """The node that makes an array, looking through what passes it on."""
        for _ in range(100):
            node = scope.nodes.get(reference.partition(":")[0])
            if node is None or node.op not in ("Enter", "Identity", "Switch", "Merge", "Exit") or not node.input:
                break
            reference = node.input[0]
        return reference.partition(":")[0]
