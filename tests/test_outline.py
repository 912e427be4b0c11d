"""The outline of a network: what it counts, what it folds, and that it stays readable for any number of layers."""

import json

import numpy as np
import pytest
from conftest import called, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from zygal.bench.arithmetic import multiply_adds as counted_by_bench
from zygal.bench.feeds import Feeds, Given
from zygal.engines.session import open_session
from zygal.graph import Batch, Graph, Node, TensorType
from zygal.outline.cost import multiply_adds, sizes_of
from zygal.outline.figure import draw_network
from zygal.outline.outline import MOST_ROWS, outline_of

FLOAT = np.dtype(np.float32)


def chain(layers, widths):
    """Dense layers one behind the other, named as given."""
    types, constants, nodes, last = {"x": TensorType(FLOAT, (Batch(1), widths[0]))}, {}, [], "x"
    for index, (layer, width) in enumerate(zip(layers, widths[1:])):
        weight, out = f"w{index}", f"v{index}"
        constants[weight] = np.zeros((types[last].shape[1], width), np.float32)
        types |= {weight: TensorType(FLOAT, constants[weight].shape), out: TensorType(FLOAT, (Batch(1), width))}
        nodes.append(Node("MatMul", (last, weight), (out,), {}, layer))
        last = out
    return Graph(("x",), (last,), tuple(nodes), constants, types)


def leaves(parts, times=1):
    for part in parts:
        if part.parts:
            yield from leaves(part.parts, times * part.repeat)
        else:
            yield part, times


def test_repeats_are_folded_and_nothing_is_lost():
    names = ["stem", *(f"blocks.{block}.{name}" for block in range(6) for name in ("up", "down")), "head"]
    graph = chain(names, [8, 16, *([64, 16] * 6), 10])
    outline = outline_of(graph)
    assert [(part.name, part.repeat) for part in outline.parts] == [("stem", 1), ("blocks", 1), ("head", 1)]
    (folded,) = outline.parts[1].parts
    assert (folded.name, folded.last_name, folded.repeat) == ("blocks.0", "blocks.5", 6)
    assert [each.name for each in folded.parts] == ["blocks.0.up", "blocks.0.down"]
    assert outline.parameters == outline.multiply_adds == 8 * 16 + 6 * 2 * 16 * 64 + 16 * 10


@settings(max_examples=150)
@given(
    st.lists(st.tuples(st.integers(0, 3), st.integers(0, 6), st.integers(0, 3)), min_size=1, max_size=120),
    st.lists(st.sampled_from([4, 8, 16]), min_size=121, max_size=121),
    st.sampled_from([8, 26]),
)
def test_rows_are_few_and_their_figures_add_up(places, widths, most):
    graph = chain([f"s{a}.b{b}.l{c}" for a, b, c in places], widths[: len(places) + 1])
    outline = outline_of(graph, most)
    found = list(leaves(outline.parts))
    runs = 1 + sum(one[0] != other[0] for one, other in zip(places, places[1:]))
    assert len(found) <= max(most, runs)
    assert sum(part.multiply_adds * times for part, times in found) == outline.multiply_adds
    assert sum(part.parameters * times for part, times in found) == outline.parameters
    assert sum(len(part.steps) * part.repeat * times for part, times in found) == len(graph.nodes)


@pytest.mark.alike
@pytest.mark.parametrize("count", [1, 20, 2000])
def test_it_is_readable_for_any_number_of_layers(count, tmp_path):
    graph = chain(
        [f"stage{i // 500}.block{i // 20 % 25}.layer{i % 20}" for i in range(count)],
        [16 + i % 7 for i in range(count + 1)],
    )
    outline = outline_of(graph)
    draw_network(outline, "deep", tmp_path / "deep.png")
    picture = Image.open(tmp_path / "deep.png")
    assert sum(part.rows() for part in outline.parts) <= MOST_ROWS and picture.width == 1280 and picture.height <= 850
    draw_network(outline, "deep", tmp_path / "one.svg")
    draw_network(outline, "deep", tmp_path / "two.svg")
    assert (tmp_path / "one.svg").read_bytes() == (tmp_path / "two.svg").read_bytes() and b"stage0" in (
        tmp_path / "one.svg"
    ).read_bytes()


def test_multiply_adds_are_those_that_bench_counts_in_the_artifact(shipped):
    """Two counts, one on our graph and one on the written message."""
    from zygal.files.recognition import kind_of
    from zygal.outline.opened import graph_at

    path = shipped / "channel_marks.onnx"
    graph = graph_at(path, kind_of(path))
    counted = counted_by_bench(path, Feeds(open_session(path), Given(None, "random numbers", None, {}), path)).total
    assert sum(multiply_adds(graph, node) for node in graph.nodes) == counted > 0
    assert sizes_of(graph, graph.inputs[0]) == (1, 3, 64, 64)


@pytest.mark.slow
def test_survey_draws_sources_and_artifacts(workspace):
    for file, drawing in (
        ("channel_marks.pt2", "one.png"),
        ("channel_marks.onnx", "two.svg"),
        ("keras/channel_marks.keras", "three.png"),
    ):
        done = called("survey", file, "--draw", drawing, "--json", "survey.json", cwd=workspace)
        outline = json.loads((workspace / "survey.json").read_text())["outline"]
        assert (
            done.returncode == 0
            and (workspace / drawing).stat().st_size > 5000
            and outline["multiply_adds_per_image"] > 1e6
            and len(outline["parts"]) > 3
        )
    refused(
        called("survey", "labels.txt", "--draw", "a.png", cwd=workspace),
        "--draw shows a network, but labels.txt is a labels file",
    )
    refused(called("survey", "channel_marks.onnx", "--draw", "a.jpg", cwd=workspace), "ends in .png or .svg")
    (workspace / "photograph.png").write_bytes((workspace / "reference" / "mark-03.png").read_bytes())
    refused(
        called("survey", "channel_marks.onnx", "--draw", "photograph.png", cwd=workspace),
        "exists and is not a drawing of Zygal",
    )
    assert not called("survey", "channel_marks.onnx", "--json", "-", cwd=workspace).stdout.count('"parts"')
