"""What all families of sources share: the table of families, contents of shape tensors, dtypes, views, freeing,
checksums."""

import numpy as np
import onnx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.artifact.onnx.spelling import spelling_of
from zygal.errors import GraphError, SourceError
from zygal.files import kinds
from zygal.files.families import FAMILIES
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.ops import known_operators
from zygal.graph.reference import run_graph
from zygal.graph.shapes import at_batch
from zygal.sources.emitter import Emitter
from zygal.sources.freeing import Stuck, freed_graphs
from zygal.sources.layouts import LaidOut, View
from zygal.sources.layouts.regrouping import regrouped
from zygal.sources.tensorflow.checksum import crc32c
from zygal.sources.tensorflow.messages import message

FLOAT, INTEGER = np.dtype(np.float32), np.dtype(np.int64)


class Plain(LaidOut):
    def __init__(self, builder):
        super().__init__(builder, "step", "layer")

    def refuse(self, why):
        raise SourceError(f"layer {why}")


def test_every_kind_of_source_has_one_family_and_every_reason_reads_well():
    owned = [kind for family in FAMILIES for kind in family.kinds]
    assert len(owned) == len(set(owned)) == 11 and kinds.PROGRAM in owned
    for family in FAMILIES:
        for option, reason in family.refused.items():
            with pytest.raises(SourceError, match=f"^{option} does not apply to model: {reason}; leave it out.$"):
                family.refuse_options("model", {option: "x"})
            family.refuse_options("model", {option: None})


def test_operators_accept_no_more_dtypes_than_the_standard():
    names = {"float": "float32", "double": "float64"}
    for name, operator in known_operators().items():
        schema = onnx.defs.get_schema(spelling_of(name).name or name, max(17, spelling_of(name).since))
        allowed = {
            each.type_param_str: {kind[7:-1] for kind in each.allowed_type_strs} for each in schema.type_constraints
        }
        slots = {slot.place for slot in spelling_of(name).slots.values()}
        inputs = [each for place, each in enumerate(schema.inputs) if place not in slots]
        # What the branches of an If read is no input of it in the standard.
        for place, accepted in enumerate(operator.accepts[:1] if name == "If" else operator.accepts):
            formal = inputs[min(place, len(inputs) - 1)]
            standard = {names.get(kind, kind) for kind in allowed.get(formal.type_str, {formal.type_str[7:-1]})}
            assert accepted <= standard, (name, place, accepted - standard)


def test_a_dtype_that_an_operator_does_not_take_is_refused_with_its_layer():
    builder = GraphBuilder()
    x = builder.input("x", TensorType(INTEGER, (Batch(), 3)))
    with pytest.raises(
        GraphError, match="Sigmoid in layer head cannot take.*input 0 is int64, but it takes float16, float32, float64"
    ):
        builder.add("Sigmoid", (x,), "y", "head")


def test_contents_of_shapes_are_followed():
    """A program that computes [N * 49, 512 / 2] from the sizes of its image."""
    builder = GraphBuilder()
    emit = Plain(builder)
    x = builder.input("x", TensorType(FLOAT, (Batch(), 7, 7, 512)))
    sizes = emit.step("Cast", emit.step("Shape", x), to="int32")
    picked = [emit.step("Slice", sizes, starts=[at], ends=[at + 1], axes=[0]) for at in range(4)]
    rows = emit.step("Mul", emit.step("Mul", picked[0], picked[1]), picked[2])
    half = emit.step("Div", picked[3], emit.constant(np.array([2], np.int32), "two"))
    target = emit.step("Concat", rows, half, axis=0)
    assert (
        list(emit.contents(target)) == [Batch(49), 256]
        and emit.array(half).tolist() == [256]
        and emit.array(target) is None
    )
    assert emit.contents(emit.step("ReduceProd", sizes, axes=[0], keepdims=0)).item() == Batch(7 * 7 * 512)
    # The square of the batch, and a part of it that is no multiple, are not known.
    assert emit.contents(emit.step("Mul", rows, picked[0])) is None
    assert emit.contents(emit.step("Div", rows, emit.constant(np.array([5], np.int32), "five"))) is None


