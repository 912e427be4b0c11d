"""Keras models through both of their containers, judged by the live framework; files of other ages are made by hand."""

import json
import os
import re
import subprocess
import sys
import zipfile
from pathlib import Path

import h5py
import keras
import numpy as np
import pytest
from conftest import called, needs_jax, refused
from hypothesis import given, settings
from hypothesis import strategies as st
from keras import layers, ops

from zygal.artifact.formats import write_artifact
from zygal.classifier.metadata import Metadata
from zygal.engines.artifact import RuntimeEngine
from zygal.errors import SourceError, UnknownOperators
from zygal.graph.passes import run_passes
from zygal.graph.reference import run_graph
from zygal.sources import read_source, source_facts

SHAPE = (11, 9, 4)


def model_of(function, shape=SHAPE, seed=0):
    """A model of a function of an image, its scales, biases and statistics such that an error shows."""
    keras.utils.set_random_seed(seed)
    picture = keras.Input(shape, name="picture")
    model = keras.Model(picture, function(picture))
    chance = np.random.default_rng(seed)
    for variable in model.weights:
        if len(variable.shape) <= 1 and "seed" not in variable.name:
            variable.assign(chance.uniform(0.2, 1.2, variable.shape))
    return model


def scores_of(model, images, name=None):
    made = model(images, training=False)
    if isinstance(made, dict) and name in made:
        made = made[name]
    while isinstance(made, (dict, list, tuple)):
        made = next(iter(made.values() if isinstance(made, dict) else made))
    return np.asarray(ops.convert_to_numpy(made))


def check(model, *paths, within=3e-6):
    """Each file's graph before and after the passes, and on the runtime at two batch sizes, gives the framework's
    scores."""
    several = np.random.default_rng(5).normal(size=(3, *model.input_shape[1:])).astype(np.float32)
    images = {1: several[:1], 3: several}
    for path in paths:
        with read_source(path) as source:
            before, after = source.graph, run_passes(source.graph)
            scores = scores_of(model, several, source.chosen.name)
            wanted = {1: scores[:1], 3: scores}
            (name,) = before.inputs
            named = after.renamed({name: "image", after.outputs[0]: "scores"})
            write_artifact(named, path.with_suffix(".onnx"), Metadata())
            engine = RuntimeEngine(path.with_suffix(".onnx"), 1)
            for n, x in images.items():
                for found in (
                    run_graph(before, {name: x})[before.outputs[0]],
                    run_graph(after, {name: x})[after.outputs[0]],
                    engine.run(x),
                ):
                    assert found.shape == wanted[n].shape
                    assert np.abs(found - wanted[n]).max() <= within * max(np.ptp(wanted[n]), 1e-3)
    return after


def saved(model, folder, container="keras"):
    path = folder / f"model.{container}"
    model.save(path)
    return path


def both(model, folder):
    check(model, *(saved(model, folder, container) for container in ("keras", "h5")))


def rows(x):
    return layers.Reshape((20, 4))(layers.MaxPooling2D(2)(layers.Conv2D(4, 1)(x)))


def flat(*results):
    return layers.Concatenate()([layers.Flatten()(result) for result in results])


def convolutions(x):
    y = layers.Conv2D(6, (3, 4), strides=2, padding="same", activation="relu")(x)
    z = layers.Conv2D(6, 3, dilation_rate=2, groups=2, use_bias=False, name="grouped")(x)
    w = layers.DepthwiseConv2D(3, 2, padding="same", depth_multiplier=2)(x)
    v = layers.SeparableConv2D(5, 3, padding="same", depth_multiplier=2, activation="swish")(x)
    return flat(y, z, w, v, layers.Conv1D(3, 3, padding="causal", dilation_rate=2)(rows(x)))


