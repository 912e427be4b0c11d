"""`zygal classify` end to end beside its two halves and beside a plain loop, on photographs of half a megapixel.

    python benchmarks/classify_speed.py [ROUNDS]

Two networks at 224 x 224: a mid-sized mobile one (0.5 GFLOP) and a residual one of 18 layers (3.6 GFLOP). In turn, in
one process: the whole way into a file of rows; reading alone and inference alone, each on one core and on all; and the
loop that a careful person writes, one image at a time on a session as it comes. Printed are medians of the rounds'
ratios:

* to the slower half, when each is given one of two cores, as a design with a core for each would have it;
* to what both halves allow together when all cores serve both: 1 / (1 / reading + 1 / inference);
* to the plain loop.
"""

import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import torch
from PIL import Image, ImageOps
from torch import nn

from zygal.conversion.convert import convert
from zygal.demo.marks import draw_mark
from zygal.engines.artifact import RuntimeEngine
from zygal.inlet import parse_inlet
from zygal.machine.processor import allowed_cores
from zygal.prediction.classification import Classification, open_predictions
from zygal.prediction.classifier import BATCH, open_artifact

INLET = """
zygal_inlet = 1
[decode]
colour = "rgb"
[[frame]]
step = "resize"
short_side = 256
filter = "bilinear"
[[frame]]
step = "crop"
size = [224, 224]
[values]
range = [0, 1]
mean = [0.485, 0.456, 0.406]
std = [0.229, 0.224, 0.225]
"""
MEAN, STD = np.array([0.485, 0.456, 0.406], np.float32), np.array([0.229, 0.224, 0.225], np.float32)
IMAGES, PASSES = 64, 3


