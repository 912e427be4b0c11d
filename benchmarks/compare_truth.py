"""What `zygal bench --compare FILE.py:FUNCTION` says of a live source, and what a bare loop over the user's own call
says.

    python benchmarks/compare_truth.py [SECONDS [THREADS [NETWORK ...]]]

Six networks, three of PyTorch and three of Keras, batch 8, one thread. The bare loop runs the artifact and the user's
call in turn and divides the first quartiles, which other programs disturb least; it is run before and after the bench.
Prints the factors and how far they are apart. With several threads, the runtime's threads go on spinning after a run
and take a core from the call that follows in a bare loop; the bench waits until they have come to rest.
"""

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

CODE = """
import os
os.environ.setdefault("KERAS_BACKEND", "jax")

def plain_cnn():
    import torch
    from torch import nn
    blocks, width = [nn.Conv2d(3, 32, 3, 2, 1), nn.ReLU()], 32
    for wider in (64, 128, 256):
        blocks += [nn.Conv2d(width, wider, 3, 2, 1, bias=False), nn.BatchNorm2d(wider), nn.ReLU()]
        width = wider
    return nn.Sequential(*blocks, nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(width, 10))

def depthwise_cnn():
    from torch import nn
    blocks = [nn.Conv2d(3, 32, 3, 2, 1), nn.ReLU6()]
    for width, wider, stride in ((32, 64, 1), (64, 128, 2), (128, 128, 1), (128, 256, 2), (256, 256, 1), (256, 512, 2)):
        blocks += [nn.Conv2d(width, width, 3, stride, 1, groups=width, bias=False), nn.BatchNorm2d(width), nn.ReLU6(),
                   nn.Conv2d(width, wider, 1, bias=False), nn.BatchNorm2d(wider), nn.ReLU6()]
    return nn.Sequential(*blocks, nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(512, 100))

def transformer():
    import torch
    from torch import nn
    class Patches(nn.Module):
        def __init__(self):
            super().__init__()
            self.cut = nn.Conv2d(3, 192, 16, 16)
            layer = nn.TransformerEncoderLayer(192, 3, 768, 0.1, "gelu", batch_first=True, norm_first=True)
            self.blocks = nn.TransformerEncoder(layer, 6, enable_nested_tensor=False)
            self.head = nn.Linear(192, 100)
        def forward(self, x):
            return self.head(self.blocks(self.cut(x).flatten(2).transpose(1, 2)).mean(1))
    return Patches()

def keras_cnn():
    import keras
    from keras import layers
    parts = [keras.Input((128, 128, 3))]
    for width in (32, 64, 128, 256):
        convolution = layers.Conv2D(width, 3, 2, padding="same", use_bias=False)
        parts += [convolution, layers.BatchNormalization(), layers.ReLU()]
    return keras.Sequential([*parts, layers.GlobalAveragePooling2D(), layers.Dense(10, activation="softmax")])

def keras_mobile():
    import keras
    return keras.applications.MobileNetV2(input_shape=(128, 128, 3), weights=None, classes=100)

def keras_residual():
    import keras
    return keras.applications.ResNet50V2(input_shape=(128, 128, 3), weights=None, classes=100)
"""
TORCH, KERAS = ("plain_cnn", "depthwise_cnn", "transformer"), ("keras_cnn", "keras_mobile", "keras_residual")
BATCH = 8


def user_call(folder: Path, name: str, images: np.ndarray):
    """The call that a user would write."""
    sys.path.insert(0, str(folder))
    import networks

    model = getattr(networks, name)()
    if name in KERAS:
        return lambda: model.predict_on_batch(images)
    import torch

    module, tensor = model.eval(), torch.from_numpy(images)

    def call():
        with torch.no_grad():
            return module(tensor)

    return call


def bare_factor(artifact: Path, call, images: np.ndarray, threads: int, seconds: float) -> float:
    """The user's call as a multiple of the artifact's time, in turn."""
    import onnxruntime

    options = onnxruntime.SessionOptions()
    options.intra_op_num_threads = threads
    session = onnxruntime.InferenceSession(str(artifact), options, providers=["CPUExecutionProvider"])
    runs = (lambda: session.run(None, {"image": images})), call
    for _ in range(3):
        for run in runs:
            run()
    readings, end = ([], []), time.perf_counter() + seconds
    while time.perf_counter() < end or len(readings[0]) < 5:
        for run, into in zip(runs, readings):
            began = time.perf_counter()
            run()
            into.append(time.perf_counter() - began)
    return float(np.percentile(readings[1], 25) / np.percentile(readings[0], 25))


def bare_in_own_process(folder: Path, name: str, threads: int, seconds: float) -> float:
    command = [sys.executable, __file__, "--bare", str(folder), name, str(threads), str(seconds)]
    return float(subprocess.run(command, capture_output=True, text=True, check=True).stdout)


def main() -> None:
    if "--bare" in sys.argv:
        # In a process of its own, as a user would run it.
        folder, name, threads, seconds = Path(sys.argv[2]), sys.argv[3], int(sys.argv[4]), float(sys.argv[5])
        shape = (BATCH, 128, 128, 3) if name in KERAS else (BATCH, 3, 128, 128)
        images = np.random.default_rng(0).random(shape, np.float32)
        if name in TORCH:
            import torch

            torch.set_num_threads(threads)
        print(bare_factor(folder / f"{name}.onnx", user_call(folder, name, images), images, threads, seconds))
        return
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 20.0
    threads = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    program = [sys.executable, "-m", "zygal"]
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        (folder / "networks.py").write_text(CODE)
        for name in sys.argv[3:] or (*TORCH, *KERAS):
            shape = [] if name in KERAS else ["--shape", "3,128,128"]
            subprocess.run(
                [*program, "convert", f"networks.py:{name}", "-o", f"{name}.onnx", *shape, "-q"],
                cwd=folder,
                check=True,
                capture_output=True,
            )
            before = bare_in_own_process(folder, name, threads, seconds / 2)
            subprocess.run(
                [
                    *program,
                    "bench",
                    f"{name}.onnx",
                    "--compare",
                    f"networks.py:{name}",
                    "--batches",
                    str(BATCH),
                    "--threads",
                    str(threads),
                    "--seconds",
                    str(seconds),
                    "--json",
                    "out.json",
                    "-q",
                    "--overwrite",
                ],
                cwd=folder,
                check=True,
                capture_output=True,
            )
            after = bare_in_own_process(folder, name, threads, seconds / 2)
            compared = json.loads((folder / "out.json").read_text())["compared"][0]
            ours, bare = compared["time_ratio"]["value"], (before * after) ** 0.5
            print(
                f"{name:16} bench {ours:6.2f}x   bare loop {before:6.2f}x and {after:6.2f}x   apart "
                f"{ours / bare - 1:+6.1%}   {compared['engine']}",
                flush=True,
            )


if __name__ == "__main__":
    main()
