"""Converts every ONNX file below a folder, and runs file and artifact on the same random images at two batches.

    python benchmarks/onnx_files.py DIR [--size 64]

For each file: agreed with the largest difference as a part of the spread of the scores, refused with the sentence, or
wrong. Sizes that a file leaves open are taken as --size, channels as 3. Other outputs than tables of scores count too.
"""

import argparse
import sys
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np

from zygal.conversion.convert import Choices, convert
from zygal.engines.onnx_session import import_runtime
from zygal.errors import ZygalError
from zygal.onnx.contents import choice_of, declared, inputs_of
from zygal.onnx.read import load_model

AGREES = 1e-5


def image_shape(info, size):
    """The shape of one image where the file leaves it open, else None."""
    sizes = declared(info)[1][1:]
    if all(isinstance(each, int) for each in sizes):
        return None
    open_sizes = [3, size, size] if len(sizes) == 3 else [size] * len(sizes)
    return tuple(each if isinstance(each, int) else wanted for each, wanted in zip(sizes, open_sizes, strict=True))


def random_images(count, type):
    rng = np.random.default_rng(count)
    shape = (count, *type.shape[1:])
    if type.dtype.kind == "f":
        return rng.standard_normal(shape, np.float32).astype(type.dtype)
    return rng.integers(0, 128, shape).astype(type.dtype)


def session(runtime, path, options=None):
    return runtime.InferenceSession(str(path), options, providers=["CPUExecutionProvider"])


def in_batches(session, output, name, images, size):
    """What a file gives for images that are fed in batches of the size that it takes."""
    parts = [session.run([output], {name: images[at : at + size]})[0] for at in range(0, len(images), size)]
    return np.concatenate(parts)


def judged(path, size, folder):
    """The verdict on one file, and the largest difference or the sentence."""
    model = load_model(path)
    infos = inputs_of(model)
    chosen = choice_of(path, model.graph, None, None).name
    shape = image_shape(infos[0], size) if len(infos) == 1 else None
    artifact = folder / "m.onnx"
    found = convert(path, artifact, choices=Choices(any_shape=True, image_shape=shape))
    runtime = import_runtime()
    runtime.set_default_logger_severity(4)
    plain = runtime.SessionOptions()
    plain.graph_optimization_level = runtime.GraphOptimizationLevel.ORT_DISABLE_ALL
    theirs, ours, unoptimised = session(runtime, path), session(runtime, artifact), session(runtime, path, plain)
    fixed = declared(infos[0])[1][0]
    worst = 0.0
    for count in (2, 3):
        images = random_images(count, found.input_type)
        size = fixed if isinstance(fixed, int) else count
        feed = np.concatenate([images] * size)[: -(-count // size) * size]
        right, other = (in_batches(each, chosen, infos[0].name, feed, size)[:count] for each in (theirs, unoptimised))
        made = ours.run(None, {"image": images})[0]
        if made.shape != right.shape:
            return "wrong", f"{made.shape} instead of {right.shape}"
        # What the runtime's own optimisation changes in the file's scores is no difference of the artifact.
        own = float(np.abs(right - other).max())
        worst = max(worst, max(float(np.abs(made - right).max()) - 2 * own, 0.0) / max(np.ptp(right), 1e-30))
    return ("agreed" if worst <= AGREES else "wrong"), f"{worst:.2g}"


def main():
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("folder", type=Path)
    parser.add_argument("--size", type=int, default=64)
    arguments = parser.parse_args()
    counts = Counter()
    with tempfile.TemporaryDirectory() as folder:
        for path in sorted(arguments.folder.rglob("*.onnx")):
            try:
                verdict, detail = judged(path, arguments.size, Path(folder))
            except ZygalError as fault:
                verdict, detail = "refused", str(fault).replace(str(path), path.name)
            counts[verdict] += 1
            print(f"{verdict:8} {path.name}: {detail}", flush=True)
    print(", ".join(f"{count} {verdict}" for verdict, count in sorted(counts.items())))
    return bool(counts["wrong"])


if __name__ == "__main__":
    sys.exit(main())
