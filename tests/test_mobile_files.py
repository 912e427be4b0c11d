"""Flatbuffers as files: what is stored in rarer ways, what is refused, and by which words."""

import struct
from math import erf, sqrt

import numpy as np
import pytest
from mobile import Flatbuffer, scaled

from zygal.errors import FileError, SourceError, UnknownOperators, ZygalError
from zygal.graph.reference import run_graph
from zygal.mobile.encoding import Encoder
from zygal.mobile.meaning import meaning_bytes
from zygal.mobile.model import Signature, Tensor
from zygal.mobile.read import read_model
from zygal.mobile.schema import IDENTIFIER, METADATA_BUFFER
from zygal.mobile.write import write_model
from zygal.sources import Reading, read_source, source_facts

I32 = np.int32


def bytes_of(array):
    return np.ascontiguousarray(array).reshape(-1).view(np.uint8)


def raw(tensors, operators, codes, inputs=(0,), outputs=None, buffers=(), **more):
    """A file by its tables alone, for what our writer does not write."""
    graph = {
        "tensors": tensors,
        "inputs": list(inputs),
        "outputs": [len(tensors) - 1] if outputs is None else outputs,
        "operators": operators,
    }
    fields = {
        "version": 3,
        "operator_codes": codes,
        "subgraphs": [graph],
        "buffers": [{}, *({"data": each} for each in buffers)],
    } | more
    return Encoder().finished(fields, "Model", IDENTIFIER)


def dense(weight, sparsity=None, **more):
    """x [2, columns] by a weight that lies in a buffer as it is given."""
    rows, columns = more.pop("shape")
    tensors = [
        {"shape": [2, columns], "name": "image"},
        {"shape": [rows, columns], "buffer": 1, "name": "weight", **({"sparsity": sparsity} if sparsity else {})},
        {"shape": [2, rows], "name": "scores"},
    ]
    operator = {"opcode_index": 0, "inputs": [0, 1, -1], "outputs": [2], "options_type": 8, "options": {}}
    return raw(tensors, [operator], [{"deprecated_code": 9, "version": 1}], buffers=[bytes_of(weight)], **more)


def scores(path, x):
    with read_source(path) as source:
        return run_graph(source.graph, {source.graph.inputs[0]: x})[source.graph.outputs[0]]


def listed(values):
    """A list of numbers as the format has it for places."""
    return {"values": np.array(values, I32)}


