"""Small symbol files with what MXNet computes for them, for tests/test_symbols.py.

    FRAMEWORK_PYTHON benchmarks/symbol_cases.py tests/data/symbols.npz

FRAMEWORK_PYTHON: a Python 3.8 with mxnet 1.9.1 and NumPy below 1.24. Every case is a symbol of an image [N, 4, 9, 7] or
of what a flattened image gives, its parameters as the framework saves them, two images, and the result.
"""

import io
import sys
import tempfile
from pathlib import Path

import mxnet as mx
import numpy as np

SHAPE = (4, 9, 7)
x = mx.sym.Variable("data")
flat = mx.sym.Flatten(x)


def network():
    """As training scripts of the older interface write one: a label, a factor that is fixed, windows by both
    conventions."""
    net = mx.sym.Convolution(x, kernel=(3, 3), num_filter=8, pad=(1, 1), name="conv1", no_bias=True)
    net = mx.sym.BatchNorm(net, fix_gamma=True, name="bn1")
    net = mx.sym.Activation(net, act_type="relu", name="relu1")
    net = mx.sym.Pooling(net, kernel=(2, 2), stride=(2, 2), pool_type="max", pooling_convention="full", name="pool1")
    left, right = mx.sym.SliceChannel(net, num_outputs=2, name="halves")
    net = mx.sym.Concat(left * 0.5, right + left, mx.sym.LRN(right, nsize=3), name="joined")
    net = mx.sym.Dropout(mx.sym.Flatten(net), p=0.5)
    return mx.sym.FullyConnected(net, num_hidden=5, name="fc1")


def pooled(**more):
    return mx.sym.Pooling(x, kernel=(3, 3), stride=(3, 2), pad=(1, 1), **more)


CASES = {
    "a network": lambda: mx.sym.SoftmaxOutput(network(), name="softmax"),
    "several labels": lambda: mx.sym.LogisticRegressionOutput(network(), name="sigmoid"),
    "two results": lambda: mx.sym.Group([network(), mx.sym.BlockGrad(x)]),
    "no bias": lambda: mx.sym.FullyConnected(x, num_hidden=3, no_bias=True),
    "last axis": lambda: mx.sym.FullyConnected(x, num_hidden=3, flatten=False),
    "one axis": lambda: mx.sym.Convolution(mx.sym.Reshape(x, shape=(0, 0, -1)), kernel=(3,), num_filter=2, stride=(2,)),
    "groups": lambda: mx.sym.Convolution(x, kernel=(3, 1), num_filter=8, num_group=4, dilate=(2, 1), pad=(1, 0)),
    "transposed": lambda: mx.sym.Deconvolution(x, kernel=(3, 3), num_filter=2, stride=(2, 2), pad=(1, 1), adj=(1, 0)),
    "a factor that counts": lambda: mx.sym.BatchNorm(x, fix_gamma=False, eps=2e-5),
    "max full": lambda: pooled(pool_type="max", pooling_convention="full"),
    "avg full": lambda: pooled(pool_type="avg", pooling_convention="full"),
    "avg full inside": lambda: pooled(pool_type="avg", pooling_convention="full", count_include_pad=False),
    "a border alone": lambda: mx.sym.Pooling(
        x, kernel=(3, 2), stride=(2, 2), pad=(1, 1), pool_type="avg", pooling_convention="full"
    ),
    "avg valid": lambda: pooled(pool_type="avg"),
    "avg valid inside": lambda: pooled(pool_type="avg", count_include_pad=False),
    "sum valid": lambda: pooled(pool_type="sum"),
    "global max": lambda: mx.sym.Pooling(x, kernel=(1, 1), global_pool=True, pool_type="max"),
    "global avg": lambda: mx.sym.Pooling(x, global_pool=True, pool_type="avg"),
    "pooled to a size": lambda: mx.sym.contrib.AdaptiveAvgPooling2D(x, output_size=(4, 3)),
    "enlarged": lambda: mx.sym.UpSampling(x, scale=2, sample_type="nearest"),
    "resized by corners": lambda: mx.sym.contrib.BilinearResize2D(x, height=5, width=12),
    "resized": lambda: mx.sym.contrib.BilinearResize2D(x, height=12, width=5, align_corners=False),
    **{
        f"activation {kind}": lambda kind=kind: mx.sym.Activation(x, act_type=kind)
        for kind in ("relu", "sigmoid", "tanh", "softrelu", "softsign")
    },
    **{
        f"leaky {kind}": lambda kind=kind: mx.sym.LeakyReLU(x, act_type=kind)
        for kind in ("leaky", "elu", "selu", "gelu", "prelu", "rrelu")
    },
    "hard sigmoid": lambda: mx.sym.hard_sigmoid(x),
    "lengths of images": lambda: mx.sym.L2Normalization(x),
    "lengths of channels": lambda: mx.sym.L2Normalization(x, mode="channel"),
    "lengths of places": lambda: mx.sym.L2Normalization(x, mode="spatial"),
    "instances": lambda: mx.sym.InstanceNorm(x),
    "layers": lambda: mx.sym.LayerNorm(x),
    "groups normalised": lambda: mx.sym.GroupNorm(x, num_groups=2),
    "channels as one": lambda: mx.sym.SoftmaxActivation(x, mode="channel"),
    "images as one": lambda: mx.sym.SoftmaxActivation(x),
    "softmax of images": lambda: mx.sym.SoftmaxOutput(x),
    "softmax of channels": lambda: mx.sym.SoftmaxOutput(x, multi_output=True),
    "softmax with heat": lambda: mx.sym.softmax(x, axis=1, temperature=2.0),
    "log softmax": lambda: mx.sym.log_softmax(x),
    "split": lambda: mx.sym.Group(list(mx.sym.split(x, num_outputs=4, axis=1, squeeze_axis=True)))[2],
    "slice": lambda: mx.sym.slice(x, begin=(None, 1, 2), end=(None, None, -1), step=(None, 1, 2)),
    "slice axis": lambda: mx.sym.slice_axis(x, axis=-1, begin=-3, end=None),
    "slice like": lambda: mx.sym.slice_like(x, mx.sym.Pooling(x, kernel=(2, 2), stride=(2, 2)), axes=(2, 3)),
    "reshape -2": lambda: mx.sym.Reshape(x, shape=(0, -3, -2)),
    "reshape -4": lambda: mx.sym.Reshape(x, shape=(0, -4, 2, -1, -2)),
    "reshape -1": lambda: mx.sym.Reshape(x, shape=(-1, 28)),
    "transpose": lambda: mx.sym.transpose(x, axes=(0, 2, 3, 1)),
    "swapped": lambda: mx.sym.SwapAxis(x, dim1=1, dim2=3),
    "expand and squeeze": lambda: mx.sym.squeeze(mx.sym.expand_dims(x, axis=2), axis=2),
    "stack": lambda: mx.sym.stack(x, x * 2, axis=1),
    "pad": lambda: mx.sym.Pad(x, mode="constant", pad_width=(0, 0, 0, 0, 1, 2, 0, 3), constant_value=0.5),
    "pad by edges": lambda: mx.sym.Pad(x, mode="edge", pad_width=(0, 0, 0, 0, 1, 2, 0, 3)),
    "tile": lambda: mx.sym.tile(x, reps=(2, 1)),
    "mean": lambda: mx.sym.mean(x, axis=(2, 3)),
    "sum of others": lambda: mx.sym.sum(x, axis=(0, 1), exclude=True, keepdims=True),
    "norm": lambda: mx.sym.norm(x, ord=2, axis=1),
    "scalars": lambda: 2 - mx.sym.maximum(1.5 / (x * x + 1), 0.5) ** 2 - (x - 1) / 3,
    "broadcast": lambda: (
        mx.sym.broadcast_mul(x, mx.sym.mean(x, axis=1, keepdims=True)) - mx.sym.broadcast_maximum(x, -x)
    ),
    "unary": lambda: mx.sym.rsqrt(mx.sym.exp(x)) + mx.sym.square(mx.sym.tanh(x)) * mx.sym.erf(x) - mx.sym.abs(x),
    "clip": lambda: mx.sym.clip(x, a_min=-0.5, a_max=0.25),
    "sum of several": lambda: mx.sym.add_n(x, x, x * 0.5),
    "batch dot": lambda: mx.sym.batch_dot(
        mx.sym.Reshape(x, shape=(0, 0, -1)), mx.sym.Reshape(x, shape=(0, 0, -1)), transpose_b=True
    ),
    "ones": lambda: mx.sym.ones_like(x) * x,
}