def norm(inputs, outputs, size, stride=1, groups=1, last=nn.ReLU):
    return nn.Sequential(
        nn.Conv2d(inputs, outputs, size, stride, size // 2, groups=groups, bias=False), nn.BatchNorm2d(outputs), last()
    )


class Residual(nn.Module):
    def __init__(self, body, side=None):
        super().__init__()
        self.body, self.side = body, side or nn.Identity()

    def forward(self, features):
        return self.body(features) + self.side(features)


def mobile():
    """Inverted residuals in the proportions of present-day mobile networks."""
    layers, inputs = [norm(3, 32, 3, 2), norm(32, 32, 3, groups=32), norm(32, 16, 1, last=nn.Identity)], 16
    for outputs, count, stride in ((24, 2, 2), (40, 3, 2), (80, 3, 2), (112, 3, 1), (192, 4, 2)):
        for place in range(count):
            wide, step = inputs * 6, stride if place == 0 else 1
            body = nn.Sequential(
                norm(inputs, wide, 1), norm(wide, wide, 3, step, groups=wide), norm(wide, outputs, 1, last=nn.Identity)
            )
            layers.append(Residual(body) if step == 1 and inputs == outputs else body)
            inputs = outputs
    return nn.Sequential(*layers, norm(inputs, 1280, 1), nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(1280, 1000))


def residual():
    layers, inputs = [norm(3, 64, 7, 2), nn.MaxPool2d(3, 2, 1)], 64
    for outputs, stride in ((64, 1), (64, 1), (128, 2), (128, 1), (256, 2), (256, 1), (512, 2), (512, 1)):
        body = nn.Sequential(norm(inputs, outputs, 3, stride), norm(outputs, outputs, 3, last=nn.Identity))
        side = norm(inputs, outputs, 1, stride, last=nn.Identity) if stride > 1 else None
        layers += [Residual(body, side), nn.ReLU()]
        inputs = outputs
    return nn.Sequential(*layers, nn.AdaptiveAvgPool2d(1), nn.Flatten(), nn.Linear(512, 1000))


def make_artifact(network, folder, name):
    torch.manual_seed(0)
    example = (torch.randn(2, 3, 224, 224),)
    batch = torch.export.Dim("batch", min=1)
    program = torch.export.export(network.eval(), example, dynamic_shapes=({0: batch},))
    torch.export.save(program, folder / f"{name}.pt2")
    convert(folder / f"{name}.pt2", folder / f"{name}.onnx", parse_inlet(INLET, "the inlet"))
    return folder / f"{name}.onnx"


def plain_loop(paths, engine):
    """What a careful person writes: one image at a time."""
    for path in paths:
        picture = ImageOps.exif_transpose(Image.open(path)).convert("RGB")
        width, height = picture.size
        short = min(width, height)
        picture = picture.resize((256 * width // short, 256 * height // short), Image.Resampling.BILINEAR)
        left, top = (picture.width - 224) // 2, (picture.height - 224) // 2
        picture = picture.crop((left, top, left + 224, top + 224))
        numbers = (np.asarray(picture, np.float32) / 255 - MEAN) / STD
        int(engine.run(np.ascontiguousarray(numbers.transpose(2, 0, 1))[None])[0].argmax())


class Runs:
    """What is timed, each over all the photographs."""

    def __init__(self, artifact, paths, folder):
        self.paths, self.folder, self.classifier = paths, folder, open_artifact(artifact)
        self.whole_engine, self.calls = RuntimeEngine(artifact), 0
        self.batch = np.stack([self.classifier.read(path).tensor for path in paths[:BATCH]])

    def whole(self):
        self.calls += 1
        with open_predictions(
            self.folder / f"{self.classifier.path.stem}{self.calls}.csv", Classification(self.classifier), self.paths
        ) as file:
            for _ in file.write_rest():
                pass

    def loop(self):
        plain_loop(self.paths, self.whole_engine)

    def reading(self, cores):
        with ThreadPoolExecutor(cores) as pool:
            list(pool.map(self.classifier.read, self.paths))

    def inference(self, cores):
        with ThreadPoolExecutor(cores) as pool:
            list(pool.map(lambda _: self.classifier.scores(self.batch), range(len(self.paths) // BATCH)))


def main(rounds=9):
    cores = allowed_cores()
    with tempfile.TemporaryDirectory() as name:
        folder, paths = Path(name), []
        for place in range(IMAGES):
            paths.append(str(folder / f"{place}.jpg"))
            draw_mark(9, place, (816, 612))[0].save(paths[-1], quality=88)
        size = sum(Path(path).stat().st_size for path in paths) / len(paths)
        print(
            f"{IMAGES} photographs of 816 x 612, {size / 1e3:.0f} kB each, {PASSES} times; {cores} cores; "
            f"{rounds} rounds"
        )
        for network in (mobile, residual):
            runs = Runs(make_artifact(network(), folder, network.__name__), paths * PASSES, folder)
            named = {
                "whole": runs.whole,
                "loop": runs.loop,
                "read 1": lambda runs=runs: runs.reading(1),
                "infer 1": lambda runs=runs: runs.inference(1),
                "read all": lambda runs=runs: runs.reading(cores),
                "infer all": lambda runs=runs: runs.inference(cores),
            }
            report(network.__name__, rates(named, rounds))


def rates(runs, rounds):
    """Images a second of each, [rounds], taken in turn and every other round backwards."""
    chosen = {name: [] for name in runs}
    for run in runs.values():
        run()
    for turn in range(rounds):
        for name in list(runs) if turn % 2 else reversed(runs):
            # Threads of the runtime go on turning for a moment after a run.
            time.sleep(0.1)
            began = time.perf_counter()
            runs[name]()
            chosen[name].append(IMAGES * PASSES / (time.perf_counter() - began))
    return {name: np.array(each) for name, each in chosen.items()}


def report(name, rate):
    half = np.minimum(rate["read 1"], rate["infer 1"])
    overall = 1 / (1 / rate["read all"] + 1 / rate["infer all"])
    print(f"{name}: " + ", ".join(f"{what} {np.median(each):.1f}/s" for what, each in rate.items()))
    for what, other in (
        ("the slower half on a core of its own", half),
        ("what both halves allow together", overall),
        ("the plain loop", rate["loop"]),
    ):
        ratio = rate["whole"] / other
        low, middle, high = np.percentile(ratio, [25, 50, 75])
        print(f"  {middle:.2f} of {what} (middle half of the rounds {low:.2f} to {high:.2f})")


if __name__ == "__main__":
    main(*map(int, sys.argv[1:]))
