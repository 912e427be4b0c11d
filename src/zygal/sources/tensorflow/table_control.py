"""Operators that hold, pass on, choose or check values, and those that only training uses."""

from __future__ import annotations

import numpy as np

from zygal.sources.layouts import View
from zygal.sources.tensorflow.site import DEAD, IN_TRAINING, Chance, Label, NodeSite, Resource, Texts, Value, operator
from zygal.sources.tensorflow.tensors import array_of

VARIABLES = ("VarHandleOp", "VariableV2", "Variable", "AutoReloadVariable")


@operator(
    "Identity",
    "StopGradient",
    "PreventGradient",
    "Snapshot",
    "CheckNumerics",
    "PlaceholderWithDefault",
    "RefIdentity",
    "CopyHost",
    "Copy",
    "_EagerConst",
    "GuaranteeConst",
    "ReadVariableXlaSplitND",
    "OptimizationBarrier",
)
def unchanged(call: NodeSite) -> Value:
    call.attribute("shape")
    value = call.given(0)
    if isinstance(value, Resource) and value.operator in VARIABLES[1:]:
        return _read(call, value)
    return value


@operator("IdentityN", outputs=("output",))
def all_unchanged(call: NodeSite) -> list[Value]:
    return list(call.inputs)


@operator("Placeholder", "PlaceholderV2")
def not_fed(call: NodeSite) -> Value:
    return call.refuse(
        "is a further input, and it is not known what it must be at inference; name the input with --input, or save "
        "the model without it"
    )


@operator("EnsureShape")
def checked(call: NodeSite) -> View:
    call.attribute("shape")
    return call.x()


@operator("Const", "HostConst")
def constant(call: NodeSite) -> Value:
    beside = call.context.arrays.get(call.node.name)
    call.attribute("value")
    if beside is not None:
        return call.held(beside, "value")
    array, stored_as = array_of(call.node.attr["value"].tensor, f"{call.context.where}: {call.name}")
    if stored_as == "string":
        return Texts(array)
    if array.dtype.kind == "f" and array.size > 1:
        call.context.widths.add(stored_as)
        call.context.numbers[call.name] = array.size
    return call.held(array, "value")


@operator(*VARIABLES)
def variable(call: NodeSite) -> Resource:
    call.attribute("shape")
    return Resource(call.node.name, call.attribute("shared_name") or call.node.name, call.kind)


@operator("ReadVariableOp")
def read_variable(call: NodeSite) -> View:
    value = call.given(0)
    if not isinstance(value, Resource):
        call.refuse("reads something that is no variable")
    return _read(call, value)


def _read(call: NodeSite, resource: Resource) -> View:
    array = call.context.weights.of(resource, call)
    if array.dtype.kind == "f":
        call.context.numbers[resource.node] = array.size
    return call.held(array, "read")


@operator("ResourceGather")
def gather_rows(call: NodeSite) -> View:
    """Rows of a variable by their numbers."""
    if call.attribute("batch_dims", 0):
        call.refuse("picks from several tables at once, which is not supported")
    table, index = read_variable(call), call.x(1)
    return call.value(call.step("Gather", table.name, call.plain(index), axis=0))


@operator("NoOp", "Assert", "DisableCopyOnRead", "PrintV2", "Print", "AssignVariableOp", "VarIsInitializedOp")
def nothing(call: NodeSite) -> Value:
    return call.given(0) if call.kind == "Print" else DEAD


@operator("Switch", "RefSwitch", outputs=("output_false", "output_true"))
def switch(call: NodeSite) -> list[Value]:
    """A value on the branch that is taken, nothing on the other."""
    truth = call.known(1)
    if truth is None or truth.size != 1:
        call.refuse("runs other layers depending on the image; an artifact runs the same layers for every image")
    return [DEAD, call.given(0)] if bool(truth.reshape(-1)[0]) else [call.given(0), DEAD]


@operator("Merge", "RefMerge", outputs=("output", "value_index"))
def merge(call: NodeSite) -> list[Value]:
    alive = [place for place, value in enumerate(call.inputs) if value is not DEAD]
    if len(alive) != 1:
        call.refuse(f"joins branches of which {len(alive)} are taken")
    return [call.given(alive[0]), call.held(np.array(alive[0], np.int32), "index")]


# What training draws


@operator("RandomUniform", "StatelessRandomUniform", "StatelessRandomUniformV2")
def random_numbers(call: NodeSite) -> Chance:
    call.attribute("alg")
    return Chance()


def mask(call: NodeSite, kept: float) -> View:
    """What decides by chance what is kept stands for its probability, so that what was divided by it is whole again."""
    if kept < 1:
        call.note(IN_TRAINING)
    return call.held(np.array(min(max(kept, 0.0), 1.0), np.float32), "chance")


# Tables of labels


@operator("HashTableV2", "HashTable", "MutableHashTableV2")
def table(call: NodeSite) -> Resource:
    for name in ("key_dtype", "value_dtype", "use_node_name_sharing"):
        call.attribute(name)
    return Resource(call.node.name, call.attribute("shared_name") or call.node.name, call.kind)


@operator("LookupTableFindV2", "LookupTableFind")
def looked_up(call: NodeSite) -> Label:
    """Text for numbers of classes."""
    resource = call.given(0)
    if not isinstance(resource, Resource) or "Table" not in resource.operator:
        call.refuse("looks up in a resource that is not known")
    return Label(call.context.tables.labels(resource, call))


@operator("AsString")
def numbers_as_text(call: NodeSite) -> Label:
    for name in ("precision", "scientific", "shortest", "width", "fill"):
        call.attribute(name)
    return Label()