def recorded(symbol):
    """The parameter file's bytes, two images and the result."""
    rng = np.random.RandomState(0)
    images = rng.standard_normal((2, *SHAPE)).astype("float32")
    arguments, _, states = symbol.infer_shape_partial(data=images.shape)
    given, held, aux = {}, {}, {}
    for name, shape in zip(symbol.list_arguments(), arguments):
        if name == "data":
            given[name] = mx.nd.array(images)
        elif name.endswith("label"):
            given[name] = mx.nd.zeros(shape)
        else:
            held[name] = given[name] = mx.nd.array(rng.standard_normal(shape).astype("float32") / 2)
    for name, shape in zip(symbol.list_auxiliary_states(), states):
        aux[name] = mx.nd.array(rng.uniform(0.5, 2, shape).astype("float32"))
    executor = symbol.bind(mx.cpu(), given, aux_states=aux, grad_req="null")
    result = executor.forward(is_train=False)[0].asnumpy()
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "p")
        mx.nd.save(path, {**{f"arg:{k}": v for k, v in held.items()}, **{f"aux:{k}": v for k, v in aux.items()}})
        return Path(path).read_bytes(), images, result


def main(target):
    found = {}
    for name, build in CASES.items():
        symbol = build()
        parameters, images, result = recorded(symbol)
        found[f"{name}/symbol"] = np.frombuffer(symbol.tojson().encode(), np.uint8)
        found[f"{name}/parameters"] = np.frombuffer(parameters, np.uint8)
        found[f"{name}/result"] = result
    found["images"] = images
    whole = io.BytesIO()
    np.savez_compressed(whole, **found)
    Path(target).write_bytes(whole.getvalue())
    print(f"{len(CASES)} cases, {len(whole.getvalue())} bytes")


if __name__ == "__main__":
    main(*sys.argv[1:])
