"""What shrinking to 8 bits costs on trained networks: accuracy on unseen pictures, agreement with float, score error,
size.

    python benchmarks/shrink.py TRAINED_DIR [NETWORK...] [--pictures 2000] [--agree 99%]

TRAINED_DIR holds the programs of training/train.py; the demo's two networks are taken from the package. Each is
calibrated on 200 pictures that neither training nor the test draws. Prints a row for each, and the candidates: none in
float, first and last, and those along the order of measured damage and time. --draw DIR keeps the figures.
"""

import argparse
import sys
import tempfile
from multiprocessing import Pool
from pathlib import Path

import numpy as np

from zygal.classifier.labels import read_labels
from zygal.commands.shrink.execute import execute as shrink
from zygal.commands.shrink.request import ShrinkRequest
from zygal.conversion.convert import convert
from zygal.demo.marks import LABELS, draw_mark
from zygal.engines import run_in_batches
from zygal.engines.artifact import open_engine
from zygal.inlet import apply_to_all, read_inlet
from zygal.inlet.images import list_images
from zygal.tally.paired import paired

DATA = Path(__file__).parents[1] / "src/zygal/demo/data"
UNSEEN, CALIBRATION = 2, 4
NETWORKS = ("channel_marks", "keras", "residual", "gated", "transformer", "large_kernels")


def draw(task):
    folder, series, index = task
    picture, _ = draw_mark(series, index)
    picture.save(Path(folder) / f"{index:05d}.png")


def drawn(folder, series, count):
    folder.mkdir()
    with Pool() as pool:
        pool.map(draw, [(str(folder), series, index) for index in range(count)], chunksize=50)
    return folder


def source_of(name, trained):
    if name == "keras":
        return DATA / "keras/channel_marks.keras", DATA / "keras/channel_marks.inlet.toml"
    return (
        DATA / "channel_marks.pt2" if name == "channel_marks" else trained / f"{name}.pt2"
    ), DATA / "channel_marks.inlet.toml"


def answers(path, tensors):
    return np.concatenate(list(run_in_batches(open_engine(path), tensors, 50)))


def measured(name, trained, folder, unseen, truth, options):
    source, inlet = source_of(name, trained)
    usual, small = folder / f"{name}.onnx", folder / f"{name}.small.onnx"
    convert(source, usual, read_inlet(inlet), read_labels(DATA / "labels.txt"))
    picture = str(Path(options.draw) / f"{name}.png") if options.draw else None
    request = ShrinkRequest(
        artifact=str(usual), output=str(small), images=str(folder / "calibration"), agree=options.agree, draw=picture
    )
    outcome = shrink(request)
    tensors = np.stack(
        [each.tensor for each in apply_to_all([unseen / file for file in list_images(unseen)], read_inlet(inlet))]
    )
    float_top, top = (answers(path, tensors).argmax(axis=1) for path in (usual, small))
    found = paired(top == truth, float_top == truth, int((top != float_top).sum()), 0.005)
    final = outcome.final
    print(
        f"| {name} | {100 * (float_top == truth).mean():.2f} % | {100 * found.difference.value:+.2f} "
        f"({100 * found.difference.low:+.2f} to {100 * found.difference.high:+.2f}), p {found.p_value:.2f} | "
        f"{100 * (top == float_top).mean():.2f} % | {100 * final.error:.2f} % | "
        f"{final.size_bytes / usual.stat().st_size:.3f} | {len(final.kept)} |",
        flush=True,
    )
    choice = outcome.found.choice
    for point in (*choice.points, *([choice.ends] if choice.ends else [])):
        print(
            f"    {point.name:20s} agreement {100 * point.agreement.value:6.2f} %, expected "
            f"{100 * point.expected.value:6.2f} % (at least {100 * point.expected_at_least:.2f} %), error "
            f"{100 * point.error:.3f} %, speed {point.speed.value:.2f}",
            file=sys.stderr,
        )


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("trained", type=Path)
    parser.add_argument("networks", nargs="*", default=NETWORKS)
    parser.add_argument("--pictures", type=int, default=2000)
    parser.add_argument("--agree", type=lambda text: float(text.rstrip("%")) / 100, default=0.99)
    parser.add_argument("--draw")
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        folder = Path(folder)
        drawn(folder / "calibration", CALIBRATION, 200)
        unseen = drawn(folder / "unseen", UNSEEN, options.pictures)
        truth = np.arange(options.pictures) % len(LABELS)
        print(
            f"| network | float accuracy on {options.pictures} unseen | points gained (95 % CI), paired test | "
            f"top-1 equal | score error | size | operators in float |"
        )
        print("|---|---|---|---|---|---|---|")
        for name in options.networks or NETWORKS:
            measured(name, options.trained, folder, unseen, truth, options)


if __name__ == "__main__":
    main()
