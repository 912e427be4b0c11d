"""The artifact on the runtime beside Keras's own compiled prediction, on the small variants of keras.applications.

    pip install "keras>=3.13" jax
    python benchmarks/speed_beside_keras.py [THREADS]

The whole process is held to that many cores. Both sides get the same inputs and run in turn (A B B A) after
they are warm. Prints the ratio of the medians for batches 1 and 8, and their geometric mean.
"""

import os
import sys
import tempfile
from pathlib import Path

THREADS = int(sys.argv[1]) if len(sys.argv) > 1 else 2
os.sched_setaffinity(0, sorted(os.sched_getaffinity(0))[:THREADS])
os.environ["KERAS_BACKEND"] = "jax"

import keras  # noqa: E402
import numpy as np  # noqa: E402
from in_turn import interleaved  # noqa: E402

from zygal.conversion.convert import convert  # noqa: E402
from zygal.engines.artifact import RuntimeEngine  # noqa: E402

ARCHITECTURES = (
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


def main():
    ratios = []
    with tempfile.TemporaryDirectory() as folder:
        for name in ARCHITECTURES:
            size = 299 if name in ("Xception", "InceptionV3") else 224
            model = getattr(keras.applications, name)(weights=None, input_shape=(size, size, 3))
            path = Path(folder) / "model.keras"
            model.save(path)
            convert(path, path.with_suffix(".onnx"))
            engine = RuntimeEngine(path.with_suffix(".onnx"), THREADS)
            row = []
            for batch in (1, 8):
                images = np.random.default_rng(batch).uniform(0, 255, (batch, size, size, 3)).astype(np.float32)
                ours, theirs = interleaved(lambda x=images: engine.run(x), lambda x=images: model.predict_on_batch(x))
                row.append(theirs / ours)
            ratios += row
            print(f"{name:20} batch 1: {row[0]:5.2f}x   batch 8: {row[1]:5.2f}x", flush=True)
            keras.backend.clear_session()
    print(
        f"{len(ARCHITECTURES)} architectures, {THREADS} threads: geometric mean "
        f"{np.exp(np.mean(np.log(ratios))):.2f}x, lowest {min(ratios):.2f}x"
    )


if __name__ == "__main__":
    main()
