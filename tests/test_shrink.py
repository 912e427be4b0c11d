"""Shrinking: quantization, weights, the graph in 8 bits, the choice of layers, and the command on files."""

import json
import shutil
from dataclasses import replace

import numpy as np
import onnx
import pytest
from conftest import called, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from zygal.artifact.formats import Writing, read_artifact, write_artifact
from zygal.bench.advice import on_eight_bits
from zygal.classifier.metadata import EIGHT_BITS, Metadata, Share, Shrunk
from zygal.engines.graph import GraphEngine
from zygal.engines.session import SessionSettings, open_session
from zygal.errors import ArtifactError, EngineError
from zygal.evidence.compare import order_kept
from zygal.graph import Batch, GraphBuilder, TensorType
from zygal.graph.reference import run_graph
from zygal.inlet import Decode, Inlet, Resize, Tensor, Values
from zygal.machine.processor import Multiplication, multiplication
from zygal.shrink.calibrate import calibrate
from zygal.shrink.choose import Budget, Chooser, best_returned, layers_of
from zygal.shrink.cost import unit_seconds
from zygal.shrink.damage import damages, score_error
from zygal.shrink.equalize import equalized
from zygal.shrink.form import MOBILE_FORM, onnx_form
from zygal.shrink.network import Network
from zygal.shrink.observe import observe
from zygal.shrink.prepare import prepared
from zygal.shrink.quantization import Histogram, best_quantization, quantized_and_back
from zygal.shrink.trial import Point, expected_agreement
from zygal.shrink.weights import quantized_weight
from zygal.sources.onnx.translate import artifact_graph
from zygal.statistics.intervals import Estimate, share_of
from zygal.statistics.quantiles import Ratio

FORM = onnx_form(multiplication())
IMAGES = np.random.default_rng(5).normal(size=(24, 3, 16, 16)).astype(np.float32)


