"""Documents and archives that are not trusted: what follows its rules is rebuilt, everything else is one sentence."""

import io
import json
import struct
import zipfile

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.errors import LONGEST_SENTENCE, FileError, WitnessError, one_line, printable, shown, some_of
from zygal.evidence.array_files import read_array
from zygal.files import documents
from zygal.files.archives import check_directory, open_zip, read_member
from zygal.files.documents import (
    Misfit,
    either,
    finite,
    listed,
    mapping,
    maybe,
    number,
    parse_json,
    rebuilt,
    record,
    text,
    truth,
    union,
    whole,
)
from zygal.sources.pytorch import schema

ANYTHING = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20) | st.binary(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)
RULE = record(
    {
        "name": text,
        "count": whole(0, 9),
        "kind": either("a", "b", 1),
        "parts": listed(union({"x": number, "y": truth}), 3),
    },
    {"more": maybe(mapping(finite)), "note": text},
)
GOOD = {"name": "n", "count": 3, "kind": "a", "parts": [{"x": 1.5}, {"y": True}], "more": {"k": 2}}


def test_what_follows_its_rules_is_rebuilt():
    made = rebuilt(GOOD, RULE, "the paper", WitnessError)
    assert made == GOOD and made is not GOOD and made["parts"] is not GOOD["parts"]
    # Fields that nobody knows may be there as long as they say nothing.
    assert rebuilt({**GOOD, "later": None, "also": [], "off": False}, RULE, "it", WitnessError) == GOOD


@pytest.mark.parametrize(
    "change, words",
    [
        ({"name": 3}, "name must be text, but is 3"),
        ({"count": 10}, "count must be a whole number from 0 to 9"),
        ({"count": True}, "whole number"),
        ({"count": 2.0}, "whole number"),
        ({"kind": "c"}, "'a' or 'b' or 1"),
        ({"kind": True}, "'a' or 'b'"),
        ({"kind": ["a"]}, "'a' or 'b'"),
        ({"parts": [{}, {}]}, "parts.0 must be an object with one field"),
        ({"parts": [{"x": 1}] * 4}, "at most 3"),
        ({"parts": [{"x": 1}, {"z": 1}]}, "parts.1 must be one of the kinds x, y"),
        ({"parts": [{"y": 1}]}, "parts.0.y must be true or false"),
        ({"parts": {}}, "a list"),
        ({"more": {"k": float("inf")}}, "more.k must be a finite number"),
        ({"more": []}, "an object"),
        ({"odd": 1}, "does not know this field"),
        ({"name": "x" * 2_000_000}, "at most"),
    ],
)
def test_what_breaks_a_rule_is_named(change, words):
    with pytest.raises(WitnessError) as fault:
        rebuilt({**GOOD, **change}, RULE, "the paper", WitnessError)
    assert words in str(fault.value) and len(str(fault.value)) <= LONGEST_SENTENCE


def test_what_is_missing_is_named():
    with pytest.raises(WitnessError, match="the paper does not follow its schema: count is missing"):
        rebuilt({key: value for key, value in GOOD.items() if key != "count"}, RULE, "the paper", WitnessError)


@settings(max_examples=300, deadline=None)
@given(ANYTHING)
def test_no_document_ends_in_anything_else(document):
    for rule in (RULE, schema.PROGRAM, schema.TENSORS):
        try:
            rebuilt(document, rule, "it", WitnessError)
        except WitnessError as fault:
            assert len(str(fault)) <= LONGEST_SENTENCE and "\n" not in str(fault)


@settings(max_examples=200, deadline=None)
@given(st.dictionaries(st.sampled_from(list(GOOD)), ANYTHING, max_size=3))
def test_every_field_is_checked(change):
    try:
        made = rebuilt({**GOOD, **change}, RULE, "it", WitnessError)
    except WitnessError:
        return
    assert isinstance(made["name"], str) and 0 <= made["count"] <= 9 and len(made["parts"]) <= 3


@pytest.mark.parametrize(
    "content, words",
    [
        (b"{", "not JSON"),
        (b"[1]", "no|not a JSON object"),
        (b'{"a": ' + b"9" * 5000 + b"}", "digits"),
        (b"[" * 5000 + b"]" * 5000, "too deep"),
        (b"\xff\xfe", "not JSON"),
        (b"", "not JSON"),
        (b'"text"', "not a JSON object"),
    ],
)
def test_text_that_is_no_document(content, words):
    with pytest.raises(WitnessError, match=words):
        parse_json(content, "it", WitnessError)


def test_nesting_is_no_fault_of_ours():
    deep = current = {}
    for _ in range(3000):
        current["x"] = {}
        current = current["x"]

    def rule(value):
        return mapping(rule)(value)

    with pytest.raises(WitnessError, match="too deep"):
        rebuilt(deep, rule, "it", WitnessError)
    assert isinstance(Misfit("text", deep), ValueError) and documents.LONGEST_NUMBER == 20


# Words


@settings(max_examples=300, deadline=None)
@given(st.text(st.characters(), max_size=2000), st.integers(20, 400))
def test_a_line_is_a_line(given_text, most):
    line = one_line(given_text, most)
    assert len(line) <= most and line.isprintable() and printable(line) == line
    line.encode()


@settings(max_examples=300, deadline=None)
@given(ANYTHING)
def test_a_value_is_shown_shortly(value):
    assert len(shown(value)) <= 60 and shown(value).isprintable()


