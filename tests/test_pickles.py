"""Pickles read as data: what the framework writes comes back, and nothing that a pickle asks for is ever done."""

import collections
import os
import pickle
import pickletools
import struct
import warnings

import numpy as np
import pytest
import torch
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.errors import SourceError
from zygal.files.pickles import Dialect, Record, read_pickle
from zygal.sources.pytorch.pickled import FUNCTIONS, Saved, open_saved
from zygal.sources.pytorch.tensors import StoredTensor, read_tensor

PLAIN = Dialect(FUNCTIONS, lambda name: name.startswith("argparse."))
VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text() | st.binary(),
    lambda inner: (
        st.lists(inner) | st.tuples(inner, inner) | st.dictionaries(st.text() | st.integers(), inner, max_size=5)
    ),
    max_leaves=30,
)


def read(data):
    return read_pickle(data, "it", PLAIN, SourceError)


@given(VALUES, st.integers(0, 5))
def test_plain_data_comes_back_in_every_protocol(value, protocol):
    data = pickle.dumps(value, protocol)
    if protocol >= 3 or not (b"_codecs" in data or b"__builtin__" in data):  # There bytes are written as a call.
        assert read(data) == value


class Calls:
    """What a pickle of it does, without having been done."""

    def __init__(self, *reduced):
        self.reduced = reduced

    def __reduce__(self):
        return self.reduced


HOSTILE = {
    "a system call": pickle.dumps(Calls(os.system, ("touch HAPPENED",))),
    "evaluation": pickle.dumps(Calls(eval, ("open('HAPPENED', 'w')",))),
    "a registry of pickling": b"\x80\x02ccopyreg\n_reconstructor\n(c__builtin__\nobject\nc__builtin__\nobject\nNtR.",
    "an import by two strings": b"\x80\x04\x8c\x02os\x8c\x06system\x93\x8c\x0etouch HAPPENED\x85R.",
    "names with dots": b"\x80\x04\x8c\x08builtins\x8c\x0deval.__call__\x93\x8c\x011\x85R.",
    "an extension": b"\x80\x02\x82\x01.",
    "a buffer out of band": b"\x80\x05\x97.",
    "the oldest way to make an object": b"(S'touch HAPPENED'\nios\nsystem\n.",
    "the second oldest": b"(cos\nsystem\nS'touch HAPPENED'\no.",
    "a state for a function": b"cos\nsystem\n}b.",
    "a call of something that is no name": b"\x80\x02](K\x01K\x02e)R.",
    "a persistent id": b"Phere\n.",
    "a class with named arguments": b"\x80\x04\x8c\x02os\x8c\x06system\x93)}\x92.",
    "a list that contains itself": b"]q\x00h\x00a.",
    "a tuple that contains itself through a list": b"]q\x00(h\x00tq\x01h\x00h\x01ae.",
    "lists in lists": b"]" * 5000 + b"a" * 4999 + b".",
    "a text of 500 MB that is not there": b"X" + struct.pack("<I", 500_000_000) + b"abc.",
    "a length below zero": b"\x80\x02T\xff\xff\xff\xff.",
    "doubled again and again": b"]q\x00" + b"".join(
        b"]q%c(h%ch%cej" % (at + 1, at, at) + struct.pack("<I", at + 1) for at in range(40)
    ) + b".",
    "nothing": b"",
    "no end": b"\x80\x02}q\x00",
    "an empty stack": b"0.",
    "a mark as a value": b"(.",
    "more than one value": b"NN.",
    "a key that is a list": b"}]Ns.",
    "a memo that is not there": b"h\x05.",
    "a number of 6000 digits": b"I" + b"9" * 6000 + b"\n.",
    "an operation that is none": b"\xfe.",
}  # fmt: skip