class Small:
    """A small classifier under construction: every weight is drawn, some channels much larger than others."""

    def __init__(self, batch=Batch(), uneven=0.0):
        self.rng, self.builder, self.uneven = np.random.default_rng(3), GraphBuilder(), uneven
        self.now = self.builder.input("image", TensorType(np.dtype(np.float32), (batch, 3, 16, 16)))
        self.channels, self.count = 3, 0

    def add(self, operator, *others, layer="", **attributes):
        self.count += 1
        self.now = self.builder.add(
            operator, [self.now, *others], f"v{self.count}", layer or f"layer{self.count}", **attributes
        )
        return self

    def constant(self, array):
        return self.builder.constant(f"c{len(self.builder.constants)}", np.asarray(array, np.float32))

    def conv(self, outputs, size=3, group=1, **attributes):
        weight = self.rng.normal(size=(outputs, self.channels // group, size, size)) / np.sqrt(
            self.channels // group * size * size
        )
        factors = np.exp(self.rng.normal(size=outputs) * self.uneven)
        weight, bias = weight * factors[:, None, None, None], self.rng.normal(size=outputs) * 0.1 * factors
        self.channels = outputs
        return self.add(
            "Conv", self.constant(weight), self.constant(bias), group=group, pads=[size // 2] * 4, **attributes
        )

    def end(self, classes=5):
        self.add("GlobalAveragePool").add("Flatten")
        weight = self.rng.normal(size=(classes, self.channels))
        return self.add(
            "Gemm", self.constant(weight), self.constant(np.zeros(classes)), transB=1, layer="head"
        ).builder.finish([self.now])


def plain(**more):
    small = Small(**more)
    small.conv(8).add("Relu")
    kept = small.now
    small.conv(8).add("Relu").conv(8).add("Add", kept).add("Relu").conv(16, strides=[2, 2]).add("Relu").add(
        "MaxPool", kernel_shape=[2, 2], strides=[2, 2]
    )
    return small.end()


def gated():
    small = Small().conv(8).add("HardSwish").conv(8, group=8).add("HardSwish")
    kept = small.now
    small.add("GlobalAveragePool").conv(4, 1).add("Relu").conv(8, 1).add("HardSigmoid", alpha=1 / 6, beta=0.5).add(
        "Mul", kept
    )
    kept = small.conv(8, 1).now
    return small.add("Sigmoid").add("Mul", kept).end()


def concatenated():
    small = Small().conv(6).add("Relu")
    kept = small.now
    small.conv(4).add("Relu").add("Concat", kept, axis=1)
    small.channels = 10
    return small.conv(8, 1).add("Clip", min=0.0, max=6.0).end()


def calibrated(graph, form=FORM, images=IMAGES):
    network = Network(prepared(graph, form, "model.onnx"), form)
    return calibrate(
        network,
        observe(network, images, [str(number) for number in range(len(images))], 1, lambda done: None),
        images,
        1,
    )


def all_in_8_bits(calibration):
    return calibration.graph(calibration.network.possible(calibration.network.units))


# Quantization

VALUES = st.lists(st.floats(-50, 50, width=32), min_size=3, max_size=300)


@settings(max_examples=60)
@given(VALUES, st.sampled_from((FORM, MOBILE_FORM)))
def test_steps_store_zero_exactly_and_lose_no_more_than_the_full_range_does(values, form):
    values = np.array(values, np.float32)
    histogram = Histogram()
    histogram.add(values, float(values.min()), float(values.max()))
    quantization = best_quantization(histogram, form)
    assert form.limits[0] <= quantization.zero_point <= form.limits[1] and 0 <= quantization.clipped <= 1
    assert quantized_and_back(np.zeros(1, np.float32), quantization, form)[0] == 0
    low, high = min(values.min(), 0), max(values.max(), 0)
    full = (high - low) / 255 or 1.0
    bins = 2 * histogram.reach / 4096
    assert np.sqrt(np.mean((quantized_and_back(values, quantization, form) - values) ** 2)) <= full / np.sqrt(3) + bins


def test_a_rare_large_value_is_clipped_and_a_flat_tail_costs_nothing():
    values = np.random.default_rng(0).laplace(size=1_000_000).astype(np.float32)
    histogram = Histogram()
    histogram.add(values, float(values.min()), float(values.max()))
    quantization = best_quantization(histogram, FORM)
    full = (values.max() - values.min()) / 255
    assert quantization.scale < 0.9 * full and 0 < quantization.clipped < 1e-3
    lost = float(np.mean((quantized_and_back(values, quantization, FORM) - values) ** 2))
    assert lost == pytest.approx(quantization.error, rel=0.05) and lost < 0.9 * full**2 / 12
    # Behind a rectifier what is below zero is lost anyway, so no step is spent on it and nothing counts as clipped.
    rectified = best_quantization(histogram, FORM, lambda each: np.maximum(each, 0.0))
    assert rectified.scale < 0.6 * quantization.scale and rectified.zero_point <= 8


def test_a_histogram_grows_without_losing_counts():
    whole, parts = Histogram(), Histogram()
    numbers = np.random.default_rng(1).normal(size=5000).astype(np.float32) * np.repeat(
        [0.01, 1, 300], [1000, 2000, 2000]
    ).astype(np.float32)
    whole.add(numbers, float(numbers.min()), float(numbers.max()))
    for part in np.split(numbers, 50):
        parts.add(part, float(part.min()), float(part.max()))
    assert parts.total == whole.total == 5000 and parts.high == whole.high
    joined = whole.joined(parts)
    assert joined.total == 10_000
    assert best_quantization(parts, FORM).scale == pytest.approx(best_quantization(whole, FORM).scale, rel=0.06)


# Weights


@settings(max_examples=40)
@given(st.integers(1, 6), st.integers(1, 5), st.sampled_from((63, 127)), st.integers(0, 9))
def test_weights_are_symmetric_and_within_their_bits(rows, columns, limit, seed):
    weight = np.random.default_rng(seed).normal(size=(rows, columns, 3, 3)).astype(np.float32)
    weight[0] = 0
    kept = quantized_weight(weight, 0, limit)
    assert kept.array.dtype == np.int8 and np.abs(kept.array.astype(int)).max(initial=0) <= limit
    largest = np.abs(weight).max((1, 2, 3))
    assert (np.abs(kept.real(0) - weight).max((1, 2, 3)) <= 0.2 * largest + largest / limit).all()
    full = (
        np.clip(np.rint(weight / (np.maximum(largest, 1e-30) / limit)[:, None, None, None]), -limit, limit)
        * (largest / limit)[:, None, None, None]
    )
    assert ((kept.real(0) - weight) ** 2).sum() <= ((full - weight) ** 2).sum() * 1.0001 + 1e-12


def test_seven_bits_where_pairs_of_products_are_held_in_16_bits():
    old, new, arm = (
        onnx_form(Multiplication(*each)) for each in (("x86", ()), ("x86", ("AVX VNNI",)), ("arm", ("dot product",)))
    )
    assert 2 * 255 * old.weight_limit < 2**15 <= 2 * 255 * new.weight_limit and (old.weight_bits, new.weight_bits) == (
        7,
        8,
    )
    assert (old.dtype, arm.dtype) == (np.uint8, np.int8)


def test_a_bias_always_fits_into_32_bits():
    kept = quantized_weight(np.full((2, 1, 1, 1), 1e-12, np.float32), 0, 127, np.array([5.0, 0.0]), 0.01)
    assert abs(5.0 / (0.01 * float(kept.scales[0]))) < 2**31


def test_the_bias_takes_out_the_shift_of_the_mean():
    calibration = calibrated(plain())
    network, units, shifts = calibration.network, calibration.network.units, []
    for result, unit in units.items():
        if (
            unit.node.operator != "Conv"
            or network.graph.types[unit.reads[0]].shape[2:] != network.graph.types[result].shape[2:]
            or result == "v1"
        ):
            continue
        # Alone in 8 bits on exact inputs, so what is left of the shift is from the borders.
        name = f"{result}.exact" if unit.home == result else result
        exact = GraphEngine(network.graph, [result]).values(IMAGES)[result]
        unmoved = replace(calibration, biases={result: network.graph.constants[unit.bias].astype(np.float64)})
        after, before = (
            np.abs((GraphEngine(each.graph({result}), [name]).values(IMAGES)[name] - exact).mean((0, 2, 3))).mean()
            for each in (calibration, unmoved)
        )
        shifts.append((after, before))
    assert len(shifts) == 2 and all(after < 0.7 * before for after, before in shifts), shifts


# Equalisation


def depthwise_behind_rectifier():
    return Small(uneven=1.5).conv(12).add("Relu").conv(12, group=12).conv(8, 1).add("Relu").end()


def test_equalised_channels_compute_the_same_and_lose_less():
    graph = prepared(depthwise_behind_rectifier(), FORM, "m")
    network = Network(graph, FORM)
    seen = observe(network, IMAGES, ["x"] * len(IMAGES), 1, lambda done: None)
    other = equalized(network, seen.channels)
    usual, equal = (run_graph(each, {"image": IMAGES})[each.outputs[0]] for each in (graph, other))
    np.testing.assert_allclose(equal, usual, atol=1e-5 * np.ptp(usual))
    errors = [score_error(GraphEngine(all_in_8_bits(calibrated(each))).run(IMAGES), usual) for each in (graph, other)]
    assert errors[1] < 0.6 * errors[0]


def test_a_normalisation_is_equalised_with_the_product_behind_it():
    small = Small().conv(8)
    small.add("Flatten")
    width = 8 * 256
    small.add(
        "LayerNormalization",
        small.constant(np.exp(small.rng.normal(size=width))),
        small.constant(small.rng.normal(size=width)),
        axis=-1,
    )
    small.add("MatMul", small.constant(small.rng.normal(size=(width, 5)) / 45))
    graph = small.builder.finish([small.now])
    network = Network(graph, FORM)
    other = equalized(network, observe(network, IMAGES, ["x"] * len(IMAGES), 1, lambda done: None).channels)
    assert other is not graph
    usual, equal = (run_graph(each, {"image": IMAGES})[each.outputs[0]] for each in (graph, other))
    np.testing.assert_allclose(equal, usual, atol=2e-5 * np.ptp(usual))


# The graph in 8 bits


@pytest.mark.parametrize(
    "make, joined",
    [
        (plain, {"QLinearConv": 4, "QLinearAdd": 1, "QGemm": 1, "QLinearGlobalAveragePool": 1}),
        (gated, {"QLinearConv": 5, "QLinearAdd": 3, "QLinearMul": 4, "QLinearSigmoid": 1, "QGemm": 1}),
        (concatenated, {"QLinearConv": 3, "QLinearConcat": 1, "QGemm": 1}),
    ],
)
def test_the_runtime_computes_in_8_bits_end_to_end_as_the_reference_engine_says(make, joined, tmp_path):
    calibration = calibrated(make())
    graph = all_in_8_bits(calibration)
    path = tmp_path / "small.onnx"
    write_artifact(graph, path, Metadata(), Writing(17))
    open_session(path, SessionSettings(1, rewritten=str(tmp_path / "rewritten.onnx")))
    operators = [node.op_type for node in onnx.load(tmp_path / "rewritten.onnx").graph.node]
    assert {name: operators.count(name) for name in joined} == joined
    assert not {"Conv", "Gemm", "Add", "Mul", "Relu", "Clip", "HardSwish"} & set(operators), operators
    usual = run_graph(calibration.network.graph, {"image": IMAGES})[graph.outputs[0]]
    ours, reference = (
        GraphEngine(graph).run(IMAGES),
        run_graph(artifact_graph(path), {"image": IMAGES})[graph.outputs[0]],
    )
    # Rounding in another order moves a few numbers by a step.
    assert score_error(ours, reference) < 0.3 * score_error(ours, usual)
    assert score_error(ours, usual) < 0.03


def test_a_gate_by_storing_is_exact_within_half_a_step():
    calibration = calibrated(gated())
    unit = next(unit for unit in calibration.network.units.values() if unit.node.operator == "HardSigmoid")
    graph = all_in_8_bits(calibration)
    values = GraphEngine(graph, [unit.reads[0], unit.result]).values(IMAGES)
    wanted = np.clip(values[unit.reads[0]] / 6 + 0.5, 0, 1)
    assert np.abs(values[unit.result] - wanted).max() <= 0.5 / 255 + 1e-6


@pytest.mark.parametrize("make", [plain, gated, concatenated, depthwise_behind_rectifier])
def test_any_choice_of_operators_is_a_graph_that_computes_about_the_same(make):
    calibration = calibrated(make())
    network, rng = calibration.network, np.random.default_rng(8)
    usual = GraphEngine(network.graph).run(IMAGES)
    for _ in range(8):
        wanted = {result for result in network.units if rng.random() < 0.6}
        chosen = network.possible(wanted)
        graph = calibration.graph(chosen)
        assert chosen <= wanted and score_error(GraphEngine(graph).run(IMAGES), usual) < 0.05
        quantized = sum(array.dtype == np.int8 for array in graph.constants.values() if array.ndim > 1)
        assert quantized == sum(network.units[result].weight is not None for result in chosen)


def test_nothing_in_8_bits_is_the_float_graph():
    calibration = calibrated(plain())
    usual, none = (GraphEngine(graph).run(IMAGES) for graph in (calibration.network.graph, calibration.graph(())))
    np.testing.assert_array_equal(usual, none)


def test_products_of_activations_and_normalised_tokens_are_in_8_bits_too():
    small = Small().conv(16)
    small.add("Reshape", shape=[0, 16, 256]).add("Transpose", perm=[0, 2, 1])
    small.add("LayerNormalization", small.constant(np.ones(16)), small.constant(np.zeros(16)), axis=-1)
    tokens = (
        small.add("MatMul", small.constant(small.rng.normal(size=(16, 16)) / 4))
        .add("Add", small.constant(small.rng.normal(size=16)))
        .now
    )
    turned = small.add("Transpose", perm=[0, 2, 1]).now
    small.now = tokens
    small.add("MatMul", turned).add("Softmax", axis=-1).add("MatMul", tokens).add("ReduceMean", axes=[1], keepdims=0)
    small.channels = 16
    graph = small.add("Gemm", small.constant(small.rng.normal(size=(5, 16))), transB=1).builder.finish([small.now])
    calibration = calibrated(graph)
    assert [unit.node.operator for unit in calibration.network.units.values()] == [
        "Conv",
        "MatMul",
        "MatMul",
        "MatMul",
        "Gemm",
    ]
    usual, ours = (GraphEngine(each).run(IMAGES) for each in (calibration.network.graph, all_in_8_bits(calibration)))
    assert score_error(ours, usual) < 0.03


def test_what_is_stated_by_parts_is_a_gate():
    small = Small().conv(8).add("Relu")
    kept = small.now
    small.add("Add", small.constant(3.0)).add("Clip", min=0.0, max=6.0).add("Mul", small.constant(1 / 6)).add(
        "Mul", kept
    )
    made = prepared(small.end(), FORM, "m")
    assert "HardSigmoid" in [node.operator for node in made.nodes] and "Clip" not in [
        node.operator for node in made.nodes
    ]
    small = Small().conv(8).add("Clip", min=0.0, max=6.0)
    small.add("Mul", small.constant(1 / 6))
    graph = small.end()
    folded = prepared(graph, FORM, "m")
    assert "Mul" not in [node.operator for node in folded.nodes]
    usual, ours = (run_graph(each, {"image": IMAGES})[each.outputs[0]] for each in (graph, folded))
    np.testing.assert_allclose(ours, usual, atol=1e-5)


def test_a_normalisation_that_stands_alone_is_a_convolution_without_an_error_of_its_own():
    small = Small().conv(6).add("Relu")
    parts = [
        small.constant(small.rng.normal(size=6)),
        small.constant(small.rng.normal(size=6)),
        small.constant(small.rng.normal(size=6)),
        small.constant(small.rng.random(6) + 0.1),
    ]
    graph = small.add("BatchNormalization", *parts, epsilon=1e-3).add("Relu").conv(4).end()
    calibration = calibrated(graph)
    usual, ours = (run_graph(each, {"image": IMAGES})[each.outputs[0]] for each in (graph, calibration.network.graph))
    np.testing.assert_allclose(ours, usual, atol=1e-5)
    unit = [unit for unit in calibration.network.units.values() if unit.node.operator == "Conv"][1]
    kept = calibration.weights[unit.result]
    np.testing.assert_allclose(kept.real(0), calibration.network.graph.constants[unit.weight], rtol=1e-6)


def test_a_fixed_batch_is_filled_up():
    calibration = calibrated(plain(batch=5))
    usual, ours = (
        GraphEngine(each).run(IMAGES[:5]) for each in (calibration.network.graph, all_in_8_bits(calibration))
    )
    assert score_error(ours, usual) < 0.03
    found = damages(
        calibration,
        IMAGES,
        np.concatenate(
            [GraphEngine(calibration.network.graph).run(IMAGES[s : s + 5]) for s in (0, 5, 10, 15)] + [usual[:4]]
        ),
        "logits",
        1,
        lambda part: None,
    )
    assert set(found) == set(calibration.network.quantizable)


# The choice


def test_damages_add_up_to_the_error_of_all():
    calibration = calibrated(plain())
    usual = GraphEngine(calibration.network.graph).run(IMAGES)
    found = damages(calibration, IMAGES, usual, "logits", 1, lambda part: None)
    whole = score_error(GraphEngine(all_in_8_bits(calibration)).run(IMAGES), usual)
    assert set(found) == set(calibration.network.quantizable)
    # What is moved was rounded before.
    assert (
        {value for value, damage in found.items() if damage == 0}
        == {value for value in found if calibration.network.quantized_before(value)}
        != set()
    )
    assert np.sqrt(sum(each**2 for each in found.values())) == pytest.approx(whole, rel=0.5)


def test_times_are_told_by_operator():
    calibration = calibrated(plain())
    units = calibration.network.units
    seconds, others = unit_seconds(
        all_in_8_bits(calibration),
        {name: name for name in units} | {f"{name}.exact": name for name in units},
        IMAGES[:1],
        1,
    )
    assert all(seconds[name] > 0 for name in units) and others < sum(seconds.values())


def test_the_most_damage_for_the_least_time_goes_back_first():
    network = Network(plain(), FORM)
    hurts = list(network.units)[2]
    damage = {
        value: 0.1 if value in (network.units[hurts].reads[0], network.units[hurts].home) else 0.001
        for value in network.quantizable
    }
    same = dict.fromkeys(network.units, 1.0)
    layers = layers_of(network, damage, same, dict.fromkeys(network.units, 2.0))
    order = best_returned(network, layers, same, dict.fromkeys(network.units, 2.0), ())
    assert hurts in order[0] and len(order[0]) <= 5
    assert sorted(name for group in order for name in group) == sorted(network.units)


class Stub:
    """Candidates whose quality and speed follow from how many operators they keep."""

    def __init__(self, agreements, speeds):
        self.calibration = type("C", (), {"network": Network(plain(), FORM)})()
        self.agreements, self.speeds, self.asked, self.points = agreements, speeds, [], {}
        self.float_bytes = 1

    def point(self, kept, name):
        self.asked.append(len(kept))
        place = min(len(kept), len(self.agreements) - 1)
        share = self.agreements[place]
        return Point(
            tuple(kept),
            name,
            share_of(round(share * 1000), 1000),
            Estimate(share, share, share),
            1 - share,
            None,
            Ratio(self.speeds[place], self.speeds[place], self.speeds[place], 9),
            self.size(len(kept)),
        )

    def tried(self, kept):
        return None

    @staticmethod
    def size(kept):
        return 0.3 + 0.08 * kept


def chooser_of(stub, budget):
    network = stub.calibration.network
    layers = layers_of(
        network,
        dict.fromkeys(network.quantizable, 0.01),
        dict.fromkeys(network.units, 1.0),
        dict.fromkeys(network.units, 2.0),
    )
    return Chooser(
        stub, layers, dict.fromkeys(network.units, 1.0), dict.fromkeys(network.units, 2.0), budget, lambda part: None
    )


def test_the_fewest_operators_that_hold_the_budget_are_kept():
    agreements, speeds = (
        [0.95, 0.96, 0.97, 0.98, 0.985, 0.991, 0.999, 1.0, 1.0],
        [3.0, 2.8, 2.6, 2.4, 2.2, 2.0, 1.6, 1.2, 1.0],
    )
    chooser = chooser_of(Stub(agreements, speeds), Budget(agree=0.99))
    taken = chooser._fewest()
    earlier = [
        chooser.kept(count) for count in range(len(chooser.order) + 1) if len(chooser.kept(count)) < len(taken.kept)
    ]
    assert taken.agreement.value >= 0.99 and all(agreements[min(len(kept), 8)] < 0.99 for kept in earlier)
    assert chooser_of(Stub(agreements, speeds), Budget(agree=0.99, speed=2.9))._fewest() is None
    assert chooser_of(Stub([0.5] * 8 + [1.0], speeds), Budget(agree=0.99))._fewest() is None, (
        "a file of nearly the same size is no result"
    )
    fastest = chooser_of(Stub(agreements, speeds), Budget(speed=2.1))._most()
    assert fastest.speed.value >= 2.1
    assert chooser_of(Stub(agreements, speeds), Budget(speed=9.0))._most() is None


def test_the_expected_agreement_is_that_of_many_images():
    rng = np.random.default_rng(2)
    usual = rng.normal(size=(20_000, 4))
    ours = usual + rng.normal(size=usual.shape) * 0.05
    # Enough images that their margins are those of all.
    counted = (usual.argmax(1) == ours.argmax(1)).mean()
    found = expected_agreement(ours[:4000], usual[:4000], "logits")
    assert found.value == pytest.approx(counted, abs=0.006) and found.low < counted < found.high
    few = expected_agreement(ours[:400], usual[:400], "logits")
    assert few.high - few.low > 2 * (found.high - found.low)
    assert expected_agreement(usual, usual, "logits").low == 1.0


def test_the_order_of_scores():
    recorded = np.array([[5.0, 3.0, 1.0, 0.99]])
    assert order_kept(recorded, recorded, 4.0) == 1.0
    assert order_kept(np.array([[5.0, 3.0, 0.99, 1.0]]), recorded, 4.0) == 1.0, "these two are too close to count"
    assert order_kept(np.array([[3.0, 5.0, 1.0, 0.9]]), recorded, 4.0) == pytest.approx(4 / 5)
    assert order_kept(np.full((1, 4), np.nan), recorded, 4.0) == 0.0


# What is refused


def test_a_layer_that_gives_not_a_number_is_named():
    small = Small().conv(4).add("Relu")
    graph = small.add("Log", layer="features.bad").conv(4).end()
    with pytest.raises(EngineError, match=r"layer features.bad \(Log\) gives (infinity|not-a-number) on a.jpg"):
        observe(Network(graph, FORM), IMAGES[:2], ["a.jpg", "b.jpg"], 1, lambda done: None)


def test_what_is_in_8_bits_already_is_refused():
    with pytest.raises(ArtifactError, match="in 8 bits already"):
        prepared(all_in_8_bits(calibrated(plain())), FORM, "small.onnx")


@pytest.mark.parametrize(
    "options, words",
    [
        ([], ["--images DIR", "--witness FILE"]),
        (["--images", "nowhere"], ["nowhere does not exist"]),
        (["--images", "reference", "--lose", "1%"], ["--lose", "--labelled"]),
        (["--images", "reference", "--half", "--speed", "2x"], ["--speed does not apply to --half"]),
        (["--images", "reference", "--count", "0"], ["--count must be at least 1"]),
        (
            ["--images", "reference", "--inlet", "keras/channel_marks.inlet.toml"],
            ["takes tensors", "use the inlet of this model"],
        ),
        (
            ["--images", "reference", "--inlet", "wild.toml", "--witness", "channel_marks.witness"],
            ["come from another inlet", "recorded tensors reach"],
        ),
        (["--images", "labels.txt"], ["is a file, but a folder of images is needed"]),
    ],
)
def test_wrong_requests_are_one_sentence(workspace, options, words):
    if "wild.toml" in options:
        text = (workspace / "channel_marks.inlet.toml").read_text()
        lines = [line for line in text.splitlines() if not line.startswith(("mean", "std", "range"))]
        at = lines.index("[values]")
        (workspace / "wild.toml").write_text("\n".join([*lines[: at + 1], "range = [0, 255]", *lines[at + 1 :]]) + "\n")
    done = called("shrink", "channel_marks.onnx", "-o", "small.onnx", *options, cwd=workspace)
    refused(done, *words)
    assert not (workspace / "small.onnx").exists()


# The command


@pytest.mark.slow
def test_the_shrunk_artifact_says_how_it_was_made_and_is_smaller(shrunk):
    folder, found = shrunk, json.loads((shrunk / "s.json").read_text())
    facts = read_artifact(folder / "small.onnx")
    made = facts.metadata.shrunk
    assert (
        made.artifact == "channel_marks.onnx"
        and made.artifact_sha256 == read_artifact(folder / "channel_marks.onnx").sha256
    )
    assert (made.precision, made.images, made.layers_in_8_bits) == (EIGHT_BITS, 40, found["operators_in_8_bits"])
    assert sum(share.share for share in made.shares) <= 1.001 and made.shares[0].layer in {
        each["layer"] for each in found["layers"]
    }
    assert facts.size_bytes < 0.65 * found["float_bytes"] and facts.metadata.labels and facts.metadata.inlet
    assert (
        found["chosen"]["top_1_agreement"]["value"] >= 0.99
        and found["chosen"]["top_1_agreement_expected"]["value"] >= 0.99
    )
    assert (
        "only 40 images calibrate" in (folder / "said.txt").read_text()
        and (folder / "curve.png").read_bytes()[:4] == b"\x89PNG"
    )
    assert [point["name"] for point in found["candidates"]][0] == "none kept"


@pytest.fixture
def tiny(tmp_path):
    """A small classifier in both formats, with images: what takes seconds on the demo's takes less here."""
    inlet = Inlet(
        Decode(),
        (Resize(filter="bilinear", size=(16, 16)),),
        Values((0.0, 1.0), (0.5, 0.5, 0.5), (0.25, 0.25, 0.25)),
        Tensor("NCHW", "float32"),
    )
    metadata = Metadata(inlet, tuple("abcde"))
    for name in ("tiny.onnx", "tiny.tflite"):
        write_artifact(plain(), tmp_path / name, metadata)
    rng = np.random.default_rng(4)
    (tmp_path / "images").mkdir()
    for number in range(12):
        Image.fromarray(rng.integers(0, 256, (24, 24, 3), np.uint8)).save(tmp_path / "images" / f"{number}.png")
    (tmp_path / "labelled.csv").write_text(
        "path,label\n" + "".join(f"images/{number}.png,{'abcde'[number % 5]}\n" for number in range(12))
    )
    return tmp_path


@pytest.mark.slow
def test_the_same_request_gives_the_same_numbers(tiny):
    made = [
        called(
            "shrink", "tiny.onnx", "-o", f"{name}.onnx", "--images", "images", "--agree", "0%", "--json", "-", cwd=tiny
        )
        for name in "ab"
    ]
    first, second = (json.loads(each.stdout) for each in made)
    numbers = [[layer["score_error_alone_of_spread"] for layer in each["layers"]] for each in (first, second)]
    kept = [each["chosen"]["kept_in_float"] for each in (first, second)]
    # The first layer stays in float where it was measured to be much faster so.
    assert numbers[0] == numbers[1] and all(set(each) <= {"layer1 (Conv)", "head (Gemm)"} for each in kept)
    assert ((tiny / "a.onnx").read_bytes() == (tiny / "b.onnx").read_bytes()) == (kept[0] == kept[1])


@pytest.mark.slow
def test_accuracy_that_is_lost_is_measured_on_labelled_images(tiny):
    done = called(
        "shrink",
        "tiny.onnx",
        "-o",
        "small.onnx",
        "--images",
        "images",
        "--lose",
        "50%",
        "--labelled",
        "labelled.csv",
        "--count",
        "5",
        "--json",
        "s.json",
        cwd=tiny,
    )
    assert done.returncode == 0 and "points on labelled.csv" in done.stdout, done.stderr
    found = json.loads((tiny / "s.json").read_text())
    assert found["images"] == 5 and -1 <= found["chosen"]["accuracy_lost"] <= 0.5 and found["budget"]["lose"] == 0.5


@pytest.mark.slow
def test_match_judges_a_shrunk_artifact_by_its_own_limits(shrunk, tmp_path):
    folder = shutil.copytree(shrunk, tmp_path / "files")
    base = ("match", "small.onnx", "--witness", "channel_marks.witness", "--images", "reference")
    done = called(*base, "--json", "m.json", cwd=folder)
    assert done.returncode == 0, done.stdout
    text = " ".join(done.stdout.split())
    assert (
        "was made from channel_marks.onnx in 8 bits" in text
        and "a float artifact's limit, 0.0001, does not apply" in text
    )
    found = json.loads((folder / "m.json").read_text())
    assert [(gate["name"], gate["unit"]) for gate in found["gates"]].count(("B", "share")) == 2 and found["shrunk"][
        "precision"
    ] == EIGHT_BITS


def test_match_names_the_layers_of_a_shrunk_artifact_that_answers_otherwise(shipped, tmp_path):
    folder = shutil.copytree(shipped, tmp_path / "files")
    graph = artifact_graph(folder / "channel_marks.onnx")
    name = next(node.inputs[1] for node in graph.nodes if node.layer == "features.2.project.0")
    broken = replace(graph, constants={**graph.constants, name: 0.2 * graph.constants[name]})
    facts = read_artifact(folder / "channel_marks.onnx")
    made = Shrunk(
        "channel_marks.onnx", facts.sha256, EIGHT_BITS, "a test", 40, "reference", 9, (), (Share("head.0", 0.4),)
    )
    write_artifact(broken, folder / "small.onnx", replace(facts.metadata, shrunk=made))
    assert (
        called(
            "witness",
            "channel_marks.pt2",
            "--images",
            "reference",
            "--inlet",
            "channel_marks.inlet.toml",
            "--layers",
            "-o",
            "l.witness",
            cwd=folder,
        ).returncode
        == 0
    )
    done = called("match", "small.onnx", "--witness", "l.witness", cwd=folder)
    assert done.returncode == 1, done.stdout
    text = " ".join(done.stdout.split())
    assert "shrink it with a stricter budget" in text and "measured when it was shrunk: head.0 40.0 %" in text
    assert "layer features.2.project" in text and "is the first whose output differs" in text


@pytest.mark.slow
def test_comparisons_work_as_they_are(shrunk, tmp_path):
    folder = shutil.copytree(shrunk, tmp_path / "files")
    names = sorted(path.name for path in (folder / "reference").iterdir())
    labels = (folder / "labels.txt").read_text().split()
    (folder / "labelled.csv").write_text(
        "path,label\n" + "".join(f"reference/{name},{labels[int(name[5:7]) % 10]}\n" for name in names)
    )
    tally = called("tally", "small.onnx", "--images", "labelled.csv", "--compare", "channel_marks.onnx", cwd=folder)
    # Of 40 images none can show that less than 1 % was lost.
    assert tally.returncode == 4 and "comparison is undecided" in tally.stdout, tally.stdout
    classify = called("classify", "small.onnx", "reference/mark-00.jpg", "--compare", "channel_marks.onnx", cwd=folder)
    assert classify.returncode == 0, classify.stderr
    bench = called(
        "bench",
        "small.onnx",
        "--compare",
        "channel_marks.onnx",
        "--batches",
        "1",
        "--threads",
        "1",
        "--seconds",
        "0.5",
        cwd=folder,
    )
    assert bench.returncode == 0 and "8 bits" in bench.stderr, bench.stderr


@pytest.mark.slow
def test_a_budget_that_nothing_holds_is_refused_with_the_nearest(tiny):
    done = called("shrink", "tiny.onnx", "-o", "fast.onnx", "--images", "images", "--speed", "1000x", cwd=tiny)
    assert done.returncode == 2 and not (tiny / "fast.onnx").exists()
    assert (
        "no choice of layers holds the budget (at least 1000 times as fast); the nearest keeps" in done.stderr
        and "nearest" in done.stdout
    )
    refused(
        called("shrink", "tiny.onnx", "-o", "x.tflite", "--images", "images", cwd=tiny), "asks for mobile flatbuffer"
    )
    assert called("shrink", "tiny.onnx", "-o", "small.onnx", "--witness", "nothing.witness", cwd=tiny).returncode == 2
    whole = write_artifact(
        all_in_8_bits(calibrated(plain())), tiny / "eight.onnx", read_artifact(tiny / "tiny.onnx").metadata
    )
    assert (
        whole
        and refused(
            called("shrink", "eight.onnx", "-o", "twice.onnx", "--images", "images", cwd=tiny), "in 8 bits already"
        )
        is None
    )


@pytest.mark.parametrize("ending", ["onnx", "tflite"])
def test_half_precision_weights_halve_the_file(shipped, tmp_path, ending):
    folder = shutil.copytree(shipped, tmp_path / "files")
    name = f"float.{ending}"
    assert (
        called("convert", "channel_marks.pt2", "-o", name, "--inlet", "channel_marks.inlet.toml", cwd=folder).returncode
        == 0
    )
    done = called(
        "shrink", name, "-o", f"half.{ending}", "--images", "reference", "--half", "--json", "h.json", cwd=folder
    )
    assert done.returncode == 0, done.stderr
    found = json.loads((folder / "h.json").read_text())
    assert 0.45 < found["bytes"] / found["float_bytes"] < 0.62 and 0 < found["largest_difference_of_spread"] < 5e-3
    matched = called(
        "match", f"half.{ending}", "--witness", "channel_marks.witness", "--images", "reference", cwd=folder
    )
    assert matched.returncode == 0 and "float16 weights" in matched.stdout, matched.stdout


@pytest.mark.slow
def test_a_flatbuffer_is_shrunk_to_the_formats_own_operators(tiny):
    done = called(
        "shrink", "tiny.tflite", "-o", "s.tflite", "--images", "images", "--agree", "0%", "--json", "s.json", cwd=tiny
    )
    assert done.returncode == 0, done.stderr
    facts, found = read_artifact(tiny / "s.tflite"), json.loads((tiny / "s.json").read_text())
    # Real numbers at both ends alone.
    assert facts.operators["CONV_2D"] == 4 and (facts.operators["QUANTIZE"], facts.operators["DEQUANTIZE"]) == (1, 1), (
        facts.operators
    )
    assert found["activations"] == "int8" and found["chosen"]["score_error_of_spread"] < 0.03
    assert facts.metadata.shrunk.artifact == "tiny.tflite"


@pytest.mark.slow
def test_an_artifact_that_takes_raw_pixels_keeps_its_inlet(shipped, tmp_path):
    folder = shutil.copytree(shipped, tmp_path / "files")
    assert (
        called(
            "convert",
            "channel_marks.pt2",
            "-o",
            "raw.onnx",
            "--inlet",
            "channel_marks.inlet.toml",
            "--raw-pixels",
            cwd=folder,
        ).returncode
        == 0
    )
    done = called("shrink", "raw.onnx", "-o", "small.onnx", "--images", "reference", "--agree", "50%", cwd=folder)
    assert done.returncode == 0, done.stderr
    assert read_artifact(folder / "small.onnx").inputs["image"][0] == "uint8"
    matched = called(
        "match",
        "small.onnx",
        "--witness",
        "channel_marks.witness",
        "--images",
        "reference",
        "--agree-limit",
        "90%",
        cwd=folder,
    )
    assert matched.returncode == 0 and "inlet inside the artifact" in matched.stdout, matched.stdout


def test_bench_says_where_8_bits_do_not_pay():
    from outcomes import bench as outcome

    bench = outcome().bench
    assert "is measured with --compare model.onnx" in on_eight_bits("small.onnx", "model.onnx", bench.cells, ())
    assert "8 bits pay at every setting" in on_eight_bits("small.onnx", "model.onnx", bench.cells, bench.compared)
    slower = replace(
        bench.compared[0], ratios={setting: Ratio(0.5, 0.48, 0.52, 20) for setting in bench.compared[0].ratios}
    )
    assert "8 bits do not pay at" in on_eight_bits("small.onnx", "model.onnx", bench.cells, (slower,))
