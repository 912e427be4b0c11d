"""An ONNX message to a graph, one node after the other: functions are entered, and branches whose condition is known
are taken."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Iterable, Mapping, MutableMapping
from pathlib import Path

import numpy as np
import onnx
from onnx import AttributeProto, TensorProto, helper

from zygal.classifier.metadata import TENSOR_KEY, Metadata
from zygal.errors import GraphError, SourceError, UnknownOperators, shown
from zygal.graph import Batch, Graph, TensorType
from zygal.graph.passes.dead import remove_dead
from zygal.inlet.front import LAYER
from zygal.inlet.sizes import tensor_shape
from zygal.onnx.contents import inputs_of, opset_of, properties_of
from zygal.onnx.read import load_model
from zygal.onnx.validate import STANDARD, validate
from zygal.sources.onnx import (  # noqa: F401  (each table enters its operators)
    standard,
    table_arithmetic,
    table_normalisation,
    table_quantization,
    table_recurrent,
    table_resampling,
    table_shapes,
    table_windows,
)
from zygal.sources.onnx.site import Context, OnnxSite, handler_of
from zygal.sources.onnx.tensors import array_of, input_type

DEEPEST = 16
MOST_NODES = 200_000
_FAULTS = (KeyError, TypeError, ValueError, IndexError, AttributeError, ArithmeticError)
_CONSTANT_FORMS = {"value_float": np.float32, "value_int": np.int64, "value_floats": np.float32, "value_ints": np.int64}


class _Nothing:
    """A value that is not in the graph."""


UNKNOWN, UNMADE = _Nothing(), _Nothing()
"""UNKNOWN: made by an operator that is not known. UNMADE: a result that only training has."""
Scope = MutableMapping[str, "str | TensorProto | _Nothing"]


class Translator:
    """The values of a message that was validated. image_shape: the shape of one image's tensor, for inputs that leave
    it open. Raises SourceError."""

    def __init__(self, model: onnx.ModelProto, where: str, image_shape: tuple[int, ...] | None = None):
        self.model, self.where = model, where
        self.context = Context(where)
        self.builder = self.context.builder
        self._functions = {(each.domain, each.name): each for each in model.functions}
        self._nodes_left = MOST_NODES
        self._scope: Scope = {tensor.name: tensor for tensor in model.graph.initializer}
        properties = properties_of(model)
        self._tensor = properties.get(TENSOR_KEY)
        opset = opset_of(model)
        if opset > standard.NEWEST:
            raise SourceError(
                f"{where} uses opset {opset}, which is newer than the {standard.NEWEST} that is known here."
            )
        inputs = self._of_raw_pixels(properties) if self._tensor else self._types(image_shape)
        for name, type in inputs.items():
            self._scope[name] = self.builder.input(name, type)

    # Inputs

    def _of_raw_pixels(self, properties: Mapping[str, str]) -> dict[str, TensorType]:
        """Of an artifact that takes raw pixels: the input of the model behind its inlet."""
        inlet = Metadata.from_properties(properties, self.where).inlet
        shape = inlet and tensor_shape(inlet)
        if not shape:
            raise SourceError(f"{self.where} takes raw pixels, but its metadata do not describe the tensor.")
        return {self._tensor: TensorType(np.dtype(inlet.tensor.dtype), (Batch(), *shape))}

    def _types(self, image_shape: tuple[int, ...] | None) -> dict[str, TensorType]:
        return {info.name: input_type(info, self.where, image_shape) for info in inputs_of(self.model)}

    # Nodes

    def run(self) -> None:
        """Translates all nodes. Raises SourceError; UnknownOperators naming all that are not known at once."""
        versions = {"" if each.domain in STANDARD else each.domain: each.version for each in self.model.opset_import}
        nodes = self.model.graph.node
        if self._tensor:
            nodes = [node for node in nodes if not node.name.startswith(f"{LAYER}/")]
        self._run(nodes, self._scope, versions, None, "", 0)
        if self.context.unknown:
            raise UnknownOperators(self.where, self.context.unknown, again="save")

    def _run(
        self,
        nodes: Iterable[onnx.NodeProto],
        scope: Scope,
        versions: Mapping[str, int],
        arguments: Mapping[str, AttributeProto] | None,
        inside: str,
        depth: int,
    ) -> None:
        """One body. arguments: the attributes of the function that it is of. inside: that function's layer."""
        if depth > DEEPEST:
            raise SourceError(f"{self.where} is damaged: its functions call each other more than {DEEPEST} deep.")
        for node in nodes:
            self._nodes_left -= 1
            if self._nodes_left < 0:
                raise SourceError(f"{self.where} has more than {MOST_NODES} nodes, its functions entered.")
            named = node.name or next((name for name in node.output if name), node.op_type)
            try:
                attributes = standard.attributes(node, arguments)
                made = self._made(node, attributes, scope, versions, arguments, inside, depth)
            except GraphError as fault:
                raise SourceError(f"{self.where} cannot be converted: {fault}") from fault
            except _FAULTS as fault:
                raise SourceError(
                    f"{self.where} cannot be converted: {shown(named)} ({shown(node.op_type)}) does not fit what "
                    f"it is given ({type(fault).__name__}: {fault})."
                ) from fault
            for name, value in zip(node.output, made):
                if name:
                    scope[name] = value

    def _made(
        self, node, attributes, scope: Scope, versions, arguments, inside: str, depth: int
    ) -> list[str | _Nothing]:
        domain = "" if node.domain in STANDARD else node.domain
        function = self._functions.get((node.domain, node.op_type)) or self._functions.get((domain, node.op_type))
        layer = inside or node.name.rpartition("/")[0] or node.name
        if function is not None:
            return self._entered(function, node, attributes, scope, layer, depth)
        if domain == "" and node.op_type == "Constant":
            return [self._constant(node, attributes)]
        if domain == "" and node.op_type == "If":
            return self._branch(node, attributes, scope, versions, arguments, inside, depth)
        values = [self._value(scope, name) for name in node.input]
        if any(each is UNKNOWN for each in values):
            return [UNKNOWN] * len(node.output)
        if any(each is UNMADE for each in values):
            raise SourceError(
                f"{self.where} cannot be converted: {shown(node.name or node.op_type)} reads what only training makes."
            )
        schema = standard.schema(node.op_type, versions.get(domain, 0), self.where) if domain == "" else None
        handler = handler_of(node.op_type) if schema is not None else None
        if handler is None:
            if schema is not None and (schema.has_function or schema.has_context_dependent_function):
                types = [self.builder.types[value] if value else None for value in values]
                resolved = standard.resolved(node, attributes)
                body = standard.definition(schema, resolved, types, versions[domain])
                if body is not None:
                    given = standard.with_defaults(attributes, schema)
                    return self._entered(body, node, given, scope, layer, depth)
            kind = node.op_type if domain == "" else f"{domain}.{node.op_type}"
            self.context.unknown.setdefault(shown(kind), []).append(shown(node.name or node.output[0]))
            return [UNKNOWN] * len(node.output)
        return self._by_table(node, handler, schema, attributes, values, layer)

    def _by_table(self, node, handler, schema, attributes, values, layer: str) -> list[str | _Nothing]:
        standard.check_form(schema, attributes, len(node.input))
        given = {name: standard.plain(each) for name, each in attributes.items()}
        outputs = list(node.output)
        stem = next(name for name in outputs if name)
        site = OnnxSite(self.context, node.op_type, schema.since_version, stem, layer, values, outputs, given)
        made = handler(site)
        site.check_read()
        made = (made,) if isinstance(made, str) else made
        if len(made) < len(outputs):
            made = (*made, *(None,) * (len(outputs) - len(made)))
        return [self._named(site, value, name) for value, name in zip(made, outputs)]

    def _named(self, site: OnnxSite, value: str | None, name: str) -> str | _Nothing:
        """A result under the name that the file gives it; what it holds, where that is known."""
        if value is None:
            return UNMADE
        value = site.renamed(value, name) if name else value
        known = None if value in self.builder.constants else site.array(value)
        return value if known is None else self.builder.made_constant(f"{value}.known", known)

    def _value(self, scope: Scope, name: str) -> str | _Nothing:
        """The graph's value of a name; a weight comes into the graph when it is first read."""
        if not name:
            return ""
        value = scope[name]
        if isinstance(value, TensorProto):
            value = self.builder.constant(name, array_of(value, self.where))
            # A body reads the weights of the graph around it.
            holder = next((each for each in scope.maps if name in each), scope) if hasattr(scope, "maps") else scope
            holder[name] = value
        return value

    def _constant(self, node: onnx.NodeProto, attributes: Mapping[str, AttributeProto]) -> str:
        ((form, attribute),) = attributes.items() if len(attributes) == 1 else [("", None)]
        if form == "value":
            return self.builder.constant(node.output[0], array_of(attribute.t, self.where))
        if form not in _CONSTANT_FORMS:
            raise SourceError(
                f"{self.where} cannot be converted: the constant {shown(node.output[0])} has a form that is not "
                "supported (text, or sparse)."
            )
        return self.builder.constant(
            node.output[0], np.asarray(helper.get_attribute_value(attribute), _CONSTANT_FORMS[form])
        )

    # Bodies

    def _entered(self, function: onnx.FunctionProto, node, attributes, scope: Scope, layer: str, depth: int):
        """The results of a function's body, as if it stood in the call's place."""
        values = [self._value(scope, name) for name in node.input]
        inner: Scope = dict.fromkeys(function.input, "")
        inner.update(zip(function.input, values))
        arguments = {each.name: each for each in function.attribute_proto}
        arguments.update(attributes)
        unknown = attributes.keys() - {*function.attribute, *(each.name for each in function.attribute_proto)}
        if unknown:
            raise SourceError(
                f"{self.where} cannot be converted: {shown(node.name or node.op_type)} has the attribute "
                f"{shown(min(unknown))}, which the function {shown(function.name)} does not take."
            )
        versions = {"" if each.domain in STANDARD else each.domain: each.version for each in function.opset_import}
        self._run(function.node, inner, versions, arguments, layer, depth + 1)
        made = [inner.get(name) for name in function.output]
        if any(each is None for each in made[: len(node.output)]):
            raise SourceError(f"{self.where} is damaged: the function {shown(function.name)} lacks a result.")
        made = [self._value(inner, name) for name in function.output]
        return [self._renamed(value, name) for value, name in zip(made, node.output)]

    def _renamed(self, value: str | _Nothing, name: str) -> str | _Nothing:
        held = isinstance(value, str) and self.builder.maker(value) is not None
        return self.builder.rename(value, name) if held and name else value

    def _branch(
        self, node, attributes, scope: Scope, versions, arguments, inside: str, depth: int
    ) -> list[str | _Nothing]:
        """The results of the branch that is taken, where the condition is known."""
        condition = self._value(scope, node.input[0])
        known = self.builder.constants.get(condition) if isinstance(condition, str) else None
        if condition is UNKNOWN:
            return [UNKNOWN] * len(node.output)
        if known is None or known.size != 1:
            raise SourceError(
                f"{self.where} cannot be converted: {shown(node.name or node.output[0])} (If) decides by the image "
                "what is computed, which an artifact cannot."
            )
        taken = attributes["then_branch" if known.reshape(-1)[0] else "else_branch"].g
        inner: Scope = ChainMap({tensor.name: tensor for tensor in taken.initializer}, scope)
        self._run(taken.node, inner, versions, arguments, inside, depth + 1)
        values = [self._value(inner, info.name) for info in taken.output]
        return [self._renamed(value, name) for value, name in zip(values, node.output)]

    # Results

    def value_named(self, name: str) -> str | None:
        """The graph's value of an output, if it is known."""
        value = self._value(self._scope, name)
        return value if isinstance(value, str) else None

    def graph(self, outputs: Iterable[str]) -> Graph:
        """The graph that makes some of the file's outputs, by their names. Raises SourceError."""
        names = []
        for name in outputs:
            value = self.value_named(name)
            if value is None:
                raise SourceError(
                    f"{self.where} cannot be converted: its output {shown(name)} is made in training only."
                )
            if value in self.builder.input_names or value in names:
                value = self.builder.add("Identity", [value], self.builder.free_name(f"{name}.value"))
            names.append(self._renamed(value, name))
        try:
            return remove_dead(self.builder.finish(names))
        except GraphError as fault:
            raise SourceError(f"{self.where} cannot be converted: {fault}") from fault


def artifact_graph(path: str | Path, image_shape: tuple[int, ...] | None = None) -> Graph:
    """The graph of an artifact, all its outputs; of one that takes raw pixels, that of the model behind its inlet.

    Raises FileError, ArtifactError, SourceError or UnknownOperators.
    """
    return _graph_of(load_model(path), str(path), image_shape)


def graph_of_model(model: onnx.ModelProto, where: str) -> Graph:
    """The graph that a message states. Raises ArtifactError, SourceError or UnknownOperators."""
    validate(model, Path(where))
    return _graph_of(model, where, None)


def _graph_of(model: onnx.ModelProto, where: str, image_shape: tuple[int, ...] | None) -> Graph:
    translator = Translator(model, where, image_shape)
    translator.run()
    return translator.graph(info.name for info in model.graph.output)