def enlargements(x):
    parts = [layers.Conv2DTranspose(4, 3, strides=2, padding=padding)(x) for padding in ("same", "valid")]
    parts += [layers.Conv2DTranspose(4, 2, strides=3, padding="same", output_padding=1)(x)]
    parts += [layers.UpSampling2D(2, interpolation=kind)(x) for kind in ("nearest", "bilinear", "bicubic")]
    parts += [
        layers.Resizing(7, 13)(x),
        layers.Resizing(5, 6, interpolation="nearest")(x),
        layers.Resizing(23, 5, "bicubic")(x),
    ]
    return flat(
        *parts, layers.CenterCrop(6, 5)(x), layers.Cropping2D(((1, 2), (3, 0)))(x), layers.ZeroPadding2D((1, 2))(x)
    )


def poolings(x):
    parts = [
        layers.MaxPooling2D(3, 2, "same")(x),
        layers.AveragePooling2D(3, 2, "same")(x),
        layers.AveragePooling2D(2)(x),
    ]
    y = layers.Conv2D(4, 1)(x)
    parts += [
        layers.GlobalAveragePooling2D(keepdims=True)(y),
        layers.GlobalMaxPooling2D()(y),
        layers.GlobalAveragePooling2D()(x),
    ]
    return flat(*parts, layers.GlobalAveragePooling1D()(rows(x)))


def activations(x):
    names = [
        "relu6",
        "elu",
        "selu",
        "celu",
        "exponential",
        "softplus",
        "softsign",
        "silu",
        "mish",
        "gelu",
        "hard_sigmoid",
        "hard_silu",
        "hard_tanh",
        "leaky_relu",
        "log_sigmoid",
        "soft_shrink",
        "tanh_shrink",
        "squareplus",
        "softmax",
        "glu",
        "sparse_plus",
    ]
    own = [
        layers.ReLU(6.0, 0.1, 0.2),
        layers.LeakyReLU(0.1),
        layers.PReLU(),
        layers.PReLU(shared_axes=[1, 2]),
        layers.ELU(0.5),
        layers.Softmax(axis=1),
    ]
    y = layers.Conv2D(4, 1)(x)
    return flat(*(layers.Activation(name)(y) for name in names), *(layer(y) for layer in own))


def normalisations(x):
    own = [layers.BatchNormalization(axis=axis) for axis in (1, 2, 3)] + [
        layers.LayerNormalization(axis=axis) for axis in (1, 3, [1, 2, 3])
    ]
    own += [
        layers.GroupNormalization(2),
        layers.GroupNormalization(-1),
        layers.RMSNormalization(),
        layers.UnitNormalization(),
    ]
    own += [
        layers.Rescaling([0.1, 0.2, 0.3, 0.4], [1, 2, 3, 4]),
        layers.Normalization(mean=[0.1, 0.2, 0.3, 0.4], variance=[1, 2, 3, 4]),
        layers.Normalization(axis=None, mean=0.5, variance=0.2),
        layers.SpectralNormalization(layers.Conv2D(3, 3)),
    ]
    y = layers.Conv2D(4, 1)(x)
    return flat(*(layer(z) for layer in own for z in ((y,) if "spectral" in layer.name else (y, x))))


def flattened(x):
    """Columns that lie in another order meet dense layers, normalisations, sums and each other."""
    y, z = (layers.Flatten()(layers.Conv2D(4, 3)(x)) for _ in range(2))
    w = layers.Dense(3)(layers.BatchNormalization()(layers.Activation("relu")(layers.Add()([y, z]))))
    other = layers.Flatten()(layers.Conv2D(4, 1)(x))
    v = layers.Dense(3)(layers.Maximum()([layers.Flatten()(x), other]))
    return layers.Concatenate()([w, v, y, layers.Dense(2)(layers.Permute((3, 1, 2))(layers.Conv2D(4, 1)(x)))[:, 0, 0]])