def test_values_of_all_sizes():
    assert (
        shown(10**5000) == "a number of more than 30 digits"
        and shown([1] * 50) == "a list of 50"
        and shown({"a": 1}) == "{'a': 1}"
    )
    assert some_of(["a" * 500, "b", "c", "d"]).endswith("b, c and 1 more") and len(some_of(["a" * 500])) == 60
    assert printable("a\x1b[2J\x00\n\ud800") == "a\\x1b[2J\\x00\n\\ud800"


# Archives


def archive_of(path, members, packing=zipfile.ZIP_STORED):
    with zipfile.ZipFile(path, "w", packing) as archive:
        for name, content in members:
            archive.writestr(name, content)
    return path


@pytest.mark.parametrize(
    "packing, fine",
    [(zipfile.ZIP_STORED, True), (zipfile.ZIP_DEFLATED, True), (zipfile.ZIP_BZIP2, False), (zipfile.ZIP_LZMA, False)],
)
def test_members_are_stored_or_deflated(packing, fine, tmp_path):
    path = archive_of(tmp_path / "a.zip", [("one", b"1" * 50)], packing)
    if fine:
        with open_zip(path, "a box", WitnessError) as archive:
            assert read_member(archive, "one", path, WitnessError, 100) == b"1" * 50
    else:
        with pytest.raises(WitnessError, match="neither stored nor deflated"), open_zip(path, "a box", WitnessError):
            pass


def directory(data):
    """Where the entry of the first member begins in the directory at the end."""
    return data.index(b"PK\x01\x02")


@pytest.mark.parametrize(
    "at, value, words",
    [
        (20, 10**6, "ends after|claims"),
        (24, 10**6, "claims"),
        (42, 60, "overlaps|after|damaged"),
        (10, 99, "method 99"),
        (8, 1, "encrypted"),
    ],
)
def test_a_directory_that_lies_is_refused(at, value, words, tmp_path):
    path = archive_of(tmp_path / "a.zip", [("one", b"1" * 50), ("two", b"2" * 50)])
    data = bytearray(path.read_bytes())
    place = directory(data) + at
    form = "<H" if at in (8, 10) else "<I"
    struct.pack_into(form, data, place, value)
    path.write_bytes(data)
    with pytest.raises(WitnessError, match=words), open_zip(path, "a box", WitnessError) as archive:
        read_member(archive, "one", path, WitnessError, 10**9)


def test_members_have_names_of_their_own(tmp_path):
    with pytest.warns(UserWarning):
        path = archive_of(tmp_path / "a.zip", [("one", b"1"), ("one", b"2")])
    with pytest.raises(WitnessError, match="is there twice"), open_zip(path, "a box", WitnessError):
        pass
    path = archive_of(tmp_path / "a.zip", [("one", b"1" * 50)])
    with open_zip(path, "a box", WitnessError) as archive:
        with pytest.raises(WitnessError, match="no member 'two'"):
            read_member(archive, "two", path, WitnessError, 10)
        with pytest.raises(WitnessError, match="more than the 10"):
            read_member(archive, "one", path, WitnessError, 10)
        check_directory(archive, path, path.stat().st_size, WitnessError)
        with pytest.raises(WitnessError, match="after the end"):
            check_directory(archive, path, 20, WitnessError)
    with pytest.raises(FileError), open_zip(tmp_path, "a box", WitnessError):
        pass


# Arrays


def npy(array, **header):
    data = io.BytesIO()
    np.lib.format.write_array(data, array)
    content = data.getvalue()
    for before, after in header.items():
        content = content.replace(before.encode(), after.encode())
    return content


@pytest.mark.parametrize("shape", [(3,), (2, 3), (2, 1, 4, 5), (1, 1)])
@pytest.mark.parametrize("dtype", ["<f4", "|u1"])
def test_arrays_are_read_as_the_library_reads_them(shape, dtype, tmp_path):
    array = (np.random.default_rng(0).random(shape) * 200).astype(dtype)
    path = archive_of(tmp_path / "a.zip", [("a.npy", npy(array))])
    with open_zip(path, "a box", WitnessError) as archive:
        found = read_array(archive, "a.npy", path)
    assert found.dtype == array.dtype and np.array_equal(found, array)


ARRAYS = {
    "another order": npy(np.asfortranarray(np.ones((2, 3), np.float32))),
    "another dtype": npy(np.ones(3)),
    "objects": npy(
        np.array([None]),
    ),
    "no number": npy(np.ones((0, 3), np.float32)),
    "one number": npy(np.float32(1)),
    "a larger claim": npy(np.ones((2, 3), np.float32)).replace(b"(2, 3)", b"(9, 9)"),
    "a huge claim": npy(np.ones((2, 3), np.float32)).replace(b"(2, 3), }" + b" " * 12, b"(99999999, 99999), }" + b" "),
    "code": npy(np.ones((2, 3), np.float32)).replace(b"(2, 3)", b"exec()"),
    "another version": npy(np.ones((2, 3), np.float32)).replace(b"NUMPY\x01\x00", b"NUMPY\x03\x00"),
    "a long header": b"\x93NUMPY\x02\x00" + struct.pack("<I", 10**6) + b"{" * 100,
    "nothing": b"",
    "half a header": b"\x93NUMPY\x01\x00\x76",
    "text": json.dumps([1, 2]).encode(),
}


@pytest.mark.parametrize("name", ARRAYS)
def test_arrays_that_are_none_of_a_recording(name, tmp_path):
    path = archive_of(tmp_path / "a.zip", [("a.npy", ARRAYS[name])])
    with open_zip(path, "a box", WitnessError) as archive, pytest.raises(WitnessError, match="damaged"):
        read_array(archive, "a.npy", path)