@pytest.mark.parametrize("name", HOSTILE)
def test_a_hostile_pickle_is_one_sentence_and_nothing_happens(name, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    with pytest.raises(SourceError) as caught:
        read(HOSTILE[name])
    said = str(caught.value)
    assert said.count("\n") == 0 and len(said) < 400 and not list(tmp_path.iterdir())


def test_what_is_refused_is_named():
    for data, name in ((HOSTILE["a system call"], f"{os.system.__module__}.system"), (HOSTILE["an extension"], "EXT1")):
        with pytest.raises(SourceError, match=name):
            read(data)


@settings(max_examples=300)
@given(st.data())
def test_a_changed_pickle_ends_in_a_value_or_a_sentence(data):
    whole = pickle.dumps({"a": [1, (2.5, "b"), b"c"], "d": {"e": None}}, data.draw(st.integers(0, 5)))
    changed = bytearray(whole)
    for _ in range(data.draw(st.integers(1, 4))):
        changed[data.draw(st.integers(0, len(changed) - 1))] = data.draw(st.integers(0, 255))
    try:
        read(bytes(changed))
    except SourceError as fault:
        assert "\n" not in str(fault)


def test_every_operation_of_the_library_is_known_or_left_out_on_purpose():
    from zygal.files.pickles import _STEPS

    left_out = {
        "EXT1",
        "EXT2",
        "EXT4",
        "NEXT_BUFFER",
        "READONLY_BUFFER",
        "INST",
        "OBJ",
        "STOP",
        "EMPTY_SET",
        "ADDITEMS",
    }
    assert {each.name for each in pickletools.opcodes} - set(_STEPS) == left_out | {"FROZENSET"}


# What the framework saves.


def contents():
    base = torch.arange(24).reshape(4, 6)
    return {
        "model": collections.OrderedDict(
            weight=torch.randn(2, 3),
            half=torch.randn(3).half(),
            brain=torch.randn(3).bfloat16(),
            turned=base.t()[1:3],
            part=base[1],
            whole=base,
            repeated=torch.tensor([1.5]).expand(4),
            truth=torch.tensor([True, False]),
            none=torch.zeros(0, 3),
            single=torch.tensor(3.0, dtype=torch.float64),
        ),
        "parameter": torch.nn.Parameter(torch.ones(2)),
        "epoch": 3,
        "rates": [1e-3, None],
        "device": torch.device("cpu"),
        "size": torch.Size([1, 2]),
    }


@pytest.mark.parametrize("zipped", [True, False])
@pytest.mark.parametrize("protocol", [2, 4])
def test_what_the_framework_saves_comes_back(zipped, protocol, tmp_path):
    saved = contents()
    torch.save(saved, tmp_path / "a.pth", _use_new_zipfile_serialization=zipped, pickle_protocol=protocol)
    with open_saved(tmp_path / "a.pth") as found:
        assert len(found.tensors) == len(saved["model"]) + 1
        for name, tensor in saved["model"].items():
            array = read_tensor(found, found.tensors[f"model.{name}"])
            wanted = tensor.float() if tensor.dtype in (torch.bfloat16, torch.half, torch.double) else tensor
            np.testing.assert_array_equal(array, wanted.numpy())
        assert found.tensors["parameter"].trained and found.tensors["parameter"].requires_grad
        assert found.content["epoch"] == 3 and found.content["rates"] == [1e-3, None]
        assert found.content["device"] == Record("torch.device", ("cpu",)) and found.content["size"] == (1, 2)


@pytest.mark.parametrize("zipped", [True, False])
def test_a_file_of_weights_cut_anywhere_is_one_sentence(zipped, tmp_path):
    torch.save({"a": torch.randn(50), "b": torch.randn(3)}, tmp_path / "a.pth", _use_new_zipfile_serialization=zipped)
    data = (tmp_path / "a.pth").read_bytes()
    for end in range(4, len(data) - 1, 37):
        (tmp_path / "cut.pth").write_bytes(data[:end])
        with pytest.raises(SourceError) as caught, open_saved(tmp_path / "cut.pth"):
            pass
        assert "\n" not in str(caught.value)


@pytest.mark.parametrize(
    "offset, sizes, strides",
    [
        (0, (5,), (1,)),
        (1, (4,), (1,)),
        (0, (2, 2), (3, 1)),
        (0, (10**9,), (0,)),
        (0, (2**40,), (1,)),
        (0, (4,), (1, 1)),
    ],
)
def test_a_tensor_larger_than_its_storage_is_refused(offset, sizes, strides, tmp_path):
    torch.save({"a": torch.randn(4)}, tmp_path / "a.pth")
    with open_saved(tmp_path / "a.pth") as found:
        stored = StoredTensor(found.tensors["a"].member, 7, sizes, strides, offset)
        with pytest.raises(SourceError, match="damaged"):
            Saved(found.path, {"a": stored}, lambda member: 16, found.member_bytes)


def test_a_whole_module_is_refused_by_the_name_of_its_class(tmp_path):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        torch.save(torch.nn.Linear(2, 2), tmp_path / "a.pth")
    with pytest.raises(SourceError, match=r"torch\.nn\.modules\.linear\.Linear"), open_saved(tmp_path / "a.pth"):
        pass