def merges(x):
    y = layers.Conv2D(4, 3, padding="same")(x)
    made = [
        layer([x, y])
        for layer in (
            layers.Subtract(),
            layers.Multiply(),
            layers.Average(),
            layers.Minimum(),
            layers.Concatenate(axis=1),
        )
    ]
    gate = layers.Reshape((1, 1, 4))(layers.GlobalAveragePooling2D()(y))
    made += [layers.Multiply()([y, layers.Conv2D(4, 1, activation="sigmoid")(gate)])]
    return flat(
        *made, layers.Dot(axes=(2, 2), normalize=True)([layers.Reshape((11, 36))(x), layers.Reshape((11, 36))(y)])
    )


def attentions(x):
    y = rows(x)
    made = [
        layers.MultiHeadAttention(2, 3)(y, y),
        layers.MultiHeadAttention(2, 3, output_shape=7)(y, y, use_causal_mask=True),
    ]
    made += [
        layers.GroupQueryAttention(4, 4, 2)(y, y),
        layers.Attention(use_scale=True)([y, y]),
        layers.AdditiveAttention()([y, y]),
    ]
    made += [
        layers.EinsumDense("abc,cd->abd", output_shape=(None, 6), bias_axes="d")(y),
        layers.TimeDistributed(layers.Dense(3))(x),
    ]
    return flat(*made)


def recurrences(x):
    y = rows(x)
    made = [
        layers.LSTM(5)(y),
        layers.GRU(5)(y),
        layers.GRU(5, reset_after=False)(y),
        layers.SimpleRNN(5, return_sequences=True)(y),
    ]
    return flat(
        *made,
        layers.Bidirectional(layers.LSTM(3))(y),
        layers.Bidirectional(layers.GRU(3, return_sequences=True), "ave")(y),
    )


def functions(x):
    y = layers.Conv2D(4, 1)(x)
    made = [
        2 / (abs(y) + 5) - (1 - y) ** 2,
        y[:, 1:-1, ::2, ::-1],
        y[..., 0],
        ops.mean(y, axis=[1, 2]),
        ops.std(y, axis=-1),
    ]
    made += [
        ops.transpose(y, (0, 3, 1, 2)),
        ops.split(y, [1, 3], axis=-1)[1],
        ops.gelu(y, approximate=False),
        ops.gelu(y),
    ]
    made += [
        ops.pad(y, ((0, 0), (1, 2), (0, 0), (0, 1)), mode="reflect"),
        ops.flip(y, axis=1),
        ops.normalize(y, axis=-1),
    ]
    made += [
        ops.where(y > 0, y, y * 0.1),
        ops.roll(y, 2, axis=1),
        ops.repeat(y, 2, axis=2),
        ops.image.resize(y, (5, 7)),
    ]
    made += [
        ops.einsum("abcd,abed->abce", y, y),
        ops.clip(y, -0.2, 0.3),
        ops.stack([y, y + 1], axis=2),
        ops.log_softmax(y),
    ]
    return flat(
        *made,
        ops.reshape(y, (-1, 99, 4)),
        ops.nn.dot_product_attention(y, y, y),
        ops.expand_dims(ops.max(y, axis=1), 1),
    )


def elementary(x):
    y = layers.Conv2D(3, 1)(x)
    part = ops.tanh(y) * 0.9
    above = ops.square(y) + 1.5
    made = [ops.arccos(part), ops.arcsin(part), ops.arctanh(part), ops.arccosh(above), ops.arcsinh(y), ops.arctan(y)]
    made += [ops.expm1(part), ops.log1p(above), ops.log2(above), ops.log10(above), ops.rsqrt(above), ops.erf(y)]
    broken = ops.log(y)
    truths = [ops.isnan(broken), ops.isinf(1 / ops.relu(y)), ops.isfinite(broken), ops.logical_not(ops.isnan(broken))]
    return flat(*made, *(ops.where(truth, y, y * 0.5) for truth in truths))


FUNCTIONS = [
    convolutions,
    enlargements,
    poolings,
    activations,
    normalisations,
    flattened,
    merges,
    attentions,
    recurrences,
    functions,
    elementary,
]


