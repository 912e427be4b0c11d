"""A graph of nodes to ours, node by node through the operator tables; functions are gone into where they are called."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, NoReturn

from zygal.errors import GraphError, SourceError
from zygal.graph import Batch, TensorType
from zygal.sources.layouts import View
from zygal.sources.tensorflow import (  # noqa: F401  (each table enters its operators)
    table_control,
    table_creation,
    table_elementwise,
    table_images,
    table_indexing,
    table_products,
    table_reduction,
    table_resizing,
    table_shaping,
)
from zygal.sources.tensorflow.entrance import Entrance
from zygal.sources.tensorflow.graph_file import GraphFile
from zygal.sources.tensorflow.pixels import EachImage, Pixels, batched
from zygal.sources.tensorflow.scopes import Place, Scope, Scopes
from zygal.sources.tensorflow.site import (
    DEAD,
    OPERATORS,
    UNKNOWN,
    Context,
    NodeSite,
    Resource,
    Value,
    plain_attribute,
    shown_attributes,
)
from zygal.sources.tensorflow.tensors import computed_dtype

CALLS = ("PartitionedCall", "StatefulPartitionedCall", "RemoteCall", "SymbolicGradient")
BRANCHES = {"If": ("then_branch", "else_branch"), "StatelessIf": ("then_branch", "else_branch")}
LOOPS = ("Enter", "Exit", "NextIteration", "LoopCond", "For", "MapDefun", "RefEnter", "RefExit", "RefNextIteration")
LOOPS_OF_FUNCTIONS = ("While", "StatelessWhile")
LISTS_OF_LOOPS = (
    "TensorListFromTensor",
    "TensorListGetItem",
    "TensorListSetItem",
    "TensorListStack",
    "TensorArrayScatterV3",
)
"""What hands a loop its slices and takes them back. With tensors, not files, it is a loop over the images."""
ARRAYS = {"TensorArrayGatherV3": "TensorArrayWriteV3", "TensorArrayReadV3": "TensorArrayScatterV3"}
"""What takes something out of an array of images, and what has put it there."""
MOST_NODES = 2_000_000


class Translator:
    """Translates what is asked for, and nothing else.

    fed: values for nodes that stand for something else than what they say, by name: placeholders above all. read: those
    of them that something depends on.
    """

    def __init__(self, file: GraphFile, context: Context):
        self.file, self.context = file, context
        self.outermost = Scope(file.nodes)
        self.fed: dict[str, Value] = {}
        self.read: set[str] = set()
        self.entrance = Entrance(str(file.path))
        self._done: dict[tuple[Scope, str], list[Value]] = {}
        self._scopes = Scopes(file)

    def value(self, tensor: str, scope: Scope | None = None) -> Value:
        """The value of a tensor by its name in the graph. Raises SourceError."""
        scope = scope or self.outermost
        place = self._scopes.resolved(scope, tensor)
        if place.value is not None:
            return place.value
        self._fill(place)
        return self.result(place)

    def called(self, function: str, arguments: Sequence[Value]) -> Scope:
        """A call of a function of the library from outside. Raises SourceError."""
        return self._scopes.called(self.outermost, function, list(arguments), function)

    def resolved(self, scope: Scope, reference: str | Value) -> Place:
        """What a reference leads to, across calls of functions."""
        return self._scopes.resolved(scope, reference)

    def done(self) -> dict[tuple[Scope, str], list[Value]]:
        """What was made of every node that something depends on, in order."""
        return self._done

    def _fill(self, wanted: Place) -> None:
        stack, opened = [wanted], set()
        while stack:
            place = stack[-1]
            key = (place.scope, place.node)
            if key in self._done:
                stack.pop()
                continue
            needed = self._needed(place)
            missing = [each for each in needed if each.value is None and (each.scope, each.node) not in self._done]
            if missing:
                state = (key, len(needed))
                if state in opened:
                    raise SourceError(f"{self.file.path} is damaged: {self._name(place)} depends on its own result.")
                opened.add(state)
                stack += missing[::-1]
                continue
            if len(self._done) > MOST_NODES:
                raise SourceError(
                    f"{self.file.path} calls its functions more than {MOST_NODES} nodes deep; no classifier needs that."
                )
            self._done[key] = self._made(place, [self.result(each) for each in needed])
            stack.pop()

    def _needed(self, place: Place) -> list[Place]:
        """What must be there before a node can be translated: its inputs; of a call, what the function returns."""
        node = self._node(place)
        if place.scope is self.outermost and node.name in self.fed:
            return []
        inner = self._inner(place, node)
        if inner is not None:
            return [self._scopes.resolved(inner, each) for each in inner.returns]
        if node.op in BRANCHES:
            return self._branch(place, node)
        if node.op in ARRAYS:
            return self._put_there(place, node)
        if node.op in LOOPS:
            self._refuse_loop(place)
        return [self._scopes.resolved(place.scope, each) for each in node.input if not each.startswith("^")]

    def _refuse_loop(self, place: Place) -> NoReturn:
        raise SourceError(
            f"{self.file.path} cannot be converted: {self._name(place)} ({self._node(place).op}) is part of a loop, "
            "which an artifact does not have; save the model with its loop unrolled."
        )

    def _put_there(self, place: Place, node: Any) -> list[Place]:
        """Of an array over the images of a batch what a node has put into it: nothing but the array connects the
        two."""
        root, written = self._scopes.array_behind(place.scope, node.input[0]), []
        for name, other in place.scope.nodes.items():
            if other.op == ARRAYS[node.op] and self._scopes.array_behind(place.scope, other.input[0]) == root:
                written.append(name)
        if len(written) != 1:
            self._refuse_loop(place)
        source = place.scope.nodes[written[0]]
        return [self._scopes.resolved(place.scope, source.input[2])]

    def _branch(self, place: Place, node: Any) -> list[Place]:
        """Of a choice between two functions first the condition; once that is known, what the one returns."""
        condition = self._scopes.resolved(place.scope, node.input[0])
        if condition.value is None and (condition.scope, condition.node) not in self._done:
            return [condition]
        truth = self._truth(self.result(condition), place)
        name = BRANCHES[node.op][0 if truth else 1]
        inner = place.scope.calls.get(node.name)
        if inner is None:
            function = plain_attribute(node.attr[name]) if name in node.attr else None
            inner = self._scopes.called(place.scope, getattr(function, "name", ""), [*node.input[1:]], node.name)
            place.scope.calls[node.name] = inner
        return [self._scopes.resolved(inner, each) for each in inner.returns]

    def _truth(self, value: Value, place: Place) -> bool:
        array = self.context.builder.constants.get(value.name) if isinstance(value, View) else None
        if array is None or array.size != 1:
            raise SourceError(
                f"{self.file.path} cannot be converted: {self._name(place)} runs other layers depending on the image; "
                "an artifact runs the same layers for every image."
            )
        return bool(array.reshape(-1)[0])

    def _inner(self, place: Place, node: Any) -> Scope | None:
        """The scope of the function that a node calls, or None for any other node."""
        if node.name in place.scope.calls and node.op not in BRANCHES:
            return place.scope.calls[node.name]
        if node.op in CALLS and "f" in node.attr:
            name = node.attr["f"].func.name
        elif node.op in self.file.functions and node.op not in OPERATORS:
            name = node.op
        else:
            return None
        scope = self._scopes.called(
            place.scope, name, [each for each in node.input if not each.startswith("^")], node.name
        )
        place.scope.calls[node.name] = scope
        return scope

    def result(self, place: Place) -> Value:
        """See `Outcome.result`."""
        if place.value is not None:
            return place.value
        results = self._done[place.scope, place.node]
        if results and results[0] is UNKNOWN:
            return UNKNOWN
        if results and results[0] is DEAD and len(results) == 1:
            return DEAD
        if not 0 <= place.result < len(results):
            raise SourceError(
                f"{self.file.path} cannot be converted: it reads result {place.result} of {self._name(place)} "
                f"({self._node(place).op}), which is not known at inference."
            )
        return results[place.result]

    def _node(self, place: Place) -> Any:
        return place.scope.nodes[place.node]

    def _name(self, place: Place) -> str:
        return f"{place.scope.path}{place.node}"

    def _made(self, place: Place, inputs: list[Value]) -> list[Value]:
        node = self._node(place)
        if place.scope is self.outermost and node.name in self.fed:
            self.read.add(node.name)
            return [self.fed[node.name]]
        if node.op in BRANCHES or node.name in place.scope.calls:
            return inputs
        if node.op in ARRAYS:
            return self._out_of_array(place, node, inputs[0])
        if any(each is UNKNOWN for each in inputs):
            return [UNKNOWN]
        if node.op != "Merge" and any(each is DEAD for each in inputs):
            return [DEAD]
        if node.op in LOOPS_OF_FUNCTIONS:
            return self._each_image(place, node, inputs)
        if node.op in LISTS_OF_LOOPS and not self.entrance.takes(inputs):
            self._refuse_loop(place)
        if node.op not in OPERATORS and not self.entrance.takes(inputs):
            return self._unknown(place)
        # A name inside a function is the training code's; outside it says which call of it this is.
        name = node.name if "/" in node.name or not place.scope.path else self._name(place)
        site = NodeSite(self.context, node, name, name.rpartition("/")[0] or name, inputs)
        if self.entrance.takes(inputs):
            made = self._translated(site, self.entrance.made)
            if made != [None]:
                return made
            if node.op not in OPERATORS:
                return self._unknown(place)
            site.inputs = [self.entrance.tensor(each, site) if isinstance(each, Pixels) else each for each in inputs]
        self.context.operators[node.op] += 1
        return self._translated(site, OPERATORS[site.kind])

    def _unknown(self, place: Place) -> list[Value]:
        """What is made of an operator that is not known; all of them are told at once, when the translation is
        through."""
        self.context.unknown.setdefault(self._node(place).op, []).append(self._name(place))
        return [UNKNOWN]

    def _out_of_array(self, place: Place, node: Any, value: Value) -> list[Value]:
        site = NodeSite(self.context, node, self._name(place), self._name(place), [value])
        return [batched(value, site) if node.op == "TensorArrayGatherV3" else value]

    def _each_image(self, place: Place, node: Any, inputs: list[Value]) -> list[Value]:
        """A loop over the images of a batch is gone through once; any other is refused."""
        function = node.attr["body"].func.name if "body" in node.attr else ""
        if not any(isinstance(each, EachImage) for each in inputs) or function not in self.file.functions:
            self._refuse_loop(place)
        scope = self._scopes.called(place.scope, function, inputs, node.name)
        return [self.value(each, scope) for each in scope.returns]

    def _translated(self, site: NodeSite, handler: Callable[[NodeSite], Any]) -> list[Value]:
        try:
            made = handler(site)
        except GraphError as fault:
            raise SourceError(f"{self.file.path} cannot be converted: {fault}") from fault
        except (KeyError, TypeError, ValueError, IndexError, AttributeError, ArithmeticError) as fault:
            site.refuse(f"has attributes or inputs that do not fit it ({type(fault).__name__}: {fault})")
        unread = site.unread() if handler is OPERATORS.get(site.kind) else []
        if unread:
            site.refuse(f"has an attribute that is not supported ({shown_attributes(site, unread)})")
        return [_settled(site, each) for each in (made if isinstance(made, list) else [made])]


def _settled(site: NodeSite, value: Value) -> Value:
    """What holds sizes of which none is the batch is a constant from here on."""
    if not isinstance(value, View) or value.name in site.context.builder.constants:
        return value
    array = site.array(value.name)
    return value if array is None else View(site.constant(array, "known"), value.order)


@dataclass(frozen=True)
class Output:
    """Stands for a node where an output's axes are put in their order."""

    name: str
    op: str = "output"
    attr: dict = field(default_factory=dict)


