"""Symbol and parameter files of MXNet: judged by what the framework itself computed, recorded by
benchmarks/symbol_cases.py."""

import json
import struct
from functools import cache
from pathlib import Path

import numpy as np
import pytest
from conftest import called, refused

from zygal.artifact.formats import read_artifact
from zygal.engines.artifact import open_engine
from zygal.errors import SourceError, UnknownOperators, ZygalError
from zygal.files.families import Reading
from zygal.graph.reference import run_graph
from zygal.sources import read_source, source_facts
from zygal.sources.mxnet.parameters import read_parameters

FILE = Path(__file__).parent / "data" / "symbols.npz"
SHAPE = (4, 9, 7)


@cache
def recorded():
    """All arrays of the recording."""
    with np.load(FILE) as file:
        return dict(file)


REFUSED = {"softmax of images": "builds disagree", "a border alone": "borders alone"}
NAMES = sorted({name.partition("/")[0] for name in np.load(FILE).files} - {"images", *REFUSED})


def saved(name, folder, change=lambda document: None, parameters=None):
    """The files of a case. change: what is done to the symbol file first. parameters: their bytes instead."""
    document = json.loads(recorded()[f"{name}/symbol"].tobytes())
    change(document)
    (folder / "net-0003.params").write_bytes(parameters or recorded()[f"{name}/parameters"].tobytes())
    path = folder / "net-symbol.json"
    path.write_text(json.dumps(document))
    return path


def result(path, output=None):
    """What the graph of a source gives for the recorded images."""
    with read_source(path, output, Reading(image_shape=SHAPE)) as source:
        graph = source.graph
        return run_graph(graph, {graph.inputs[0]: recorded()["images"]})[graph.outputs[0]]


@pytest.mark.parametrize("name", NAMES)
def test_a_graph_gives_what_the_framework_gave(name, tmp_path):
    right = recorded()[f"{name}/result"]
    found = result(saved(name, tmp_path), "fc1_output" if name == "two results" else None)
    assert found.shape == right.shape and found.dtype == right.dtype
    np.testing.assert_allclose(found, right, atol=1e-5 * max(float(np.ptp(right)), 1.0), rtol=1e-5)


@pytest.mark.parametrize("name", REFUSED)
def test_where_the_framework_is_not_one_it_is_refused(name, tmp_path):
    with pytest.raises(SourceError, match=REFUSED[name]):
        result(saved(name, tmp_path))


def test_a_symbol_is_surveyed_and_converted(tmp_path):
    path = saved("a network", tmp_path)
    (tmp_path / "net-0001.params").write_bytes(b"older")
    shown = called("survey", path, "--shape", "4,9,7", cwd=tmp_path)
    assert shown.returncode == 0 and "5 classes, probabilities" in shown.stdout
    assert "net-0003.params" in shown.stdout and "yes, every operator is known" in shown.stdout
    done = called("convert", path, "-o", "m.onnx", "--shape", "4,9,7", cwd=tmp_path)
    assert done.returncode == 0 and "--from-arrays" in done.stdout, done.stderr
    facts = read_artifact(tmp_path / "m.onnx")
    assert facts.scores == "probabilities" and facts.metadata.origin.framework == "MXNet"
    images, right = recorded()["images"], recorded()["a network/result"]
    for count in (1, 2):
        np.testing.assert_allclose(open_engine(facts).run(images[:count]), right[:count], atol=1e-6)
    assert called("survey", path, "--shape", "4,9,7", "--draw", "net.svg", cwd=tmp_path).returncode == 0
    done = called("convert", path, "-o", "m.tflite", "--shape", "4,9,7", cwd=tmp_path)
    assert done.returncode == 0, done.stderr


def test_parameters_are_found_by_their_names_or_named(tmp_path):
    path = saved("several labels", tmp_path)
    (tmp_path / "net-0003.params").rename(tmp_path / "trained.bin")
    refused(called("convert", path, "-o", "m.onnx", "--shape", "4,9,7", cwd=tmp_path), "net-0000.params")
    more = ("--weights", tmp_path / "trained.bin", "--shape", "4,9,7")
    assert called("convert", path, "-o", "m.onnx", *more, cwd=tmp_path).returncode == 0
    assert read_artifact(tmp_path / "m.onnx").scores == "independent probabilities"
    assert "trained.bin" in called("survey", path, *more, cwd=tmp_path).stdout
    shown = called("survey", tmp_path / "trained.bin", cwd=tmp_path).stdout
    assert "arg:conv1_weight" in shown and "NAME-symbol.json" in shown
    refused(called("convert", tmp_path / "trained.bin", "-o", "n.onnx", cwd=tmp_path), "holds weights alone")
    refused(
        called(
            "witness",
            path,
            "--weights",
            tmp_path / "trained.bin",
            "--images",
            ".",
            "--tensors",
            "t.npy",
            "-o",
            "w.witness",
            cwd=tmp_path,
        ),
        "",
    )