NOT_ON_TORCH = (enlargements, normalisations, functions)
"""Layers that the framework itself runs otherwise than it says, or not at all, with PyTorch behind it."""


@pytest.mark.alike
@pytest.mark.jax
@pytest.mark.parametrize("function", FUNCTIONS, ids=[function.__name__ for function in FUNCTIONS])
def test_layers_keep_their_meaning(function, tmp_path):
    if function in NOT_ON_TORCH:
        needs_jax()
    both(model_of(function), tmp_path)


@pytest.mark.slow
def test_with_jax_behind_keras():
    names = ("arguments", "keras_source", "resampling", "special_values")
    files = [Path(__file__).with_name(f"test_{name}.py") for name in names]
    command = [sys.executable, "-m", "pytest", "-q", "-n", "0", "-m", "jax", *files]
    environment = os.environ | {"KERAS_BACKEND": "jax"}
    done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=900)
    assert done.returncode == 0 and re.search(rf"^{len(FUNCTIONS) + 8} passed", done.stdout, re.MULTILINE), done.stdout


@settings(max_examples=16, deadline=None)
@given(
    st.sampled_from(["Conv2D", "DepthwiseConv2D", "MaxPooling2D", "AveragePooling2D", "Conv2DTranspose"]),
    st.integers(1, 4),
    st.integers(1, 4),
    st.integers(1, 3),
    st.integers(1, 2),
    st.sampled_from(["same", "valid"]),
)
def test_windows_are_the_frameworks(tmp_path_factory, name, height, width, stride, dilation, padding):
    windows = {"strides": stride, "padding": padding}
    if "Conv" in name:
        windows["dilation_rate"] = dilation if stride == 1 else 1
    size = {"filters": 3} if name in ("Conv2D", "Conv2DTranspose") else {}
    model = model_of(
        lambda x: getattr(layers, name)(
            **size,
            **({"kernel_size": (height, width)} if "Conv" in name else {"pool_size": (height, width)}),
            **windows,
        )(x)
    )
    check(model, saved(model, tmp_path_factory.mktemp("windows")))


def nested_model():
    inner = keras.Sequential(
        [
            layers.Input((11, 9, 4)),
            layers.SeparableConv2D(4, 3, padding="same"),
            layers.BatchNormalization(),
            layers.Conv2D(4, 1, name="last"),
        ],
        name="inner",
    )
    inner.layers[1].trainable = False

    def make(x):
        y = inner(x)
        y = layers.Add()([x, inner(layers.Activation("relu")(y))])
        head = keras.Sequential([layers.Flatten(), layers.Dense(3, activation="softmax", name="head")], name="outer")
        return {"marks": head(y), "other": layers.Dense(2, activation="sigmoid")(layers.GlobalMaxPooling2D()(y))}

    return model_of(make)


def test_shared_and_nested_models_and_named_outputs(tmp_path):
    model = nested_model()
    both(model, tmp_path)
    facts = source_facts(tmp_path / "model.keras")
    assert (
        list(facts.outputs) == ["marks", "other"]
        and facts.scores == "independent probabilities"
        and facts.framework == "Keras"
    )
    assert facts.chosen.name == "other" and "last linear layer" in facts.chosen.reason
    with read_source(tmp_path / "model.h5", output="marks") as source:
        assert source.graph.nodes[-1].operator == "Softmax"
    both(keras.Sequential([layers.Input(SHAPE), layers.Conv2D(3, 2), layers.Flatten(), layers.Dense(2)]), tmp_path)