def compressed(full, block=1):
    """Rows dense, columns compressed, in blocks of so many numbers."""
    rows, columns = full.shape
    segments, indices, values = [0], [], []
    for row in full.reshape(rows, columns // block, block):
        kept = [at for at in range(columns // block) if row[at].any()]
        indices += kept
        values += [row[at] for at in kept]
        segments.append(len(indices))
    levels = [
        {"format": 0, "dense_size": rows},
        {"format": 1, "segments_type": 1, "segments": listed(segments), "indices_type": 1, "indices": listed(indices)},
    ]
    if block == 1:
        return np.concatenate(values), {"traversal_order": [0, 1], "dimensions": levels}
    return np.concatenate(values), {
        "traversal_order": [0, 1, 2],
        "block_map": [1],
        "dimensions": [*levels, {"format": 0, "dense_size": block}],
    }


@pytest.mark.parametrize("block", [1, 4])
def test_sparsely_stored_weights(block, tmp_path):
    rng = np.random.default_rng(block)
    full = rng.standard_normal((6, 16), np.float32) * np.repeat(rng.random((6, 16 // block)) < 0.4, block, axis=1)
    values, sparsity = compressed(full, block)
    (tmp_path / "m.tflite").write_bytes(dense(values, sparsity, shape=(6, 16)))
    x = rng.standard_normal((2, 16), np.float32)
    assert np.array_equal(read_model(tmp_path / "m.tflite").tensors[1].data, full)
    assert np.abs(scores(tmp_path / "m.tflite", x) - x @ full.T).max() < 1e-5


@pytest.mark.parametrize(
    "change, words",
    [
        (lambda s: s["traversal_order"].append(2), "lists its axes wrongly"),
        (lambda s: s["dimensions"][1].update(format=7), "has an axis of format 7"),
        (
            lambda s: s["dimensions"][1]["segments"].update(values=np.array([0, 9999] * 4, I32)),
            "has segments that do not fit",
        ),
        (
            lambda s: s["dimensions"][1]["indices"].update(values=np.full(40, 99, I32)),
            "stores a number outside its shape",
        ),
        (lambda s: s["dimensions"][0].update(dense_size=2), "stores .* numbers for"),
        (lambda s: s["dimensions"][0].update(dense_size=1 << 30), "has an axis of"),
    ],
)
def test_damaged_sparse_weights_are_refused(change, words, tmp_path):
    full = np.eye(6, 16, dtype=np.float32) + np.eye(6, 16, 5, dtype=np.float32)
    values, sparsity = compressed(full)
    change(sparsity)
    (tmp_path / "m.tflite").write_bytes(dense(values, sparsity, shape=(6, 16)))
    with pytest.raises(FileError, match=f"weight {words}"):
        read_model(tmp_path / "m.tflite")


def test_weights_behind_the_tables_and_newer_operator_codes(tmp_path):
    """A large buffer is stated by its place; the larger of the two codes of an operator counts."""
    weight = np.arange(12, dtype=np.float32).reshape(3, 4)
    tensors = [
        {"shape": [2, 4], "name": "image"},
        {"shape": [3, 4], "buffer": 1, "name": "w"},
        {"shape": [2, 3], "name": "dense"},
        {"shape": [2, 3], "name": "scores"},
    ]
    operators = [
        {"opcode_index": 0, "inputs": [0, 1, -1], "outputs": [2], "options_type": 8, "options": {}},
        {"opcode_index": 1, "inputs": [2], "outputs": [3]},
    ]
    codes = [{"deprecated_code": 9}, {"deprecated_code": 127, "code": 150}]
    graph = {"tensors": tensors, "inputs": [0], "outputs": [3], "operators": operators}

    def tables(offset):
        fields = {
            "version": 3,
            "operator_codes": codes,
            "subgraphs": [graph],
            "buffers": [{}, {"offset": offset, "size": 48}],
        }
        return Encoder().finished(fields, "Model", IDENTIFIER)

    # The tables are as long wherever the weights are said to be.
    length = len(tables(1 << 20))
    made = tables(length + -length % 16)
    (tmp_path / "m.tflite").write_bytes(made + b"\0" * (-len(made) % 16) + weight.tobytes())
    x = np.random.default_rng(0).standard_normal((2, 4), np.float32)
    line = x @ weight.T
    assert np.abs(scores(tmp_path / "m.tflite", x) - line / 2 * (1 + np.vectorize(erf)(line / sqrt(2)))).max() < 1e-4


def test_the_metadata_of_others_become_inlet_and_labels(tmp_path):
    made = Flatbuffer()
    flat = made.add("MEAN", [made.input((1, 8, 8, 3)), np.array([1, 2], I32)], (1, 3))
    made.model.metadata[METADATA_BUFFER] = meaning_bytes("image", "scores", ["a", "b", "c"], ([127.5], [127.5]), False)
    made.model.files["labels.txt"] = b"port\nstar board\n\nwreck\n"
    facts = source_facts(made.write(tmp_path / "m.tflite", flat))
    assert facts.labels == ("port", "star board", "wreck") and facts.why_not == ""
    assert (
        facts.inlet.values.mean == (127.5,) * 3
        and facts.inlet.values.std == (127.5,) * 3
        and facts.inlet.values.range == (0, 255)
    )
    assert facts.inlet.frame[0].size == (8, 8) and facts.inlet.tensor.layout == "NHWC"
    with read_source(tmp_path / "m.tflite") as source:
        assert any("not how images come to their size" in note for note in source.notes)


def test_signatures_are_shown_and_chosen(tmp_path):
    made = Flatbuffer()
    image = made.input((1, 6))
    one, other = made.add("RELU", [image], (1, 6)), made.add("TANH", [image], (1, 6))
    made.model.outputs = [one, other]
    made.model.signatures = [
        Signature("first", {"x": image}, {"a": one}),
        Signature("second", {"x": image}, {"b": other}),
    ]
    write_model(made.model, tmp_path / "m.tflite")
    with (
        pytest.raises(SourceError, match=r"has several signatures \(first, second\); choose one with --signature"),
        read_source(tmp_path / "m.tflite"),
    ):
        pass
    with (
        pytest.raises(SourceError, match="has no signature third; it has first, second"),
        read_source(tmp_path / "m.tflite", reading=Reading(signature="third")),
    ):
        pass
    facts = source_facts(tmp_path / "m.tflite", Reading(signature="second"))
    assert list(facts.outputs) == ["b"] and [each.taken for each in facts.signatures] == [True]
    with read_source(tmp_path / "m.tflite", reading=Reading(signature="second")) as source:
        assert [node.operator for node in source.graph.nodes] == ["Tanh"]


def detector(made, image):
    made.model.outputs = [
        made.add("RESHAPE", [image, np.array([1, 18, 4], I32)], (1, 18, 4)),
        made.add("RESHAPE", [image, np.array([1, 72], I32)], (1, 72)),
    ]
    return


def keeps_state(made, image):
    state = made.tensor("state", (1, 4, 6, 3))
    made.model.tensors[state].is_variable = True
    return made.add("ADD", [image, state], (1, 4, 6, 3))


REFUSED = {
    "a detector": (detector, "returns boxes and scores .* it is a detector, and no classifier"),
    "numbers that are kept": (keeps_state, "keeps its numbers from one image to the next"),
    "a fused activation": (
        lambda m, i: m.add("ADD", [i, i], (1, 4, 6, 3), activation=5),
        "joined to the activation SIGN_BIT",
    ),
    "text": (
        lambda m, i: m.add("ADD", [i, _text(m)], (1, 4, 6, 3)),
        "words is string, which an artifact does not compute with",
    ),
    "a weight without a scale": (
        lambda m, i: m.add("FULLY_CONNECTED", [i, np.ones((5, 72), np.int8), -1], (1, 5)),
        "stored as int8 without saying what the numbers mean",
    ),
    "a shuffled weight": (
        lambda m, i: m.add("FULLY_CONNECTED", [i, np.ones((5, 72), np.float32)], (1, 5), weights_format=1),
        "an order of one processor's own",
    ),
    "several inputs": (lambda m, i: m.add("ADD", [i, m.input((1, 4, 6, 3))], (1, 4, 6, 3)), "takes 2 inputs"),
}


def _text(made):
    made.model.tensors.append(Tensor("words", (2,), "string", data=np.zeros(8, np.uint8)))
    return len(made.model.tensors) - 1


@pytest.mark.parametrize("case", REFUSED)
def test_what_no_classifier_does_is_refused(case, tmp_path):
    build, words = REFUSED[case]
    made = Flatbuffer()
    output = build(made, made.input((1, 4, 6, 3)))
    write_model(made.model, tmp_path / "m.tflite") if output is None else made.write(tmp_path / "m.tflite", output)
    with pytest.raises(SourceError, match=words), read_source(tmp_path / "m.tflite"):
        pass


CODES = {
    "custom operators": (
        [{"deprecated_code": 32, "custom_code": "Fancy"}, {"deprecated_code": 32, "custom_code": "Other"}],
        SourceError,
        r"custom operators \(Fancy, Other\)",
    ),
    "control flow": ([{"deprecated_code": 119}, {"deprecated_code": 19}], SourceError, r"control flow \(WHILE\)"),
    "unknown operators": (
        [{"deprecated_code": 24}, {"deprecated_code": 127, "code": 999}],
        UnknownOperators,
        r"RNN \(between\).*number 999 \(scores\)|number 999.*RNN",
    ),
}


@pytest.mark.parametrize("case", CODES)
def test_operators_beyond_the_format_are_named_all_at_once(case, tmp_path):
    codes, error, words = CODES[case]
    tensors = [{"shape": [1, 4], "name": name} for name in ("image", "between", "scores")]
    operators = [{"opcode_index": 0, "inputs": [0], "outputs": [1]}, {"opcode_index": 1, "inputs": [0], "outputs": [2]}]
    (tmp_path / "m.tflite").write_bytes(raw(tensors, operators, codes))
    with pytest.raises(error, match=words), read_source(tmp_path / "m.tflite"):
        pass


FILES = {
    "another version": (
        lambda: raw([], [], [], outputs=[], version=4),
        "version 4 of the mobile format; version 3 is supported",
    ),
    "no graph": (lambda: Encoder().finished({"version": 3}, "Model", IDENTIFIER), "it holds no graph"),
    "cut off": (lambda: dense(np.ones((3, 4), np.float32), shape=(3, 4))[:200], "truncated or damaged"),
    "the head alone": (lambda: struct.pack("<I4s", 8, IDENTIFIER), "truncated or damaged"),
    "too few bytes": (
        lambda: dense(np.ones((3, 3), np.float32), shape=(3, 4)),
        "weight holds 36 bytes instead of the 48 of its shape",
    ),
    "a tensor that is not there": (
        lambda: raw([{"shape": [1], "name": "x"}], [{"inputs": [7], "outputs": [0]}], [{"deprecated_code": 19}]),
        "it names tensor 7 of 1",
    ),
    "other settings": (
        lambda: raw(
            [{"shape": [1], "name": "x"}] * 2,
            [{"inputs": [0], "outputs": [1], "options_type": 9, "options": {}}],
            [{"deprecated_code": 0}],
        ),
        "settings of ADD are those of another",
    ),
    "an external file": (
        lambda: raw([{"shape": [1], "name": "x", "external_buffer": 3}], [], []),
        "keeps the weights of x in another file",
    ),
}


@pytest.mark.parametrize("case", FILES)
def test_damaged_files_are_one_sentence(case, tmp_path, capsys):
    from zygal.cli.main import main

    content, words = FILES[case]
    path = tmp_path / "m.tflite"
    path.write_bytes(content())
    with pytest.raises(ZygalError, match=words):
        read_model(path)
    assert main(["convert", str(path), "-o", str(tmp_path / "m.onnx")]) == 2
    said = capsys.readouterr().err
    assert said.startswith("zygal: ") and said.count("\n") == 1 and not (tmp_path / "m.onnx").exists()


def test_half_a_byte_for_each_number(tmp_path):
    made = Flatbuffer()
    made.model.tensors.append(Tensor("w", (3, 5), "int4", data=np.zeros(8, np.uint8), quantization=scaled(0.5)))
    numbers = np.arange(-8, 7).astype(np.int8)
    packed = np.zeros(8, np.uint8)
    for at, number in enumerate(numbers):
        packed[at // 2] |= (number & 15) << 4 * (at % 2)
    made.model.tensors[0].data = packed
    image = made.input((2, 5))
    made.write(tmp_path / "m.tflite", made.add("FULLY_CONNECTED", [image, 0, -1], (2, 3)))
    x = np.random.default_rng(0).standard_normal((2, 5), np.float32)
    assert np.abs(scores(tmp_path / "m.tflite", x) - x @ (numbers.reshape(3, 5) / 2).T).max() < 1e-5


def test_a_program_run_on_the_wrong_file_says_so(shipped, tmp_path, capsys):
    from zygal.cli.main import main

    assert main(["match", str(shipped / "labels.txt"), "--witness", str(shipped / "channel_marks.witness")]) == 2
    assert "an artifact (.onnx or .tflite) is needed here" in capsys.readouterr().err


def test_the_recording_of_a_flatbuffer_is_the_device(tmp_path, shipped):
    """An 8-bit model recorded on the mobile runtime, and its artifact held against the recording."""
    from test_mobile_quantized import eight_bit_classifier

    from zygal.cli.main import main

    path, inlet = eight_bit_classifier(tmp_path / "m.tflite"), tmp_path / "i.toml"
    inlet.write_text(
        'zygal_inlet = 1\n[[frame]]\nstep = "resize"\nsize = [12, 12]\nfilter = "bilinear"\n[values]\nrange = '
        '[-1.0, 1.0]\n[tensor]\nlayout = "NHWC"\n'
    )
    assert main(["convert", str(path), "-o", str(tmp_path / "m.onnx"), "--inlet", str(inlet)]) == 0
    assert (
        main(
            [
                "witness",
                str(path),
                "--images",
                str(shipped / "reference"),
                "--inlet",
                str(inlet),
                "-o",
                str(tmp_path / "w.witness"),
            ]
        )
        == 0
    )
    assert main(
        [
            "match",
            str(tmp_path / "m.onnx"),
            "--witness",
            str(tmp_path / "w.witness"),
            "--images",
            str(shipped / "reference"),
            "--model-limit",
            "0.03",
            "--end-limit",
            "0.03",
        ]
    ) in (0, 1)
    assert (
        main(
            [
                "match",
                str(path),
                "--witness",
                str(tmp_path / "w.witness"),
                "--inlet",
                str(inlet),
                "--images",
                str(shipped / "reference"),
            ]
        )
        == 0
    )
