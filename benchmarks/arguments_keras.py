"""Arguments of Keras's layers and functions, drawn from the framework's own signatures: each must be right or refused.

Every layer and every function of the framework is called with its defaults and then with each argument in turn at other
values; the model is saved, converted, and run on ONNX Runtime. A result counts as right within 1e-5 of the spread of
what the framework computes.

    python benchmarks/arguments_keras.py [layers|functions] [PART_OF_A_NAME]
"""

import inspect
import os
import sys
import tempfile
import warnings
from collections import Counter
from pathlib import Path

os.environ.setdefault("KERAS_BACKEND", "jax")

import keras  # noqa: E402
import numpy as np  # noqa: E402
from arguments_pytorch import difference  # noqa: E402

from zygal.artifact.formats import write_artifact  # noqa: E402
from zygal.classifier.metadata import Metadata  # noqa: E402
from zygal.engines.session import open_session  # noqa: E402
from zygal.errors import UnknownOperators, ZygalError  # noqa: E402
from zygal.graph.passes import run_passes  # noqa: E402
from zygal.sources import read_source  # noqa: E402

SHAPES = ((8, 8, 4), (6, 4), (5,), (4, 4, 4, 2))
WORDS = {
    "padding": ("same", "valid", "causal"),
    "data_format": ("channels_first",),
    "interpolation": ("nearest", "bicubic"),
    "activation": ("elu", "gelu", "hard_sigmoid", "softmax", "leaky_relu"),
    "recurrent_activation": ("hard_sigmoid",),
    "merge_mode": ("sum", "mul", "ave"),
    "score_mode": ("concat",),
    "mode": ("reflect", "symmetric", "edge", "full"),
}
NEEDED = {
    "filters": 3,
    "kernel_size": 3,
    "units": 3,
    "output_dim": 3,
    "target_shape": (-1,),
    "n": 2,
    "height": 5,
    "width": 6,
    "scale": 0.4,
    "offset": 0.3,
    "num_heads": 2,
    "key_dim": 3,
    "equation": "...x,xy->...y",
    "output_shape": 3,
    "num_query_heads": 2,
    "num_key_value_heads": 1,
    "head_dim": 3,
    "groups": 2,
    "rate": 0.3,
    "stddev": 0.2,
    "factor": 0.2,
    "size": (4, 6),
    "axis": -1,
    "newshape": (-1, 4),
    "shape": (2, 8, 8, 4),
    "source": 1,
    "destination": 2,
    "axis1": 1,
    "axis2": 2,
    "indices_or_sections": 2,
    "repeats": 2,
    "shift": 1,
    "pad_width": ((0, 0), (1, 1), (0, 0), (0, 0)),
    "x_min": -0.4,
    "x_max": 0.5,
    "pool_size": 2,
    "dims": (1, 2, 3),
    "order": 2,
    "k": 2,
    "num_classes": 4,
    "p": 2,
    "seed": 1,
    "axes": 1,
    "layer": None,
    "input_dim": 4,
    "theta": 0.3,
    "bit_depth": 8,
}
NOT_VARIED = ("name", "dtype", "trainable", "seed", "autocast", "layer", "cell", "inverse", "weights")


def other_values(name, default):
    """Values of an argument that are not its default."""
    if name in WORDS:
        return [word for word in WORDS[name] if word != default]
    if isinstance(default, bool):
        return [not default]
    if isinstance(default, int):
        return [default + 1] if default >= 0 else [default - 1, 1]
    if isinstance(default, float):
        return [default * 1.5 + 0.25, -default - 0.1]
    if isinstance(default, (tuple, list)):
        return [tuple(each + 1 if isinstance(each, int) else each for each in default)]
    if default is None:
        return [1, 2, -1, 0.3, (1, 2), True]
    return []


def calls(function):
    """Named arguments with which to call something: its needed ones, and each other one away from its default."""
    try:
        parameters = inspect.signature(function).parameters
    except (TypeError, ValueError):
        return
    needed, free = {}, {}
    for name, each in list(parameters.items()):
        if each.kind in (each.VAR_KEYWORD, each.VAR_POSITIONAL) or name in ("self", "x", "x1", "inputs", "images"):
            continue
        if each.default is inspect.Parameter.empty:
            needed[name] = NEEDED.get(name)
        elif name not in NOT_VARIED and not name.endswith(("initializer", "regularizer", "constraint")):
            free[name] = each.default
    yield needed
    for name, default in free.items():
        for value in other_values(name, default):
            yield {**needed, name: value}