def test_no_transpose_is_left_that_is_not_needed(tmp_path):
    def plain(x):
        y = layers.BatchNormalization()(layers.Conv2D(8, 3, strides=2, padding="same")(x))
        gate = layers.Dense(8, activation="sigmoid")(layers.Reshape((1, 1, 8))(layers.GlobalAveragePooling2D()(y)))
        y = layers.MaxPooling2D(2, padding="same")(layers.Multiply()([y, gate]))
        return layers.Dense(3, activation="softmax")(layers.Flatten()(layers.Concatenate()([y, layers.ReLU()(y)])))

    model = model_of(plain)
    graph = check(model, saved(model, tmp_path))
    operators = [node.operator for node in graph.nodes]
    assert operators.count("Transpose") == 1 and "BatchNormalization" not in operators
    for layout, count in (("NCHW", 0), ("NHWC", 1)):
        done = called("convert", "model.keras", "-o", "laid.onnx", "--layout", layout, cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        images = np.random.default_rng(1).normal(size=(2, *SHAPE)).astype(np.float32)
        fed = images.transpose(0, 3, 1, 2) if layout == "NCHW" else images
        assert (
            np.abs(
                RuntimeEngine(tmp_path / "laid.onnx", 1).run(np.ascontiguousarray(fed)) - scores_of(model, images)
            ).max()
            < 1e-6
        )
        import onnx

        assert sum(node.op_type == "Transpose" for node in onnx.load(tmp_path / "laid.onnx").graph.node) == count


def edit_h5(path, change):
    """Rewrites the configuration of a whole-model file, and hands its attributes and weights to the change."""
    with h5py.File(path, "r+") as file:
        configuration = change(json.loads(file.attrs["model_config"]), file)
        file.attrs["model_config"] = json.dumps(configuration)


def test_a_channels_first_model_of_the_first_age(tmp_path):
    """Words, kernels and weight names of Keras 1 with its Theano back end, which turned kernels round."""
    model = keras.Sequential(
        [
            layers.Input(SHAPE),
            layers.Conv2D(6, (3, 2), strides=2, name="one"),
            layers.BatchNormalization(name="two"),
            layers.Activation("relu", name="three"),
            layers.Flatten(name="four"),
            layers.Dense(3, name="five"),
        ]
    )
    path = saved(model, tmp_path, "h5")
    images = np.random.default_rng(1).normal(size=(2, *SHAPE)).astype(np.float32)
    # The same model channels first: the dense layer's rows follow the other order of the flattened image.
    dense = (
        model.get_layer("five").kernel.numpy()
        if hasattr(model.get_layer("five").kernel, "numpy")
        else np.asarray(model.get_layer("five").kernel)
    )
    turned = dense.reshape(5, 4, 6, 3).transpose(2, 0, 1, 3).reshape(dense.shape)

    def change(configuration, file):
        weights = file["model_weights"]
        weights.attrs["keras_version"] = file.attrs["keras_version"] = "1.2.2"
        weights.attrs["backend"] = file.attrs["backend"] = "theano"

        def held(layer, variable):
            names = [str(name) for name in weights[layer].attrs["weight_names"]]
            return weights[layer][next(name for name in names if name.endswith(variable))][()]

        kernel = held("one", "kernel")
        stored = {
            "one": {"one_W": kernel[::-1, ::-1].transpose(3, 2, 0, 1), "one_b": held("one", "bias")},
            "two": {
                f"two_{new}": held("two", old)
                for new, old in (
                    ("gamma", "gamma"),
                    ("beta", "beta"),
                    ("running_mean", "moving_mean"),
                    ("running_std", "moving_variance"),
                )
            },
            "five": {"five_W": turned, "five_b": held("five", "bias")},
        }
        for layer, arrays in stored.items():
            del weights[layer]
            group = weights.create_group(layer)
            group.attrs["weight_names"] = [name.encode() for name in arrays]
            for name, array in arrays.items():
                group[name] = array
        old = {"trainable": True}
        return {
            "class_name": "Sequential",
            "config": [
                {
                    "class_name": "Convolution2D",
                    "config": old
                    | {
                        "name": "one",
                        "nb_filter": 6,
                        "nb_row": 3,
                        "nb_col": 2,
                        "subsample": [2, 2],
                        "border_mode": "valid",
                        "dim_ordering": "th",
                        "activation": "linear",
                        "bias": True,
                        "batch_input_shape": [None, 4, 11, 9],
                    },
                },
                {
                    "class_name": "BatchNormalization",
                    "config": old | {"name": "two", "axis": 1, "epsilon": 0.001, "mode": 0},
                },
                {"class_name": "Activation", "config": old | {"name": "three", "activation": "relu"}},
                {"class_name": "Flatten", "config": old | {"name": "four"}},
                {
                    "class_name": "Dense",
                    "config": old | {"name": "five", "output_dim": 3, "activation": "linear", "bias": True},
                },
            ],
        }

    edit_h5(path, change)
    with read_source(path) as source:
        assert source.framework_version == "1.2.2"
        found = run_graph(source.graph, {source.graph.inputs[0]: images.transpose(0, 3, 1, 2)})[source.graph.outputs[0]]
    assert np.abs(found - scores_of(model, images)).max() < 1e-5


def test_a_functional_model_of_the_second_age(tmp_path):
    """Lists of tensors in place of arguments, nested calls counted from 1, functions by their old names."""

    def make(x):
        y = inner(x)
        return layers.Dense(3, name="marks")(layers.GlobalAveragePooling2D(name="mean")(2.0 - ops.relu6(y + 1.0)))

    i = keras.Input(SHAPE, name="given")
    inner = keras.Model(i, layers.BatchNormalization(name="norm")(layers.Conv2D(5, 3, name="conv")(i)), name="inner")
    model = model_of(make)
    path = saved(model, tmp_path, "h5")

    def change(configuration, file):
        file["model_weights"].attrs["keras_version"] = file.attrs["keras_version"] = "2.9.0"
        group = file["model_weights/inner"]
        names = [name if isinstance(name, str) else name.decode() for name in group.attrs["weight_names"]]
        arrays = {name: group[name][()] for name in names}
        del file["model_weights/inner"]
        group = file["model_weights"].create_group("inner")
        # What training does not change comes last, and only the variables tell what they are.
        order = sorted(names, key=lambda name: "moving" in name)
        group.attrs["weight_names"] = [f"{name.split('/', 1)[1]}:0".encode() for name in order]
        for name in order:
            group[f"{name.split('/', 1)[1]}:0"] = arrays[name]
        config = {layer["config"]["name"]: layer for layer in configuration["config"]["layers"]}
        nested = config["inner"]
        for layer, before in zip(nested["config"]["layers"][1:], ("given", "conv")):
            layer["inbound_nodes"] = [[[before, 0, 0, {}]]]
        shape = nested["config"]["layers"][0]["config"].pop("batch_shape")
        nested["config"]["layers"][0]["config"]["batch_input_shape"] = shape
        nested["inbound_nodes"] = [[["picture", 0, 0, {}]]]
        added = {
            "class_name": "TFOpLambda",
            "name": "tf.add",
            "config": {"name": "tf.add", "trainable": True, "function": "math.add"},
            "inbound_nodes": [["inner", 1, 0, {"y": 1.0, "name": None}]],
        }
        clipped = {
            "name": "tf.relu6",
            "trainable": True,
            "node_def": {"op": "Relu6", "input": ["add"]},
            "constants": {},
        }
        bent = {
            "class_name": "TensorFlowOpLayer",
            "name": "tf.relu6",
            "config": clipped,
            "inbound_nodes": [[["tf.add", 0, 0, {}]]],
        }
        zero = {"name": "tf.sub", "trainable": True, "node_def": json.dumps({"op": "Sub"}), "constants": {"0": 2.0}}
        less = {
            "class_name": "TensorFlowOpLayer",
            "name": "tf.sub",
            "config": zero,
            "inbound_nodes": [[["tf.relu6", 0, 0, {}]]],
        }
        config["mean"]["inbound_nodes"] = [[["tf.sub", 0, 0, {}]]]
        config["marks"]["inbound_nodes"] = [[["mean", 0, 0, {}]]]
        return {
            "class_name": "Functional",
            "config": {
                "name": "model",
                "layers": [config["picture"], nested, added, bent, less, config["mean"], config["marks"]],
                "input_layers": [["picture", 0, 0]],
                "output_layers": [["marks", 0, 0]],
            },
        }

    edit_h5(path, change)
    check(model, path)


def test_mixed_precision_is_said(tmp_path):
    model = keras.Sequential(
        [layers.Input(SHAPE), layers.Conv2D(3, 2, dtype="mixed_float16"), layers.Flatten(), layers.Dense(2)]
    )
    with read_source(saved(model, tmp_path)) as source:
        assert any("mixed_float16" in note and "float32" in note for note in source.notes)


@keras.saving.register_keras_serializable("mine")
class Own(layers.Layer):
    def call(self, x):
        return x * 2


def test_code_in_the_file_is_named_and_never_run(tmp_path):
    model = model_of(lambda x: layers.Lambda(lambda y: y * 2, name="twist")(x))
    for container in ("keras", "h5"):
        path = saved(model, tmp_path, container)
        with pytest.raises(SourceError, match=r"layer twist \(Lambda\).*replace it"), read_source(path):
            pass
    own = saved(model_of(lambda x: Own(name="own_one")(x)), tmp_path)
    with pytest.raises(UnknownOperators, match=r"unknown layer.*Own \(own_one\)"), read_source(own):
        pass


def spoil(path, change):
    """Replaces the configuration inside a .keras archive."""
    with zipfile.ZipFile(path) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    members["config.json"] = json.dumps(change(json.loads(members["config.json"]))).encode()
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in members.items():
            archive.writestr(name, content)


def cyclic(configuration):
    first = configuration["config"]["layers"][1]
    first["inbound_nodes"][0]["args"][0]["config"]["keras_history"][0] = configuration["config"]["layers"][-1]["name"]
    return configuration


def absent(configuration):
    configuration["config"]["layers"][1]["inbound_nodes"][0]["args"][0]["config"]["keras_history"] = ["nobody", 0, 0]
    return configuration


def wider(configuration):
    configuration["config"]["layers"][1]["config"]["kernel_size"] = [5, 5]
    return configuration


def policy_of_a_number(configuration):
    configuration["config"]["layers"][1]["config"]["dtype"] = {"class_name": "DTypePolicy", "config": 3}
    return configuration


def open_size(configuration):
    configuration["config"]["layers"][0]["config"]["batch_shape"] = [None, None, None, 4]
    return configuration


@pytest.mark.parametrize(
    "change, words",
    [
        (cyclic, "reads its own result"),
        (absent, "is never made"),
        (wider, "kernel of"),
        (open_size, "--shape"),
        (policy_of_a_number, "config of the dtype of layer"),
        (lambda c: c | {"class_name": "Mine"}, "custom class"),
        (lambda c: {"class_name": "Functional", "config": {}}, "inconsistent"),
    ],
)
def test_inconsistent_configurations(change, words, tmp_path):
    path = saved(model_of(lambda x: layers.Dense(2)(layers.Flatten()(layers.Conv2D(3, 3)(x)))), tmp_path)
    spoil(path, change)
    refused(called("convert", "model.keras", "-o", "out.onnx", cwd=tmp_path), words)
    assert not (tmp_path / "out.onnx").exists()


def test_an_open_size_is_taken_from_the_command_line(tmp_path):
    model = keras.Sequential(
        [layers.Input((None, None, 3)), layers.Conv2D(4, 3), layers.GlobalAveragePooling2D(), layers.Dense(2)]
    )
    model.save(tmp_path / "open.keras")
    done = called("convert", "open.keras", "-o", "out.onnx", "--shape", "12,16,3", cwd=tmp_path)
    assert done.returncode == 0 and "[N, 12, 16, 3]" in done.stdout, done.stderr


def test_what_is_no_whole_model(tmp_path):
    with h5py.File(tmp_path / "weights.h5", "w") as file:
        file.attrs["layer_names"] = [b"conv"]
    with h5py.File(tmp_path / "other.h5", "w") as file:
        file["x"] = np.zeros(3)
    with h5py.File(tmp_path / "huge.h5", "w") as file:
        file.attrs["model_config"] = json.dumps(
            {
                "class_name": "Sequential",
                "config": {
                    "name": "m",
                    "layers": [
                        {
                            "class_name": "Dense",
                            "config": {"name": "d", "trainable": True, "units": 2, "batch_input_shape": [None, 8]},
                        }
                    ],
                },
            }
        )
        file.attrs["keras_version"] = "2.9.0"
        group = file.create_group("model_weights/d")
        group.attrs["weight_names"] = [b"d/kernel:0", b"d/bias:0"]
        group.create_dataset("d/kernel:0", (1 << 34, 1 << 10), "f4", chunks=(1024, 1024))
        group["d/bias:0"] = np.zeros(2, np.float32)
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder/saved_model.pb").touch()
    for name, words in (
        ("weights.h5", "weights alone"),
        ("other.h5", "not one that Keras wrote"),
        ("huge.h5", "but holds 0 bytes"),
        ("folder", "holds no graph"),
    ):
        refused(called("convert", name, "-o", "out.onnx", cwd=tmp_path), words)


@settings(max_examples=40, deadline=None)
@given(st.data())
def test_damage_is_one_sentence(tmp_path_factory, data):
    folder = tmp_path_factory.getbasetemp() / "damage"
    if not folder.exists():
        folder.mkdir()
        for container in ("keras", "h5"):
            nested_model().save(folder / f"whole.{container}")
    container = data.draw(st.sampled_from(["keras", "h5"]))
    content = bytearray((folder / f"whole.{container}").read_bytes())
    if data.draw(st.booleans()):
        content = content[: data.draw(st.integers(0, len(content) - 1))]
    for _ in range(data.draw(st.integers(1, 8))):
        if content:
            content[data.draw(st.integers(0, len(content) - 1))] = data.draw(st.integers(0, 255))
    path = folder / f"spoilt.{container}"
    path.write_bytes(content)
    from zygal.errors import ZygalError

    try:
        with read_source(path) as source:
            run_passes(source.graph)
    except ZygalError as fault:
        assert "\n" not in str(fault)


def test_a_witness_of_the_live_framework(workspace):
    done = called(
        "witness",
        "keras/channel_marks.keras",
        "--images",
        "reference",
        "-o",
        "new.witness",
        "--training-code",
        "keras/training_code.py:load_image",
        cwd=workspace,
    )
    assert done.returncode == 0 and "Keras" in done.stdout, done.stderr
    called(
        "convert",
        "keras/channel_marks.keras",
        "-o",
        "k.onnx",
        "--inlet",
        "keras/channel_marks.inlet.toml",
        cwd=workspace,
    )
    for witness in ("new.witness", "keras/channel_marks.witness"):
        done = called("match", "k.onnx", "--witness", witness, "--images", "reference", cwd=workspace)
        assert done.returncode == 0 and "PASS: A, B, C" in done.stdout, done.stdout
    called(
        "convert",
        "keras/channel_marks.keras",
        "-o",
        "k.onnx",
        "--inlet",
        "keras/channel_marks.inlet.toml",
        "--layout",
        "NCHW",
        cwd=workspace,
    )
    done = called("match", "k.onnx", "--witness", "new.witness", "--images", "reference", cwd=workspace)
    assert done.returncode == 0 and "PASS: A, B, C" in done.stdout and "were transposed to the layout" in done.stderr, (
        done.stderr
    )