def captured(file: GraphFile, place: int) -> Value:
    """The resource of an object that a function takes behind its own arguments."""
    objects = file.meta.object_graph_def.nodes
    variable = objects[place].variable if 0 <= place < len(objects) else None
    if variable is None or not variable.dtype:
        raise SourceError(f"{file.path} cannot be converted: a function takes an object that is no variable.")
    return Resource(f"object {place}", variable.name, "VarHandleOp")


def declared_type(
    where: str, dtype: int, sizes: tuple[int | None, ...] | None, image_shape: tuple[int, ...] | None
) -> TensorType:
    """The type of an input; sizes that it leaves open are those of `image_shape`. Raises SourceError."""
    if sizes is None and image_shape:
        sizes = (None, *image_shape)
    if sizes is None:
        raise SourceError(
            f"{where} does not say how many axes it has; say the shape of one image's tensor with --shape, as "
            f"in --shape 224,224,3."
        )
    if image_shape and len(image_shape) == len(sizes) - 1:
        sizes = (sizes[0], *(given if size is None else size for size, given in zip(sizes[1:], image_shape)))
    if any(size is None or size < 1 for size in sizes[1:]):
        listed = ", ".join("?" if size is None else str(size) for size in sizes)
        raise SourceError(
            f"{where} leaves the size of its images open ([{listed}]); say it with --shape, as in --shape 224,224,3, "
            "or give an inlet that ends with a size."
        )
    first = sizes[:1] if sizes and sizes[0] is not None else (Batch(),) if sizes else ()
    return TensorType(computed_dtype(dtype, where), (*first, *sizes[1:]))
