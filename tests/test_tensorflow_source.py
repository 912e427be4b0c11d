"""TensorFlow's own files: every operator, folder and web model is judged by the framework that wrote it."""

import json
import os
import subprocess
import sys

import numpy as np
import pytest
from conftest import called, differences_from, refused

from zygal.conversion.convert import Choices, convert
from zygal.engines.artifact import RuntimeEngine
from zygal.engines.live import open_live_engine
from zygal.errors import SourceError, UnknownOperators
from zygal.inlet import apply_inlet, read_inlet
from zygal.sources import Reading, read_source, source_facts
from zygal.sources.tensorflow.messages import message

tf = pytest.importorskip("tensorflow")
nn, image, math = tf.nn, tf.image, tf.math
RNG = np.random.default_rng(7)
IMAGE, TOKENS, ROW = (8, 10, 6), (7, 12), (12,)


def weights(*shape):
    return tf.constant((RNG.standard_normal(shape) / np.sqrt(np.prod(shape[:-1]))).astype(np.float32))


def statistics(channels):
    mean, scale, shift = (tf.constant(RNG.uniform(-0.5, 0.5, channels), tf.float32) for _ in range(3))
    return {
        "mean": mean,
        "variance": tf.constant(RNG.uniform(0.5, 2, channels), tf.float32),
        "scale": scale + 1,
        "offset": shift,
    }


def normalised(x, layout="NHWC"):
    given = statistics(x.shape[-1 if layout == "NHWC" else 1])
    return tf.compat.v1.nn.fused_batch_norm(
        x,
        given["scale"],
        given["offset"],
        given["mean"],
        given["variance"],
        is_training=False,
        data_format=layout,
        epsilon=1e-3,
    )[0]


def attention(x):
    q, k, v = (tf.einsum("bnc,chd->bnhd", x, weights(12, 3, 4)) for _ in range(3))
    shares = nn.softmax(tf.einsum("bnhd,bmhd->bhnm", q, k) / 2.0)
    return tf.reshape(tf.einsum("bhnm,bmhd->bnhd", shares, v), [tf.shape(x)[0], 7, 12])


def layer_normalised(x):
    mean, variance = nn.moments(x, -1, keepdims=True)
    return nn.batch_normalization(x, mean, variance, weights(1, 12)[0], weights(1, 12)[0], 1e-5)


def gelu_written_out(x):
    return 0.5 * x * (1 + tf.tanh(0.7978845608 * (x + 0.044715 * tf.pow(x, 3))))