def built(make, shape):
    """A model that ends in what `make` makes of an image, its weights livened; None if it cannot be built."""
    try:
        image = keras.Input(shape)
        made = make(image)
        made = made[0] if isinstance(made, (list, tuple)) else made
        if made is image:
            return None
        if not hasattr(made, "shape") or made.shape[0] is not None or "float" not in made.dtype:
            return None
        model = keras.Model(image, made)
    except Exception:
        return None
    chance = np.random.default_rng(0)
    for weight in model.weights:
        if "float" in weight.dtype:
            weight.assign(chance.uniform(0.2, 1.2, weight.shape))
    return model


def outcome(model, shape, folder: Path):
    x = np.random.default_rng(1).standard_normal((3, *shape)).astype(np.float32)
    try:
        model.save(folder / "model.keras")
        # Some layers work out from their variables what they need when they are loaded.
        judge = keras.saving.load_model(folder / "model.keras", compile=False)
        wanted = np.asarray(keras.ops.convert_to_numpy(judge(x, training=False)))
    except Exception as fault:
        return "not saved", type(fault).__name__
    try:
        with read_source(folder / "model.keras") as source:
            graph = run_passes(source.graph)
            feed, fetch = graph.inputs[0], graph.outputs[0]
            if feed == fetch:
                return ("right", "") if difference(x, wanted) is None else ("wrong", "nothing is done")
            write_artifact(graph.renamed({feed: "image", fetch: "scores"}), folder / "model.onnx", Metadata())
        found = open_session(folder / "model.onnx").run(["scores"], {"image": x})[0]
    except UnknownOperators as fault:
        return "unknown", ", ".join(fault.layers)
    except ZygalError as fault:
        return "refused", str(fault).rpartition("layer")[2]
    except Exception as fault:
        return "wrong", f"{type(fault).__name__}: {str(fault)[:100]}"
    fault = difference(found, wanted)
    return ("wrong", fault) if fault else ("right", "")


def subjects(what: str):
    if what in ("layers", ""):
        for name, made in sorted(vars(keras.layers).items()):
            if (
                inspect.isclass(made)
                and issubclass(made, keras.Layer)
                and name not in ("Layer", "Wrapper", "InputLayer")
            ):
                for named in calls(made.__init__):
                    yield f"layers.{name}", named, lambda image, made=made, named=named: made(**named)(image)
                    yield f"layers.{name} of two", named, lambda image, m=made, n=named: m(**n)([image, image * 0.5])
    if what in ("functions", ""):
        for place in (keras.ops, keras.activations):
            for name, made in sorted(vars(place).items()):
                if callable(made) and not name.startswith("_") and not inspect.isclass(made):
                    for named in calls(made):
                        yield f"{name}", named, lambda image, made=made, named=named: made(image, **named)
                        second = next((n for n, v in named.items() if v is None and n in ("x2", "y", "b")), None)
                        if second:
                            rest = {n: v for n, v in named.items() if n != second}
                            yield f"{name} of two", rest, lambda i, m=made, r=rest: m(i, i * 0.5 + 0.1, **r)


def main(what: str = "", part: str = "") -> None:
    warnings.simplefilter("ignore")
    counts, refused = Counter(), Counter()
    with tempfile.TemporaryDirectory() as folder:
        for name, named, make in subjects(what):
            if part not in name:
                continue
            shape, model = next(((s, m) for s in SHAPES if (m := built(make, s)) is not None), (None, None))
            if model is None:
                continue
            keras.backend.clear_session()
            kind, detail = outcome(model, shape, Path(folder))
            counts[kind] += 1
            if kind == "wrong":
                print("WRONG", name, named, list(shape), detail, flush=True)
            elif kind in ("refused", "unknown"):
                refused[f"{kind} {name}: {detail[-100:]}"] += 1
    for each, count in sorted(refused.items()):
        print(count, each)
    print(f"{sum(counts.values())} calls: " + ", ".join(f"{count} {kind}" for kind, count in counts.most_common()))


if __name__ == "__main__":
    main(*sys.argv[1:3])
