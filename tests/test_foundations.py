"""The small things that everything stands on: sizes, graphs, files, kinds, resampling."""

import os
import signal
import zipfile

import numpy as np
import pytest
import torch
from hypothesis import given, settings
from hypothesis import strategies as st

from zygal.errors import FileError, GraphError, OutputError, UnknownOperators
from zygal.files import kinds
from zygal.files.archives import open_zip
from zygal.files.opening import read_text, sha256_of
from zygal.files.recognition import kind_of
from zygal.files.writing import whole_file
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.ops.resampling import resampling_matrix
from zygal.graph.reference import run_graph
from zygal.graph.shapes import broadcast
from zygal.sources.pytorch.symbols import SymbolicSize, floor_divide, multiply, parse_size, symbol_of

FLOAT = np.dtype("float32")
N = "Symbol('s0', positive=True, integer=True)"


def sized(text):
    return {"as_expr": {"expr_str": text, "hint": {"as_int": 2}}}


def test_sizes_are_read_without_evaluating_them():
    assert parse_size({"as_int": 7}, "s0") == 7 and symbol_of(sized(N)) == "s0"
    assert parse_size(sized(N), "s0") == Batch() and parse_size(sized(f"Mul(Integer(4), {N})"), "s0") == Batch(4)
    for text in (
        "Symbol('s1', integer=True)",
        f"Pow({N}, Integer(2))",
        "__import__('os').getpid()",
        "(" * 3000,
        f"Mul({N}, {N})",
    ):
        with pytest.raises(SymbolicSize):
            parse_size(sized(text), "s0")


def test_sizes_are_counted_with_the_batch():
    assert multiply(2, Batch(3), 4) == Batch(24) and floor_divide(Batch(64), 16) == Batch(4)
    with pytest.raises(SymbolicSize):
        floor_divide(Batch(10), 4)
    assert broadcast((Batch(), 1, 5), (3, 1)) == (Batch(), 3, 5)
    with pytest.raises(ValueError, match=r"\[N, 2\] and \[3\]"):
        broadcast((Batch(), 2), (3,))


def test_a_graph_is_checked_while_it_is_built():
    builder = GraphBuilder()
    builder.input("x", TensorType(FLOAT, (Batch(), 4)))
    builder.add("Relu", ["x"], "y", "features.0")
    with pytest.raises(GraphError, match="produced twice"):
        builder.add("Relu", ["x"], "y")
    with pytest.raises(GraphError, match="reads z, which no earlier node produces"):
        builder.add("Relu", ["z"], "w")
    with pytest.raises(GraphError, match="Add in layer head cannot take"):
        builder.add("Add", ["y", builder.constant("c", np.zeros(3, np.float32))], "w", "head")
    with pytest.raises(GraphError, match="not produced by any node"):
        builder.finish(["nobody"])
    graph = builder.finish(["y"])
    with pytest.raises(GraphError, match="needs the inputs x"):
        run_graph(graph, {})


def test_renaming_makes_way():
    builder = GraphBuilder()
    builder.input("x", TensorType(FLOAT, (Batch(), 2)))
    builder.add("Neg", ["x"], "scores")
    builder.add("Exp", ["scores"], "y")
    graph = builder.finish(["y"]).renamed({"x": "image", "y": "scores"})
    assert graph.inputs == ("image",) and graph.outputs == ("scores",)
    x = np.float32([[1, 2]])
    np.testing.assert_allclose(run_graph(graph, {"image": x})["scores"], np.exp(-x), rtol=1e-6)


@settings(max_examples=120, deadline=None)
@given(st.integers(1, 24), st.integers(1, 40), st.sampled_from(["bilinear", "bicubic"]), st.booleans(), st.booleans())
def test_resampling_matrices_are_the_frameworks(size, wanted, mode, aligned, antialias):
    if aligned and antialias:
        return
    x = torch.randn(1, 1, size, size, dtype=torch.float64, generator=torch.Generator().manual_seed(size))
    right = torch.nn.functional.interpolate(x, (wanted, wanted), mode=mode, align_corners=aligned, antialias=antialias)[
        0, 0
    ].numpy()
    kind = {"bilinear": "linear", "bicubic": "cubic"}[mode]
    matrix = resampling_matrix(size, wanted, kind, "align_corners" if aligned else "half_pixel", None, antialias)
    np.testing.assert_allclose(matrix.sum(1), 1, atol=1e-12)
    np.testing.assert_allclose(matrix @ x[0, 0].numpy() @ matrix.T, right, atol=2e-5)


