"""Batch inference beside TensorFlow's own compiled inference, and conversion beside its import and load.

    pip install '.[tensorflow,keras]'
    KERAS_BACKEND=tensorflow python benchmarks/speed_beside_tensorflow.py [NAME ...]

Thirteen small variants of architectures that ship with Keras, exported as saved-model folders. For each, on the same
images in one run and in turn: the framework's time divided by the artifact's, at batch 1 and 8, all cores; and the
largest difference as a part of the spread. Last: the CPU time of converting ResNet-50's folder as a whole process, as a
share of what the framework needs to import and load it, and the peak memory.
"""

import os
import resource
import subprocess
import sys
import tempfile
from pathlib import Path

os.environ.setdefault("TF_CPP_MIN_LOG_LEVEL", "3")
os.environ.setdefault("KERAS_BACKEND", "tensorflow")

import numpy as np
from in_turn import interleaved

from zygal.conversion.convert import convert
from zygal.engines.artifact import RuntimeEngine

SMALL = (
    "MobileNet",
    "MobileNetV2",
    "MobileNetV3Small",
    "MobileNetV3Large",
    "EfficientNetB0",
    "EfficientNetV2B0",
    "NASNetMobile",
    "DenseNet121",
    "ResNet50",
    "ResNet50V2",
    "ConvNeXtTiny",
    "Xception",
    "InceptionV3",
)
LOAD = (
    "import os; os.environ['TF_CPP_MIN_LOG_LEVEL'] = '3'; import sys, tensorflow; "
    "tensorflow.saved_model.load(sys.argv[1])"
)


def exported(name, folder):
    """The folder of a model with weights that make its scores differ, and its images' shape."""
    import keras

    keras.utils.set_random_seed(0)
    size = (299, 299, 3) if name in ("InceptionV3", "Xception") else (224, 224, 3)
    model = getattr(keras.applications, name)(weights=None, input_shape=size, classes=100, classifier_activation=None)
    rng = np.random.default_rng(0)
    for weight in model.weights:
        if len(weight.shape) < 2:
            low, high = (0.6, 1.6) if "variance" in weight.path or "gamma" in weight.path else (-0.2, 0.2)
            weight.assign(rng.uniform(low, high, weight.shape))
    model.export(str(folder / name), verbose=False)
    return folder / name, size


def beside(path, size):
    import tensorflow as tf

    loaded = tf.saved_model.load(str(path)).signatures["serving_default"]
    convert(path, path.with_suffix(".onnx"))
    engine = RuntimeEngine(path.with_suffix(".onnx"))
    ratios, worst = [], 0.0
    for batch in (1, 8):
        x = np.random.default_rng(batch).uniform(0, 255, (batch, *size)).astype(np.float32)
        tensor = tf.constant(x)
        wanted = np.asarray(next(iter(loaded(tensor).values())))
        worst = max(worst, float(np.abs(engine.run(x) - wanted).max() / np.ptp(wanted)))
        ours, theirs = interleaved(
            lambda x=x: engine.run(x), lambda t=tensor: np.asarray(next(iter(loaded(t).values())))
        )
        ratios.append(theirs / ours)
    return ratios, worst


def cpu_seconds(*command):
    # As after the first use: with the compiled modules on the disk.
    environment = {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, check=True, capture_output=True, env=environment)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def whole_process(path):
    """Converting as a process beside loading as a process, and the converter's peak memory."""
    out = path.with_suffix(".whole.onnx")
    zygal = [sys.executable, "-m", "zygal", "convert", str(path), "-o", str(out), "--overwrite"]
    ours = min(cpu_seconds(*zygal) for _ in range(3))
    theirs = min(cpu_seconds(sys.executable, "-c", LOAD, str(path)) for _ in range(2))
    probe = (
        "import resource, subprocess, sys; subprocess.run(sys.argv[1:], check=True, capture_output=True); "
        "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    )
    peak = (
        int(subprocess.run([sys.executable, "-c", probe, *zygal], check=True, capture_output=True, text=True).stdout)
        * 1024
    )
    size = sum(each.stat().st_size for each in path.rglob("*") if each.is_file())
    print(
        f"{path.name}: converted in {ours:.2f} s of CPU time, imported and loaded by the framework in "
        f"{theirs:.2f} s: {ours / theirs:.3f}"
    )
    print(
        f"{path.name}: peak memory {peak / 1e6:.0f} MB, files {size / 1e6:.0f} MB, limit twice the files plus "
        f"100 MB = {2 * size / 1e6 + 100:.0f} MB"
    )


def main():
    names = sys.argv[1:] or list(SMALL)
    every = []
    with tempfile.TemporaryDirectory() as name:
        for each in names:
            path, size = exported(each, Path(name))
            ratios, worst = beside(path, size)
            every += ratios
            print(
                f"{each:18} batch 1: {ratios[0]:5.2f}x   batch 8: {ratios[1]:5.2f}x   difference {worst:.1e}",
                flush=True,
            )
        print(f"geometric mean {np.exp(np.mean(np.log(every))):.2f}x, lowest {min(every):.2f}x")
        if "ResNet50" in names:
            whole_process(Path(name) / "ResNet50")


if __name__ == "__main__":
    main()