@st.composite
def reshapes(draw):
    """A shape, an order that it lies in, and another shape of as many elements."""
    sizes = draw(st.lists(st.sampled_from([1, 2, 3, 4, 6]), min_size=2, max_size=4))
    order = draw(st.permutations(range(1, len(sizes) + 1)))
    merged = draw(st.lists(st.booleans(), min_size=len(sizes), max_size=len(sizes)))
    target = []
    for size, merge in zip(sizes, merged):
        if merge and target:
            target[-1] *= size
        else:
            target.append(size)
    for place, size in enumerate(list(target)):
        if draw(st.booleans()) and size % 2 == 0:
            target[place : place + 1] = [2, size // 2]
            break
    if draw(st.booleans()):
        target.insert(draw(st.integers(0, len(target))), 1)
    return sizes, (0, *order), target


@settings(max_examples=300, deadline=None)
@given(reshapes())
def test_an_image_is_reshaped_as_it_lies_or_not_at_all(case):
    sizes, order, target = case
    builder = GraphBuilder()
    emit = Plain(builder)
    x = np.random.default_rng(0).standard_normal((2, *sizes)).astype(np.float32)
    lying = np.transpose(x, order)
    name = builder.input("x", TensorType(FLOAT, (Batch(), *lying.shape[1:])))
    kept = regrouped(emit, View(name, order), [Batch(), *target])
    if kept is None:
        return
    plain = emit.plain(kept)
    graph = builder.finish([plain])
    assert np.array_equal(run_graph(graph, {"x": lying})[plain], x.reshape(2, *target))


def graph_at(batch, make):
    builder = GraphBuilder()
    emit = Plain(builder)
    x = builder.input("x", TensorType(FLOAT, (batch, 4, 6)))
    return builder.finish([make(emit, x)])


def proven(graph, batch):
    """The first freed graph that gives each image what it gets in the fixed batch."""
    x = np.random.default_rng(1).standard_normal((5 * batch, 4, 6)).astype(np.float32)
    out = graph.outputs[0]
    wanted = np.concatenate([run_graph(graph, {"x": part})[out] for part in np.split(x, 5)])
    for freed in freed_graphs(graph, batch):
        assert at_batch(freed.types[out].shape, batch) == graph.types[out].shape
        found = run_graph(freed, {"x": x})[out]
        if found.shape == wanted.shape and np.allclose(found, wanted, atol=1e-6):
            return freed
    return None


@pytest.mark.parametrize("batch", [1, 2, 3, 4, 6])
@pytest.mark.parametrize(
    "name, make",
    {
        "flat": lambda e, x: e.reshaped(x, [e.type_of(x).shape[0], 24]),
        "merged with the tokens": lambda e, x: e.reshaped(
            e.step("Relu", e.reshaped(x, [e.type_of(x).shape[0] * 4, 6])), [e.type_of(x).shape[0], 24]
        ),
        "turned": lambda e, x: e.step(
            "Transpose",
            e.reshaped(e.step("Transpose", x, perm=[1, 0, 2]), [4, e.type_of(x).shape[0], 2, 3]),
            perm=[1, 0, 2, 3],
        ),
        "a token of its own": lambda e, x: e.step(
            "Concat", e.constant(np.ones((e.type_of(x).shape[0], 1, 6), np.float32), "token"), x, axis=1
        ),
        "the same for each": lambda e, x: e.step(
            "Mul", x, e.constant(np.full((e.type_of(x).shape[0], 1, 6), 2.0, np.float32), "factor")
        ),
        "whole slices": lambda e, x: e.step("Slice", x, starts=[0, 1], ends=[e.type_of(x).shape[0], 3], axes=[0, 2]),
        "all images picked": lambda e, x: e.step(
            "Gather", x, e.constant(np.arange(e.type_of(x).shape[0]), "all"), axis=0
        ),
    }.items(),
    ids=lambda each: each if isinstance(each, str) else "",
)
def test_a_fixed_batch_is_freed_whatever_its_size_is_called(name, make, batch):
    assert proven(graph_at(batch, make), batch) is not None


def test_what_differs_between_images_cannot_be_freed():
    weights = np.arange(3, dtype=np.float32).reshape(3, 1, 1)
    graph = graph_at(3, lambda e, x: e.step("Mul", x, e.constant(weights, "each")))
    with pytest.raises(Stuck, match="layer layer holds other numbers for each of the 3 images"):
        list(freed_graphs(graph, 3))


@settings(max_examples=60, deadline=None)
@given(st.binary(max_size=9000), st.integers(0, 60_000))
def test_the_checksum_is_that_of_a_plain_loop(content, zeros):
    content += b"\x17" * zeros
    state = 0xFFFFFFFF
    table = [0] * 256
    for byte in range(256):
        value = byte
        for _ in range(8):
            value = value >> 1 ^ (0x82F63B78 if value & 1 else 0)
        table[byte] = value
    for byte in content:
        state = table[(state ^ byte) & 0xFF] ^ state >> 8
    assert crc32c(content) == state ^ 0xFFFFFFFF


def test_the_checksum_of_the_standard():
    # RFC 3720, appendix B.4.
    assert (
        crc32c(bytes(32)) == 0x8A9136AA
        and crc32c(b"\xff" * 32) == 0x62A8AB43
        and crc32c(bytes(range(32))) == 0x46DD794E
    )


def test_the_stated_schema_is_the_frameworks():
    """Every field that is read has the number, the type and the name that the framework's own messages give it."""
    pytest.importorskip("tensorflow")
    from tensorflow.core.framework import graph_pb2
    from tensorflow.core.protobuf import saved_model_pb2, tensor_bundle_pb2, trackable_object_graph_pb2

    pairs = {
        "GraphDef": graph_pb2.GraphDef,
        "SavedModel": saved_model_pb2.SavedModel,
        "BundleEntryProto": tensor_bundle_pb2.BundleEntryProto,
        "BundleHeaderProto": tensor_bundle_pb2.BundleHeaderProto,
        "TrackableObjectGraph": trackable_object_graph_pb2.TrackableObjectGraph,
    }
    checked = 0
    waiting = [(message(name).DESCRIPTOR, theirs.DESCRIPTOR) for name, theirs in pairs.items()]
    seen = set()
    while waiting:
        ours, theirs = waiting.pop()
        if ours.full_name in seen:
            continue
        seen.add(ours.full_name)
        for field in ours.fields:
            other = theirs.fields_by_name[field.name]
            assert field.number == other.number and (field.type == other.type or {field.type, other.type} == {5, 14}), (
                field.full_name
            )
            checked += 1
            if field.message_type is not None:
                waiting.append((field.message_type, other.message_type))
    assert checked > 90


def test_an_emitter_knows_what_fills_a_value():
    builder = GraphBuilder()
    emit: Emitter = Plain(builder)
    builder.input("x", TensorType(FLOAT, (Batch(), 2)))
    wide = emit.expanded(emit.constant(np.array([3.0], np.float32), "three"), [Batch()])
    assert (
        emit.filling(wide) == 3
        and emit.filling("x") is None
        and emit.filling(emit.constant(np.array([1.0, 2.0]), "two")) is None
    )