def test_a_file_is_whole_or_not_there(tmp_path):
    path = tmp_path / "out.bin"
    with pytest.raises(KeyboardInterrupt), whole_file(path) as file:
        file.write(b"half")
        os.kill(os.getpid(), signal.SIGINT)
    assert not list(tmp_path.iterdir())
    with whole_file(path) as file:
        file.write(b"whole")
    os.umask(mask := os.umask(0))
    assert path.read_bytes() == b"whole" and path.stat().st_mode & 0o777 == 0o666 & ~mask
    with pytest.raises(ZeroDivisionError), whole_file(path) as file:
        file.write(b"worse" * (1 // 0))
    assert path.read_bytes() == b"whole" and len(list(tmp_path.iterdir())) == 1
    for bad in (tmp_path, tmp_path / "no" / "where", path / "below"):
        with pytest.raises(OutputError), whole_file(bad):
            pass


def test_reading_says_what_is_wrong(tmp_path):
    for make, words in (
        (None, "no such file"),
        (lambda p: p.mkdir(), "is a folder"),
        (lambda p: p.write_bytes(b"\xff\xfe"), "UTF-8"),
    ):
        path = tmp_path / words.replace(" ", "_")
        if make:
            make(path)
        with pytest.raises(FileError, match=words):
            read_text(path, "a list")
    (tmp_path / "long").write_text("x" * 100)
    with pytest.raises(FileError, match="too large for a list"):
        read_text(tmp_path / "long", "a list", limit_bytes=10)
    assert sha256_of(tmp_path / "long").startswith("09ecb6ebc8bcefc7")
    with pytest.raises(FileError, match="not a box"), open_zip(tmp_path / "long", "a box", FileError):
        pass


def test_kinds_are_told_by_contents(shipped, tmp_path):
    def zipped(name, *members):
        with zipfile.ZipFile(tmp_path / name, "w") as archive:
            for member in members:
                archive.writestr(member, "")
        return tmp_path / name

    def written(name, content):
        (tmp_path / name).write_bytes(content)
        return tmp_path / name

    expected = {
        shipped / "channel_marks.pt2": kinds.PROGRAM,
        shipped / "channel_marks.onnx": kinds.ARTIFACT,
        shipped / "channel_marks.witness": kinds.WITNESS,
        shipped / "wrong" / "squashed.toml": kinds.INLET,
        shipped / "labels.txt": kinds.LABELS,
        shipped / "reference" / "mark-03.png": kinds.IMAGE,
        zipped("a.keras", "config.json", "metadata.json", "model.weights.h5"): kinds.KERAS_ARCHIVE,
        zipped("s.pt", "m/data.pkl", "m/code/__torch__.py"): kinds.TORCH_SCRIPT,
        zipped("w.pt", "m/data.pkl", "m/data/0"): kinds.TORCH_PICKLE,
        zipped("b.zip", "notes.txt"): kinds.ZIP,
        written("x.h5", b"\x89HDF\r\n\x1a\n" + bytes(8)): kinds.HDF5,
        written("old.pt", b"\x80\x02\x8a\nl\xfc\x9cF\xf9 j\xa8P\x19.\x80\x02M\xe9\x03."): kinds.TORCH_PICKLE,
        written("any.pkl", b"\x80\x04}\x94."): kinds.PYTHON_PICKLE,
        written("nothing.onnx", b""): kinds.EMPTY,
        written("notes.md", b"# notes"): kinds.TEXT,
        written("noise.onnx", bytes(range(200, 256))): kinds.UNKNOWN,
    }
    for path, kind in expected.items():
        assert kind_of(path) == kind, path
        assert kind_of(path.rename(path.with_suffix(".bin")) if path.parent == tmp_path else path) in (
            kind,
            kinds.TEXT,
        )


def test_unknown_operators_are_summed_up():
    fault = UnknownOperators("model.pt2", {"aten.b.default": ["l2", "l2", "l3", "l4", "l5"], "aten.a.default": ["l1"]})
    assert "2 unknown operators in 6 places: aten.a.default (l1); aten.b.default (l2, l3, l4 and 1 more)" in str(fault)