def shuffled(x):
    b, h, w, c = tf.unstack(tf.shape(x))
    return tf.reshape(tf.transpose(tf.reshape(x, [b, h, w, 2, c // 2]), [0, 1, 2, 4, 3]), [b, h, w, c])


def windows(x):
    b = tf.shape(x)[0]
    cut = tf.reshape(tf.transpose(tf.reshape(x, [b, 2, 4, 2, 5, 6]), [0, 1, 3, 2, 4, 5]), [-1, 20, 6])
    mixed = tf.matmul(nn.softmax(tf.matmul(cut, cut, transpose_b=True)), cut)
    return tf.reshape(tf.transpose(tf.reshape(mixed, [-1, 2, 2, 4, 5, 6]), [0, 1, 3, 2, 4, 5]), [-1, 8, 10, 6])


def dilated_by_dealing_out(x):
    spread = tf.compat.v1.space_to_batch_nd(x, [2, 2], [[2, 2], [2, 2]])
    made = nn.conv2d(spread, weights(3, 3, 6, 4), 1, "VALID")
    return tf.compat.v1.batch_to_space_nd(made, [2, 2], [[0, 0], [0, 0]])


def prepended(x):
    token = tf.broadcast_to(weights(1, 1, 12), [tf.shape(x)[0], 1, 12])
    return tf.concat([token, x], 1)


OPERATORS = {
    "convolution same stride": (lambda x: nn.conv2d(x, weights(3, 3, 6, 8), 2, "SAME"), IMAGE),
    "convolution valid dilated": (lambda x: nn.conv2d(x, weights(3, 2, 6, 8), 1, "VALID", dilations=2), IMAGE),
    "convolution explicit pads": (lambda x: nn.conv2d(x, weights(3, 3, 6, 8), 1, [[0, 0], [1, 2], [0, 1], [0, 0]]),
    IMAGE),
    "convolution in groups": (lambda x: nn.conv2d(x, weights(3, 3, 3, 8), 1, "SAME"), IMAGE),
    "convolution of kernels made inside": (lambda x: nn.conv2d(x, tf.tanh(weights(1, 1, 6, 8)) * 2.0, 1, "SAME"),
    IMAGE),
    "depthwise": (lambda x: nn.depthwise_conv2d(x, weights(3, 3, 6, 2), [1, 1, 1, 1], "SAME"), IMAGE),
    "depthwise stride": (lambda x: nn.depthwise_conv2d(x, weights(3, 3, 6, 1), [1, 2, 2, 1], "VALID"), IMAGE),
    "depthwise dilated": (lambda x: nn.depthwise_conv2d(x, weights(3, 3, 6, 1), [1, 1, 1, 1], "SAME", dilations=[2,
    2]), IMAGE),
    "separable": (lambda x: nn.separable_conv2d(x, weights(3, 3, 6, 2), weights(1, 1, 12, 5), [1, 1, 1, 1], "SAME"),
    IMAGE),
    "convolution over a row": (lambda x: nn.conv1d(x, weights(3, 12, 5), 2, "SAME"), TOKENS),
    "convolution in space": (lambda x: nn.conv3d(x[..., None], weights(3, 3, 3, 1, 4), [1, 1, 2, 1, 1], "SAME"), IMAGE),
    "transposed same": (lambda x: nn.conv2d_transpose(x, weights(3, 3, 4, 6), [tf.shape(x)[0], 16, 20, 4], 2, "SAME"),
    IMAGE),
    "transposed valid": (lambda x: nn.conv2d_transpose(x, weights(3, 3, 4, 6), [tf.shape(x)[0], 18, 22, 4], 2,
    "VALID"), IMAGE),
    "dealt out over the batch": (dilated_by_dealing_out, IMAGE),
    "dilated over a row": (lambda x: nn.convolution(x, weights(3, 12, 5), padding="VALID", dilations=[2]), TOKENS),
    "with_space_to_batch": (lambda x: tf.compat.v1.nn.convolution(x, weights(3, 3, 6, 4), "SAME", dilation_rate=[2,
    3]), IMAGE),
    "bias": (lambda x: nn.bias_add(nn.conv2d(x, weights(1, 1, 6, 8), 1, "SAME"), weights(8)), IMAGE),
    "largest same": (lambda x: nn.max_pool2d(x, 3, 2, "SAME"), IMAGE),
    "largest valid": (lambda x: nn.max_pool2d(x, [2, 3], [2, 1], "VALID"), IMAGE),
    "mean same": (lambda x: nn.avg_pool2d(x, 3, 2, "SAME"), IMAGE),
    "mean in space": (lambda x: nn.avg_pool3d(x[..., None], 2, 2, "VALID"), IMAGE),
    "global mean": (lambda x: tf.reduce_mean(x, [1, 2]), IMAGE),
    "global mean kept": (lambda x: tf.reduce_mean(x, [1, 2], keepdims=True) * x, IMAGE),
    "global largest": (lambda x: tf.reduce_max(x, [1, 2]), IMAGE),
    "batch normalisation": (normalised, IMAGE),
    "batch normalisation taken apart": (lambda x: nn.batch_normalization(x, variance_epsilon=1e-3, **statistics(6)),
    IMAGE),
    "local response": (lambda x: nn.local_response_normalization(x, 2, 1.5, 0.3, 0.75), IMAGE),
    "pad": (lambda x: tf.pad(x, [[0, 0], [1, 2], [0, 3], [0, 0]], constant_values=1.5), IMAGE),
    "pad reflect": (lambda x: tf.pad(x, [[0, 0], [1, 2], [0, 3], [0, 0]], "REFLECT"), IMAGE),
    "pad symmetric": (lambda x: tf.pad(x, [[0, 0], [1, 2], [0, 3], [0, 0]], "SYMMETRIC"), IMAGE),
    "space to depth": (lambda x: nn.space_to_depth(x, 2), IMAGE),
    "depth to space": (lambda x: nn.depth_to_space(nn.conv2d(x, weights(1, 1, 6, 8), 1, "SAME"), 2), IMAGE),
    "patches": (lambda x: image.extract_patches(x, [1, 2, 3, 1], [1, 2, 3, 1], [1, 1, 1, 1], "SAME"), IMAGE),
    **{f"resize {name} {size} {flags}": (lambda x, size=size, name=name, flags=flags: getattr(tf.raw_ops, name)(
            images=x, size=list(size), align_corners="c" in flags, half_pixel_centers="h" in flags), IMAGE)
       for name in ("ResizeBilinear", "ResizeNearestNeighbor", "ResizeBicubic") for flags in ("", "c", "h")
       for size in ((16, 30), (5, 7), (13, 9))},
    "resize area": (lambda x: tf.raw_ops.ResizeArea(images=x, size=[3, 7]), IMAGE),
    "resize smoothed": (lambda x: image.resize(x, (5, 4), "bilinear", antialias=True), IMAGE),
    "resize cubic smoothed": (lambda x: image.resize(x, (5, 4), "bicubic", antialias=True), IMAGE),
    "product": (lambda x: tf.matmul(x, weights(12, 5)) + weights(5), ROW),
    "product turned": (lambda x: tf.matmul(x, weights(5, 12), transpose_b=True), ROW),
    "flattened product": (lambda x: tf.matmul(tf.reshape(nn.relu(nn.conv2d(x, weights(3, 3, 6, 4), 1, "SAME")), [-1,
    320]), weights(320, 5)), IMAGE),
    "dense on an image": (lambda x: nn.relu(tf.tensordot(nn.conv2d(x, weights(3, 3, 6, 6), 1, "SAME"), weights(6, 4),
    1) + weights(4)), IMAGE),
    "dense on tokens": (lambda x: tf.tensordot(x, weights(12, 4), [[2], [0]]), TOKENS),
    "einsum": (lambda x: tf.einsum("...c,cd->...d", x, weights(12, 5)), TOKENS),
    "attention": (attention, TOKENS),
    "windows": (windows, IMAGE),
    "prepended": (prepended, TOKENS),
    "layer normalisation": (layer_normalised, TOKENS),
    "layer normalisation of an image": (lambda x: nn.batch_normalization(x, *nn.moments(x, -1, keepdims=True),
    weights(1, 6)[0], weights(1, 6)[0], 1e-6), IMAGE),
    "gelu": (lambda x: nn.gelu(x), ROW), "gelu by tanh": (lambda x: nn.gelu(x, approximate=True), ROW),
    "gelu written out": (gelu_written_out, ROW),
    "shuffled channels": (shuffled, IMAGE),
    "squeezed and excited": (lambda x: x * tf.reshape(nn.sigmoid(tf.matmul(tf.reduce_mean(x, [1, 2]), weights(6, 6))),
    [-1, 1, 1, 6]), IMAGE),
    "split and joined": (lambda x: tf.concat(tf.split(x, 3, -1)[::-1], -1), IMAGE),
    "split by sizes": (lambda x: tf.concat(tf.split(x, [1, 2, 3], 3)[1:], 3), IMAGE),
    "stacked": (lambda x: tf.stack([x, 2 * x], 2), IMAGE), "unstacked": (lambda x: tf.add_n(tf.unstack(x, axis=1)),
    IMAGE),
    "tiled": (lambda x: tf.tile(x, [1, 2, 1, 3]), IMAGE),
    "transposed twice": (lambda x: tf.transpose(nn.relu(tf.transpose(x, [0, 3, 1, 2])), [0, 2, 3, 1]), IMAGE),
    "rolled": (lambda x: tf.roll(x, [1, -2], [1, 2]), IMAGE), "reversed": (lambda x: tf.reverse(x, [2, 3]), IMAGE),
    "strided slices": (lambda x: x[:, 1:-1:2, ::-1, 1:], IMAGE), "picked": (lambda x: x[:, 3, ..., -2], IMAGE),
    "new axes": (lambda x: x[:, tf.newaxis, ..., tf.newaxis], IMAGE), "sliced": (lambda x: tf.slice(x, [0, 1, 2, 0],
    [-1, 3, 4, 6]), IMAGE),
    "gathered": (lambda x: tf.gather(x, [3, 0, 5], axis=3), IMAGE),
    "gathered for each": (lambda x: tf.gather(x, tf.argsort(tf.reduce_sum(x, 2))[:, :3], batch_dims=1, axis=1), TOKENS),
    "one-hot": (lambda x: tf.one_hot(tf.argmax(x, 1), 12, 2.0, -1.0), ROW), "largest few": (lambda x: math.top_k(x,
    3).values, ROW),
    "running sums": (lambda x: math.cumsum(x, 1, exclusive=True, reverse=True), TOKENS),
    "band": (lambda x: tf.matmul(x, tf.linalg.band_part(weights(12, 12), 0, -1)), ROW),
    "filled": (lambda x: x + tf.fill([tf.shape(x)[0], 12], 2.0) + tf.zeros_like(x) + tf.ones_like(x), ROW),
    "ranges": (lambda x: x * tf.cast(tf.range(12), tf.float32) + tf.linspace(0.0, 1.0, 12), ROW),
    "clipped": (lambda x: tf.clip_by_value(x, -0.5, 0.25), ROW), "chosen": (lambda x: tf.where(x > 0, x, 0.1 * x), ROW),
    "compared": (lambda x: tf.cast(tf.logical_and(x > -0.5, tf.logical_not(x >= 0.5)), tf.float32), ROW),
    "different": (lambda x: math.squared_difference(x, 1.0) + tf.cast(tf.not_equal(tf.round(x), 0), tf.float32), ROW),
    "whole division": (lambda x: math.floordiv(x * 5, 2.0) + math.floormod(x * 5, 3.0) + math.divide_no_nan(x,
    tf.round(x)), ROW),
    "whole numbers": (lambda x: tf.cast(tf.cast(x * 10, tf.int32) // 3 + tf.cast(x * 10, tf.int32) % 3, tf.float32),
    ROW),
    "lengths": (lambda x: math.l2_normalize(x, 1) + tf.norm(x, axis=1, keepdims=True), ROW),
    "any and all": (lambda x: tf.cast(tf.reduce_any(x > 1, 2), tf.float32) - tf.cast(tf.reduce_all(x > -1, 2),
    tf.float32), TOKENS),
    "variance": (lambda x: math.reduce_variance(x, 2) + math.reduce_std(x, 2) + tf.reduce_prod(x[..., :3], 2), TOKENS),
    "log softmax": (lambda x: nn.log_softmax(x) + math.reduce_logsumexp(x, 1, keepdims=True), ROW),
    "embedding": (lambda x: tf.gather(weights(20, 4), tf.cast(tf.abs(x) * 3, tf.int32)), ROW),
    "as if quantised": (lambda x: tf.quantization.fake_quant_with_min_max_args(x, -1.1, 2.3), ROW),
    "as if quantised, narrow": (lambda x: tf.quantization.fake_quant_with_min_max_vars(x, -1.5, 0.7, 4, True), IMAGE),
    "as if quantised for each": (lambda x: tf.quantization.fake_quant_with_min_max_vars_per_channel(
        nn.conv2d(x, weights(1, 1, 6, 3), 1, "SAME"), [-1.0, -0.5, -2.0], [1.0, 2.0, 0.1]), IMAGE),
    "old joining": (lambda x: tf.raw_ops.Concat(concat_dim=2, values=[x, -x]), TOKENS),
    "old reversal": (lambda x: tf.raw_ops.Reverse(tensor=x, dims=[False, True, False]), TOKENS),
    "old product of several": (lambda x: tf.raw_ops.BatchMatMul(x=x, y=x, adj_y=True), TOKENS),
    "old bias": (lambda x: tf.raw_ops.BiasAddV1(value=x, bias=weights(12)), ROW),
    "old choice": (lambda x: tf.raw_ops.Select(condition=x[:, 0] > 0, x=x, y=-x), ROW),
    "old reciprocal": (lambda x: tf.raw_ops.Inv(x=x + 5.0), ROW),
    "old batch normalisation in one": (lambda x: tf.raw_ops.FusedBatchNorm(
        x=x, scale=weights(1, 6)[0], offset=weights(1, 6)[0], mean=weights(1, 6)[0], variance=tf.abs(weights(1,
        6)[0]) + 1, is_training=False)[0], IMAGE),
    "rows by their own statistics": (lambda x: tf.reshape(tf.compat.v1.nn.fused_batch_norm(
        tf.reshape(x, [1, -1, 12, 1]), tf.ones([tf.shape(x)[0] * 7]), tf.zeros([tf.shape(x)[0] * 7]),
        data_format="NCHW")[0], [-1, 7, 12]), TOKENS),
    "old dealing out": (lambda x: tf.raw_ops.BatchToSpace(input=nn.conv2d(tf.raw_ops.SpaceToBatch(
        input=x, paddings=[[2, 2], [2, 2]], block_size=2), weights(3, 3, 6, 4), 1, "VALID"), crops=[[0, 0], [0, 0]],
        block_size=2), IMAGE),
    "old windows": (lambda x: tf.raw_ops.MaxPoolV2(input=x, ksize=[1, 2, 2, 1], strides=[1, 2, 2, 1], padding="SAME"),
    IMAGE),
    "identities": (lambda x: tf.identity_n([tf.stop_gradient(x), x])[0] + tf.ensure_shape(x, [None, 12]), ROW),
    "shapes of several": (lambda x: tf.reshape(x, tf.shape_n([x, x[:, :6]])[0]), ROW),
    "sizes": (lambda x: x * tf.cast(tf.size(x[0]), tf.float32) / tf.cast(tf.rank(x), tf.float32), ROW),
    "zero divided": (lambda x: math.xdivy(tf.round(x), tf.round(x)) + math.multiply_no_nan(x,
    tf.round(x)) + math.xlogy(tf.nn.relu(x), tf.abs(x) + 1), ROW),
    "angles": (lambda x: math.atan2(x, tf.reverse(x, [1])), ROW),
    **{name: (lambda x, own=function: own(x), ROW) for name, function in {
        "relu": nn.relu, "relu6": nn.relu6, "elu": nn.elu, "selu": nn.selu, "leaky": nn.leaky_relu, "swish": nn.swish,
        "softplus": nn.softplus,
        "softsign": nn.softsign, "sigmoid": nn.sigmoid, "tanh": nn.tanh, "exp": tf.exp, "expm1": math.expm1,
        "log1p": lambda x: math.log1p(tf.abs(x)),
        "log": lambda x: tf.math.log(tf.abs(x) + 1), "sqrt": lambda x: tf.sqrt(tf.abs(x)),
        "rsqrt": lambda x: math.rsqrt(tf.abs(x) + 1),
        "square": tf.square, "abs": tf.abs, "neg": tf.negative, "sign": tf.sign, "floor": tf.floor, "ceil": math.ceil,
        "round": tf.round,
        "rint": math.rint, "sin": tf.sin, "cos": tf.cos, "tan": tf.tan, "erf": math.erf, "erfc": math.erfc,
        "atan": tf.atan, "sinh": tf.sinh,
        "asinh": tf.asinh, "reciprocal": lambda x: math.reciprocal(x + 3), "pow": lambda x: tf.pow(tf.abs(x), 1.7),
        "maximum": lambda x: tf.maximum(x, 0.2) - tf.minimum(x, -0.1),
        "finite": lambda x: tf.cast(math.is_finite(1 / tf.round(x)), tf.float32),
        "quotient": lambda x: x / (tf.abs(x) + 1) - math.divide(3.0, tf.abs(x) + 2),
        "mod": lambda x: tf.raw_ops.Mod(x=x * 7, y=tf.constant(3.0)),
     }.items()},
}  # fmt: skip


def frozen(function, path, shape, batch=None):
    """The graph of a function without variables, and the function."""
    made = tf.function(function).get_concrete_function(tf.TensorSpec([batch, *shape], tf.float32, "image"))
    path.write_bytes(made.graph.as_graph_def().SerializeToString())
    return made


@pytest.mark.alike
@pytest.mark.parametrize("name", OPERATORS)
def test_operator(name, tmp_path):
    function, shape = OPERATORS[name]
    made = frozen(function, tmp_path / "graph.pb", shape)
    limit = 2e-6 if "cubic" not in name.lower() or "smoothed" in name else 1e-5
    assert (
        differences_from(lambda x: made(tf.constant(x)).numpy(), tmp_path / "graph.pb", tmp_path, shape).max() <= limit
    )


@pytest.mark.parametrize("name", ["layer normalisation", "attention"])
def test_what_was_taken_apart_is_one_operator_again(name, tmp_path):
    function, shape = OPERATORS[name]
    frozen(function, tmp_path / "graph.pb", shape)
    made = convert(tmp_path / "graph.pb", tmp_path / "m.onnx", choices=Choices(any_shape=True))
    wanted = {"layer normalisation": {"LayerNormalization": 1}, "attention": {"MatMul": 5, "Softmax": 1}}[name]
    assert wanted.items() <= made.operators.items() and "Einsum" not in made.operators
    # An opset that does not have the operator yet keeps the parts.
    older = convert(tmp_path / "graph.pb", tmp_path / "m.onnx", choices=Choices(any_shape=True, opset=15))
    assert "LayerNormalization" not in older.operators


# Folders


def network():
    keras = pytest.importorskip("keras")
    x = given = keras.Input((12, 12, 3), name="picture")
    for width in (6, 8):
        x = keras.layers.Conv2D(width, 3, strides=2, padding="same", use_bias=False)(x)
        x = keras.layers.ReLU()(keras.layers.BatchNormalization()(x))
    model = keras.Model(given, keras.layers.Dense(4)(keras.layers.Flatten()(x)))
    for each in model.weights:
        each.assign(
            RNG.uniform(0.5, 1.5, each.shape)
            if "gamma" in each.path or "variance" in each.path
            else RNG.standard_normal(each.shape) / 3
        )
    return [np.asarray(each) for each in model.weights], model


class Classifier(tf.Module):
    """Convolution, batch normalisation, pooling and a dense layer, in the framework's own words."""

    def __init__(self):
        super().__init__()
        self.kernel, self.dense = tf.Variable(weights(3, 3, 3, 8)), tf.Variable(weights(8, 4))
        self.statistics = {name: tf.Variable(value) for name, value in statistics(8).items()}
        self.names = tf.constant(["red", "green", "blue", "black"])

    def scores(self, x):
        x = nn.batch_normalization(nn.conv2d(x, self.kernel, 2, "SAME"), variance_epsilon=1e-3, **self.statistics)
        return tf.matmul(tf.reduce_mean(nn.relu(x), [1, 2]), self.dense)

    @tf.function(input_signature=[tf.TensorSpec([None, 12, 12, 3], tf.float32)])
    def tensors(self, x):
        return {"logits": self.scores(x)}

    @tf.function(input_signature=[tf.TensorSpec([None], tf.string)])
    def files(self, content):
        def one(each):
            return tf.image.resize(tf.cast(tf.io.decode_jpeg(each, channels=3), tf.float32), (12, 12))

        pictures = tf.map_fn(one, content, fn_output_signature=tf.float32)[..., ::-1]
        scores = nn.softmax(self.scores(pictures / 127.5 - 1.0))
        return {"classes": tf.gather(self.names, tf.argmax(scores, 1)), "scores": scores}

    @tf.function(input_signature=[tf.TensorSpec([], tf.string)])
    def one_file(self, content):
        picture = tf.expand_dims(tf.io.decode_image(content, 3, expand_animations=False), 0)
        picture = (tf.image.resize(picture, (12, 12)) - [103.9, 116.8, 123.7]) / [58.0, 57.0, 57.5]
        return {"logits": self.scores(picture)}


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """A folder with three signatures, and the module that it was saved from."""
    made, module = tmp_path_factory.mktemp("saved") / "marks", Classifier()
    tf.saved_model.save(
        module, str(made), {"serving_default": module.tensors, "files": module.files, "one_file": module.one_file}
    )
    return made, module


def runs_like(path, live, shape, tmp_path, **choices):
    convert(path, tmp_path / "m.onnx", choices=Choices(**choices))
    engine = RuntimeEngine(tmp_path / "m.onnx")
    for count in (1, 3):
        x = np.random.default_rng(count).standard_normal((count, *shape), np.float32)
        made = live(x)
        wanted = made.detach().numpy() if hasattr(made, "detach") else np.asarray(made)
        assert np.abs(engine.run(x) - wanted).max() <= 2e-6 * np.ptp(wanted)


def test_a_folder_and_its_signatures(folder, tmp_path):
    path, module = folder
    runs_like(path, module.scores, (12, 12, 3), tmp_path)
    said = " ".join(called("survey", path, cwd=tmp_path).stdout.split())
    for words in (
        "serving_default (tags serve, taken)",
        "takes x = serving_default_x:0 float32 [?, 12, 12, 3] NHWC",
        "returns scores = StatefulPartitionedCall",
        "yes, every operator is known",
        "4 classes, logits",
    ):
        assert words in said, said
    facts = source_facts(path)
    assert facts.parameters == 3 * 3 * 3 * 8 + 8 * 4 + 4 * 8 and [each.name for each in facts.signatures] == [
        "files",
        "one_file",
        "serving_default",
    ]
    refused(
        called("convert", path, "-o", "no.onnx", "--signature", "none", cwd=tmp_path), "no signature none", "one_file"
    )


@pytest.mark.slow
def test_encoded_images_become_an_inlet_and_labels(folder, shipped, tmp_path):
    path, module = folder
    done = called(
        "convert", path, "-o", "m.onnx", "--signature", "files", "--write-inlet", "m.inlet.toml", cwd=tmp_path
    )
    assert done.returncode == 0 and "4 labels" in done.stdout, done.stderr
    inlet = read_inlet(tmp_path / "m.inlet.toml")
    assert (inlet.decode.colour, inlet.decode.jpeg, inlet.values.range, inlet.frame[0].size) == (
        "bgr",
        "fast",
        (-1, 1),
        (12, 12),
    )
    # The artifact with its inlet answers as the framework does on the file.
    picture = next((shipped / "reference").glob("*.jpg"))
    wanted = module.files(tf.constant([picture.read_bytes()]))
    tensor = apply_inlet(picture, inlet).tensor[None]
    assert np.abs(RuntimeEngine(tmp_path / "m.onnx").run(tensor) - wanted["scores"].numpy()).max() <= 2e-6
    said = called("classify", "m.onnx", picture, cwd=tmp_path)
    assert said.returncode == 0 and wanted["classes"].numpy()[0].decode() in said.stdout, said.stderr
    with read_source(path, reading=Reading(signature="one_file")) as source:
        values = source.inlet.values
    assert (
        values.range == (0, 255)
        and np.allclose(values.mean, [103.9, 116.8, 123.7])
        and np.allclose(values.std, [58, 57, 57.5])
    )


def test_the_live_framework_records_and_layers_match(folder, tmp_path):
    path, module = folder
    x = np.random.default_rng(0).standard_normal((2, 12, 12, 3), np.float32)
    engine = open_live_engine(path)
    assert np.abs(engine.run(x) - module.scores(x).numpy()).max() <= 1e-6 and engine.chosen.name == "logits"
    behind = open_live_engine(path, reading=Reading(signature="files"))
    assert np.abs(behind.run(x) - nn.softmax(module.scores(x)).numpy()).max() <= 1e-6
    outputs = {layer: array for layer, _, array in engine.layer_outputs(x)}
    assert outputs["Relu"].shape == (2, 6, 6, 8) and outputs["Relu"].min() == 0


EXPORT = """
import numpy as np, keras
from keras import layers as L, ops
given = keras.Input((24, 24, 3), name='picture')
x = L.Rescaling(1 / 127.5, -1)(given)
x = L.BatchNormalization()(L.SeparableConv2D(8, 3, padding='same', dilation_rate=2, activation='swish')(x))
x = L.GroupNormalization(4)(L.PReLU(shared_axes=[1, 2])(x))
x = L.LeakyReLU()(L.Conv2DTranspose(6, 3, strides=2, padding='same')(x))
x = L.AveragePooling2D(3, 2, padding='same')(L.UpSampling2D(2, interpolation='bilinear')(L.ZeroPadding2D(1)(x)))
x = L.Dropout(0.3)(L.Conv2D(16, 8, 8, activation='gelu')(x))
x = L.Reshape((-1, 16))(x)
y = L.LayerNormalization(epsilon=1e-6)(x)
x = x + L.MultiHeadAttention(2, 8)(y, y)
x = L.Dense(8, activation='hard_silu')(L.Conv1D(12, 3, padding='causal', dilation_rate=2)(x))
x = ops.concatenate([L.GlobalAveragePooling1D()(x), ops.max(x, axis=1)], axis=-1)
model = keras.Model(given, [x, L.Dense(5, activation='softmax')(x)])
rng = np.random.default_rng(0)
for weight in model.weights:
    if len(weight.shape) == 1 and 'seed' not in weight.path:
        weight.assign(rng.uniform(0.5, 1.5, weight.shape))
images = rng.uniform(0, 255, (3, 24, 24, 3)).astype(np.float32)
model.export('exported', verbose=False)
np.savez('recorded.npz', images=images, scores=np.asarray(model(images, training=False)[1]))
"""


@pytest.mark.slow
def test_what_keras_exports(tmp_path):
    """In a process of its own: here Keras may run on another back end."""
    environment = os.environ | {"KERAS_BACKEND": "tensorflow", "TF_CPP_MIN_LOG_LEVEL": "3"}
    subprocess.run([sys.executable, "-c", EXPORT], cwd=tmp_path, env=environment, check=True, capture_output=True)
    recorded = np.load(tmp_path / "recorded.npz")
    done = convert(tmp_path / "exported", tmp_path / "m.onnx")
    for count in (1, 3):
        found = RuntimeEngine(tmp_path / "m.onnx").run(recorded["images"][:count])
        assert np.abs(found - recorded["scores"][:count]).max() <= 2e-6
    assert (
        done.output_type.shape[1] == 5
        and done.operators["LayerNormalization"] == 1
        and any("scores are taken from output_1" in note for note in done.notes)
    )


def test_functions_without_signatures(tmp_path):
    module = Classifier()
    tf.saved_model.save(module, str(tmp_path / "saved"))
    convert(tmp_path / "saved", tmp_path / "m.onnx", choices=Choices(signature="tensors"))
    x = np.random.default_rng(0).standard_normal((2, 12, 12, 3), np.float32)
    assert np.abs(RuntimeEngine(tmp_path / "m.onnx").run(x) - module.scores(x).numpy()).max() <= 2e-6


def first_generation(folder, placeholders):
    """A graph of the first generation with variables in parts, a branch on a training flag and two kinds of dropout."""
    v1 = tf.compat.v1
    with tf.Graph().as_default():
        v1.set_random_seed(1)
        x = v1.placeholder(tf.float32, [None, 8, 8, 1], "x")
        keep, training = v1.placeholder(tf.float32, [], "keep_prob"), v1.placeholder(tf.bool, [], "is_training")
        parts = v1.fixed_size_partitioner(2)
        kernel = v1.get_variable("kernel", [3, 3, 1, 8], use_resource=False)
        bias = v1.get_variable("bias", [8], initializer=v1.random_normal_initializer(), partitioner=parts)
        y = nn.relu(nn.conv2d(x, kernel, 1, "SAME") + tf.convert_to_tensor(bias))
        y = tf.cond(training, lambda: nn.dropout(y, 0.5), lambda: y)
        y = v1.nn.dropout(tf.reshape(nn.max_pool2d(y, 2, 2, "VALID"), [-1, 128]), keep_prob=keep)
        wide = v1.get_variable("wide", [128, 5], partitioner=v1.fixed_size_partitioner(3))
        scores = nn.softmax(tf.matmul(y, tf.convert_to_tensor(wide)), name="scores")
        with v1.Session() as session:
            session.run(v1.global_variables_initializer())
            builder = v1.saved_model.Builder(str(folder / "saved"))
            builder.add_meta_graph_and_variables(
                session,
                ["serve"],
                {"serving_default": v1.saved_model.predict_signature_def({"x": x}, {"scores": scores})},
            )
            builder.save()
            graph = v1.graph_util.convert_variables_to_constants(session, session.graph_def, ["scores"])
            (folder / "frozen.pb").write_bytes(graph.SerializeToString())
            tf.io.write_graph(graph, str(folder), "text.pbtxt")
            images = np.random.default_rng(0).standard_normal((3, 8, 8, 1), np.float32)
            return images, session.run(scores, {x: images, keep: 1.0, training: False})


def test_the_first_generation(tmp_path):
    images, wanted = first_generation(tmp_path, True)
    for name in ("saved", "frozen.pb", "text.pbtxt"):
        done = convert(tmp_path / name, tmp_path / "m.onnx")
        assert np.abs(RuntimeEngine(tmp_path / "m.onnx").run(images) - wanted).max() <= 1e-6 * np.ptp(wanted)
        assert any("keep_prob is taken to be 1" in note for note in done.notes) and not done.operators.get("Div")
        assert np.abs(open_live_engine(tmp_path / name).run(images) - wanted).max() <= 1e-6


def test_of_several_graphs_the_one_for_serving_is_read(tmp_path):
    v1 = tf.compat.v1
    for name, tag_sets in (
        ("module", ([], ["train"])),
        ("both", (["train"], ["serve"])),
        ("unclear", (["serve", "a"], ["serve", "b"])),
    ):
        builder = v1.saved_model.Builder(str(tmp_path / name))
        for number, tags in enumerate(tag_sets):
            with tf.Graph().as_default(), v1.Session() as session:
                x, factor = (
                    v1.placeholder(tf.float32, [None, 4], "x"),
                    v1.get_variable("factor", [4], initializer=v1.ones_initializer()),
                )
                y = x * factor * (2.0 if "train" in tags else 3.0)
                session.run(v1.global_variables_initializer())
                signature = {"default": v1.saved_model.predict_signature_def({"x": x}, {"y": y})}
                if number:
                    builder.add_meta_graph(tags, signature)
                else:
                    builder.add_meta_graph_and_variables(session, tags, signature)
        builder.save()
        if name == "unclear":
            refused(
                called("convert", name, "-o", "no.onnx", cwd=tmp_path),
                "holds 2 graphs (a,serve; b,serve)",
                "several are for serving",
            )
        else:
            convert(tmp_path / name, tmp_path / "m.onnx")
            assert RuntimeEngine(tmp_path / "m.onnx").run(np.ones((2, 4), np.float32)).max() == 3


def test_a_fixed_batch_is_freed_and_a_training_flag_is_known(tmp_path):
    made = frozen(
        lambda x: tf.reshape(nn.conv2d(x, weights(3, 3, 3, 4), 4, "SAME"), [2, 36])[:, :5] * tf.ones([2, 1]),
        tmp_path / "g.pb",
        (12, 12, 3),
        2,
    )
    convert(tmp_path / "g.pb", tmp_path / "m.onnx")
    x = np.random.default_rng(0).standard_normal((2, 12, 12, 3), np.float32)
    assert (
        np.abs(RuntimeEngine(tmp_path / "m.onnx").run(np.concatenate([x, x]))[2:] - made(tf.constant(x)).numpy()).max()
        <= 1e-6
    )


# Web models


def stored(arrays, folder, packing, shards=2):
    """A manifest of arrays, and their bytes in shards; packing: how floating-point ones are kept."""
    entries, content = [], b""
    for name, array in arrays.items():
        entry = {
            "name": name,
            "shape": list(array.shape),
            "dtype": "int32" if array.dtype.kind == "i" else str(array.dtype),
        }
        if packing == "float16" and array.dtype == np.float32:
            entry["quantization"] = {"dtype": "float16", "original_dtype": "float32"}
            array = array.astype(np.float16)
        elif packing and array.dtype == np.float32 and array.size > 1:
            low, step = float(array.min()), max(float(np.ptp(array)) / np.iinfo(packing).max, 1e-9)
            entry["quantization"] = {"dtype": packing, "min": low, "scale": step, "original_dtype": "float32"}
            array = np.rint((array - low) / step).astype(packing)
        entries.append(entry)
        content += array.tobytes()
    cut = [len(content) * at // shards for at in range(shards + 1)]
    names = [f"group1-shard{at + 1}of{shards}.bin" for at in range(shards)]
    for name, start, end in zip(names, cut, cut[1:]):
        (folder / name).write_bytes(content[start:end])
    return [{"paths": names, "weights": entries}]


@pytest.mark.alike
@pytest.mark.parametrize("packing, within", [(None, 1e-6), ("float16", 2e-3), ("uint16", 1e-3), ("uint8", 0.05)])
def test_a_web_model_of_a_graph(packing, within, tmp_path):
    from google.protobuf import json_format

    module = Classifier()
    made = frozen(lambda x: module.scores(x), tmp_path / "g.pb", (12, 12, 3))
    from tensorflow.python.framework.convert_to_constants import convert_variables_to_constants_v2

    graph = convert_variables_to_constants_v2(made).graph.as_graph_def()
    arrays = {node.name: tf.make_ndarray(node.attr["value"].tensor) for node in graph.node if node.op == "Const"}
    for node in graph.node:
        if node.op == "Const":
            del node.attr["value"]
    document = {
        "format": "graph-model",
        "modelTopology": json_format.MessageToDict(graph),
        "weightsManifest": stored(arrays, tmp_path, packing),
    }
    (tmp_path / "model.json").write_text(json.dumps(document))
    done = convert(tmp_path / "model.json", tmp_path / "m.onnx")
    x = np.random.default_rng(0).standard_normal((3, 12, 12, 3), np.float32)
    wanted = module.scores(x).numpy()
    assert np.abs(RuntimeEngine(tmp_path / "m.onnx").run(x) - wanted).max() <= within * np.ptp(wanted)
    assert any("widened" in note or "stored as" in note for note in done.notes) == (packing is not None)
    assert (
        np.abs(open_live_engine(tmp_path / "model.json").run(x) - RuntimeEngine(tmp_path / "m.onnx").run(x)).max()
        <= 1e-6
    )
    (tmp_path / "group1-shard2of2.bin").write_bytes(b"\0" * 9)
    refused(called("convert", "model.json", "-o", "no.onnx", cwd=tmp_path), "shards", "copy all files again")
    (tmp_path / "group1-shard2of2.bin").unlink()
    refused(called("survey", "model.json", cwd=tmp_path), "shard2of2", "missing")


@pytest.mark.slow
def test_a_web_model_of_layers(tmp_path):
    _, model = network()
    model.save(tmp_path / "model.h5")
    import h5py

    with h5py.File(tmp_path / "model.h5") as file:
        configuration, arrays = json.loads(file.attrs["model_config"]), {}
        for layer in file["model_weights"].attrs["layer_names"]:
            group = file["model_weights"][layer]
            for name in group.attrs["weight_names"]:
                arrays[f"{layer}/{str(name).rpartition('/')[2]}"] = np.asarray(group[name])
    document = {
        "format": "layers-model",
        "modelTopology": {"keras_version": "2.15.0", "model_config": configuration},
        "weightsManifest": stored(arrays, tmp_path, None),
    }
    (tmp_path / "model.json").write_text(json.dumps(document))
    assert "a web model of layers" in called("survey", "model.json", cwd=tmp_path).stdout
    runs_like(tmp_path / "model.json", lambda x: model(x, training=False), (12, 12, 3), tmp_path)


# What is refused


@pytest.mark.alike
@pytest.mark.parametrize(
    "damage, words",
    [
        (
            lambda f: [each.unlink() for each in (f / "variables").iterdir()] and (f / "variables").rmdir(),
            "there is no folder variables",
        ),
        (lambda f: next((f / "variables").glob("*data*")).unlink(), "is missing"),
        (lambda f: next((f / "variables").glob("*data*")).write_bytes(b"12345"), "is cut off"),
        (lambda f: flip(next((f / "variables").glob("*data*")), 200), "do not fit their checksum"),
        (lambda f: flip(f / "variables" / "variables.index", 30), "does not fit its checksum"),
        (lambda f: (f / "variables" / "variables.index").write_bytes(b"1234567"), "not a table of variables"),
        (
            lambda f: (f / "saved_model.pb").write_bytes((f / "saved_model.pb").read_bytes()[:-500]),
            "is damaged or was cut off",
        ),
        (lambda f: (f / "saved_model.pb").unlink(), "no saved_model.pb"),
        (lambda f: without_outputs(f / "saved_model.pb"), "has no output"),
    ],
)
def test_a_damaged_folder_is_one_sentence(damage, words, folder, tmp_path):
    import shutil

    shutil.copytree(folder[0], tmp_path / "f")
    damage(tmp_path / "f")
    refused(called("convert", "f", "-o", "no.onnx", cwd=tmp_path), words)
    assert not (tmp_path / "no.onnx").exists()


def test_a_part_of_a_folder_is_told_from_the_whole(folder, tmp_path):
    variables = folder[0] / "variables"
    for part, words in (
        (variables, "give the folder above it"),
        (variables / "variables.index", "it holds weights alone; give the saved-model"),
    ):
        refused(called("survey", part, cwd=tmp_path), words)
        refused(called("convert", part, "-o", "no.onnx", cwd=tmp_path), words)
    for name in ("constants", "variables"):
        (tmp_path / "classes" / name).mkdir(parents=True)
    assert "2: constants, variables" in called("survey", "classes", cwd=tmp_path).stdout


def without_outputs(path):
    saved = message("SavedModel").FromString(path.read_bytes())
    for signature in saved.meta_graphs[0].signature_def.values():
        signature.outputs.clear()
    path.write_bytes(saved.SerializeToString())


def flip(path, place):
    content = bytearray(path.read_bytes())
    content[place] ^= 0x10
    path.write_bytes(content)


@pytest.mark.parametrize(
    "function, words",
    [
        (lambda x: tf.while_loop(lambda y: tf.reduce_sum(y) < 100, lambda y: [y * 2], [x])[0], "is part of a loop"),
        (lambda x: tf.map_fn(lambda one: one * 2, x), "is part of a loop"),
        (lambda x: tf.cond(tf.reduce_sum(x[..., 0]) > 0, lambda: x, lambda: -x), "depending on the image|the batch"),
        (lambda x: x - tf.reduce_mean(x, 0), "the batch"),
        (lambda x: tf.random.normal(tf.shape(x)) + tf.signal.rfft(x).shape[1], "RandomStandardNormal"),
        (lambda x: x[:2], "cuts the batch"),
        (
            lambda x: tf.cast(tf.linalg.det(tf.matmul(x[:, :, None], x[:, None])), tf.float32)[:, None] * x,
            "MatrixDeterminant",
        ),
    ],
)
def test_what_cannot_be_converted_is_named(function, words, tmp_path):
    frozen(function, tmp_path / "g.pb", (12,))
    with pytest.raises((SourceError, UnknownOperators), match=words):
        convert(tmp_path / "g.pb", tmp_path / "m.onnx")


def test_several_inputs_are_listed_and_one_is_chosen(tmp_path):
    made = tf.function(lambda a, b: tf.matmul(a, b, transpose_b=True)).get_concrete_function(
        tf.TensorSpec([None, 4], tf.float32, "a"), tf.TensorSpec([3, 4], tf.float32, "b")
    )
    (tmp_path / "g.pb").write_bytes(made.graph.as_graph_def().SerializeToString())
    refused(called("convert", "g.pb", "-o", "no.onnx", cwd=tmp_path), "takes 2 inputs", "a float32 [?, 4]", "--input")
    refused(called("convert", "g.pb", "-o", "no.onnx", "--input", "a", cwd=tmp_path), "further input")


def test_a_folder_that_could_write_is_not_run(tmp_path):
    class Writes(tf.Module):
        @tf.function(input_signature=[tf.TensorSpec([None, 4], tf.float32)])
        def __call__(self, x):
            tf.io.write_file(str(tmp_path / "written"), "x")
            return {"scores": x * 2.0}

    module = Writes()
    tf.saved_model.save(module, str(tmp_path / "f"), {"serving_default": module.__call__})
    with pytest.raises(SourceError, match="WriteFile.*--from-arrays|harmless.*WriteFile"):
        open_live_engine(tmp_path / "f")
    assert not (tmp_path / "written").exists()


def test_options_that_a_family_does_not_honour_are_refused_by_name(folder, shipped, tmp_path):
    pt2, keras_file = shipped / "channel_marks.pt2", shipped / "keras" / "channel_marks.keras"
    refused(
        called("convert", folder[0], "--shape", "10,10,3", "-o", "no.onnx", cwd=tmp_path),
        "--shape 10,10,3 does not fit",
        "12,12,3",
    )
    refused(called("survey", folder[0], "--shape", "10,10,3", cwd=tmp_path), "--shape does not fit")
    for options, option in (
        ([pt2, "--shape", "3,48,64"], "--shape"),
        ([keras_file, "--keep-batch"], "--keep-batch"),
        ([pt2, "--signature", "x"], "--signature"),
        ([keras_file, "--input", "x"], "--input"),
    ):
        refused(
            called("convert", *options, "-o", "no.onnx", cwd=tmp_path), f"{option} does not apply to", "leave it out"
        )