@pytest.mark.parametrize("where", ["symbol", "beside", "nowhere"])
def test_the_shape_of_images_is_read_where_it_is_written(where, tmp_path):
    def change(document):
        if where == "symbol":
            document["nodes"][0]["attrs"] = {"__shape__": "(0L, 4, 9, 7)", "__dtype__": "0"}

    path = saved("a network", tmp_path, change)
    assert json.loads(path.read_text())["nodes"][0]["name"] == "data"
    if where == "beside":
        (tmp_path / "model-shapes.json").write_text('[{"shape": [1, 4, 9, 7], "name": "data"}]')
    if where == "nowhere":
        refused(called("convert", path, "-o", "m.onnx", cwd=tmp_path), "--shape")
        return
    done = called("convert", path, "-o", "m.onnx", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    refused(called("convert", path, "-o", "m.onnx", "--overwrite", "--shape", "3,9,7", cwd=tmp_path), "--shape")


# Older forms


def older_parameters(arrays, form):
    """A parameter file as older releases wrote it: with sizes of 8 bytes, or without a mark."""
    data = struct.pack("<3Q", 0x112, 0, len(arrays))
    for array in arrays.values():
        if form == "sizes of 8 bytes":
            data += struct.pack(f"<Ii{array.ndim}q", 0xF993FAC8, array.ndim, *array.shape)
        else:
            data += struct.pack(f"<I{array.ndim}I", array.ndim, *array.shape)
        data += struct.pack("<3i", 1, 0, 0) + array.astype("<f4").tobytes()
    data += struct.pack("<Q", len(arrays))
    return data + b"".join(struct.pack("<Q", len(name)) + name.encode() for name in arrays)


@pytest.mark.parametrize("form", ["sizes of 8 bytes", "no mark"])
def test_older_forms_of_both_files_are_read(form, tmp_path):
    def change(document):
        """The operator's attributes under "param", statistics that are no inputs, entries of two numbers."""
        nodes = document["nodes"]
        for node in nodes:
            node["param"] = node.pop("attrs", {})
            node["attr"] = {"ctx_group": "a", "__lr_mult__": "1"}
            node["inputs"] = [each[:2] for each in node["inputs"]][: 3 if node["op"] == "BatchNorm" else None]
        document.pop("attrs")
        document["heads"] = [each[:2] for each in document["heads"]]

    saved("a network", tmp_path)
    arrays = read_parameters(tmp_path / "net-0003.params")
    path = saved("a network", tmp_path, change, older_parameters(arrays, form))
    np.testing.assert_allclose(result(path), recorded()["a network/result"], atol=1e-6)


# Refusals


def attributes(document, op):
    return next(node["attrs"] for node in document["nodes"] if node["op"] == op)


BROKEN = {
    "an unknown attribute": (lambda d: attributes(d, "Convolution").update(bent="1"), "bent"),
    "another layout": (lambda d: attributes(d, "Convolution").update(layout="NHWC"), "layout"),
    "no number": (lambda d: attributes(d, "Convolution").update(kernel="(3, x)"), "no whole number"),
    "weights of another size": (lambda d: attributes(d, "Convolution").update(kernel="(5, 5)"), "kernel|states"),
    "another convention": (lambda d: attributes(d, "Pooling").update(pooling_convention="same"), "pooling_convention"),
    "random numbers": (
        lambda d: next(n for n in d["nodes"] if n["op"] == "LRN").update(op="_random_uniform"),
        "random",
    ),
    "a cycle": (lambda d: d["nodes"][3]["inputs"].append([5, 0, 0]), "reads what comes after it"),
    "no heads": (lambda d: d.update(heads=[]), "no heads"),
    "a head that is not there": (lambda d: d.update(heads=[[9999, 0, 0]]), "nothing that exists"),
    "a result that is not there": (
        lambda d: d.update(heads=[[3, 7, 0]]),
        "no node makes",
    ),
    "attributes that are no texts": (lambda d: d["nodes"][2].update(attrs={"kernel": 3}), "no texts"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_what_is_not_understood_is_refused_by_name(name, tmp_path):
    change, words = BROKEN[name]
    with pytest.raises(SourceError, match=words):
        result(saved("a network", tmp_path, change))


def test_unknown_operators_are_all_named(tmp_path):
    def change(document):
        for node in document["nodes"]:
            node["op"] = {"LRN": "_contrib_quantize_v2", "SliceChannel": "Custom"}.get(node["op"], node["op"])

    path = saved("a network", tmp_path, change)
    with pytest.raises(UnknownOperators) as fault:
        result(path)
    assert set(fault.value.layers) == {"_contrib_quantize_v2", "Custom"}
    assert source_facts(path, Reading(image_shape=SHAPE)).unknown_operators == ["Custom", "_contrib_quantize_v2"]


def test_damaged_parameters_are_refused(tmp_path):
    path = saved("a network", tmp_path)
    whole = (tmp_path / "net-0003.params").read_bytes()
    parameters = tmp_path / "net-0003.params"
    for data, words in (
        (whole[:-3], "truncated"),
        (whole[:300], "truncated"),
        (b"", "does not begin"),
        (whole + b"x", "follow its last name"),
        (whole[:16] + struct.pack("<Q", 2**60) + whole[24:], "claims"),
        (whole[:24] + struct.pack("<Ii", 0xF993FAC9, 1) + whole[32:], "sparsely"),
        (whole[:32] + struct.pack("<i", 99) + whole[36:], "99 axes"),
        (whole[:36] + struct.pack("<q", 2**50) + whole[44:], "claims the shape"),
    ):
        parameters.write_bytes(data)
        with pytest.raises(SourceError, match=words):
            result(path)
    parameters.write_bytes(recorded()["no bias/parameters"].tobytes())
    with pytest.raises(SourceError, match="another model"):
        result(path)


@pytest.mark.parametrize("seed", range(60))
def test_changed_bytes_end_in_a_result_or_in_a_sentence(seed, tmp_path):
    chance = np.random.default_rng(seed)
    path = saved(NAMES[seed % len(NAMES)], tmp_path)
    target = path if seed % 2 else tmp_path / "net-0003.params"
    data = bytearray(target.read_bytes())
    for _ in range(3):
        data[chance.integers(min(len(data), 4000))] = chance.integers(256)
    target.write_bytes(data)
    try:
        result(path)
    except ZygalError as fault:
        assert "\n" not in str(fault)
