"""Whether the true cause is named first: 40 sabotaged inlets, 20 with one mistake and 20 with two at once.

    python benchmarks/causes.py [COUNT]

A recording is made by a right inlet on the demo's images, the sabotaged one is checked against it. Named first
means: each finding is one of the mistakes, every mistake is a finding, and the corrected inlet makes the tensors.
"""

import random
import sys
import time
from dataclasses import replace
from pathlib import Path

import numpy as np

import zygal
import zygal.demo
from zygal.evidence.causes import find_cause
from zygal.inlet import Crop, Decode, Inlet, Pad, Resize, Values, apply_inlet
from zygal.inlet.sizes import fixed_size
from zygal.inlet.specification import departures

REFERENCE = Path(zygal.demo.__file__).parent / "data" / "reference"
PHOTO = Values(mean=(0.46, 0.48, 0.5), std=(0.24, 0.23, 0.25))
RIGHT = (
    Inlet(Decode("rgb", "apply", "#ffffff"), (Resize(72), Crop((64, 64))), PHOTO),
    Inlet(Decode("rgb", "apply"), (Resize(size=(64, 64), filter="bicubic"),), Values((-1.0, 1.0))),
    Inlet(
        Decode("bgr", "ignore", "#000000"),
        (Resize(80, filter="bilinear", antialias=False, rounding="fixed"), Crop((72, 72))),
        Values((0.0, 255.0), (103.9, 116.8, 123.7)),
    ),
    Inlet(Decode("rgb", "apply", "#808080"), (Resize(within=(64, 64), filter="lanczos"), Pad((64, 64))), PHOTO),
)


def decode(**choice):
    return lambda inlet: replace(inlet, decode=replace(inlet.decode, **choice))


def resize(**choice):
    return lambda inlet: replace(
        inlet, frame=tuple(replace(step, **choice) if isinstance(step, Resize) else step for step in inlet.frame)
    )


def squashed(inlet):
    return replace(inlet, frame=(replace(inlet.frame[0], short_side=None, within=None, size=fixed_size(inlet)),))


def resized_larger(inlet):
    step, size = inlet.frame[0], fixed_size(inlet)
    return replace(inlet, frame=(replace(step, short_side=round(1.3 * max(size)), size=None, within=None), Crop(size)))


MISTAKES = {
    "decode.colour": lambda inlet: decode(colour="bgr" if inlet.decode.colour == "rgb" else "rgb")(inlet),
    "decode.exif": lambda inlet: decode(exif="ignore" if inlet.decode.exif == "apply" else "apply")(inlet),
    "decode.transparency": lambda inlet: decode(
        transparency="drop" if inlet.decode.transparency != "drop" else "#ffffff"
    )(inlet),
    "decode.polarity": decode(polarity="inverted"),
    "decode.mirror": lambda inlet: decode(mirror="horizontal")(inlet),
    "values": lambda inlet: replace(
        inlet, values=Values((0.0, 255.0)) if inlet.values.range == (0.0, 1.0) else Values()
    ),
    "filter": lambda inlet: resize(
        filter="bicubic" if inlet.frame[0].filter == "bilinear" else "bilinear", rounding="passes"
    )(inlet),
    "antialias": lambda inlet: resize(antialias=not inlet.frame[0].antialias, rounding="passes")(inlet),
    "frame: squashed": squashed,
    "frame: larger": resized_larger,
}


def drawn(draw, double):
    """A right inlet, a wrong one, and the names of the mistakes."""
    while True:
        right = draw.choice(RIGHT)
        names = draw.sample(list(MISTAKES), 2 if double else 1)
        wrong = right
        for name in names:
            wrong = MISTAKES[name](wrong)
        frames = sum(name.startswith("frame") for name in names) + ("filter" in names) + ("antialias" in names)
        if frames <= 1 and wrong != right and wrong.channels == right.channels:
            return right, wrong, names


def main():
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 40
    draw, good, seconds = random.Random(5), 0, []
    names = [path.name for path in sorted(REFERENCE.iterdir())]
    for number in range(count):
        right, wrong, mistakes = drawn(draw, number % 2)
        made = [apply_inlet(REFERENCE / name, right).tensor for name in names]
        witness = zygal.Witness.from_arrays(np.eye(len(names)), names, REFERENCE, np.stack(made))
        started = time.process_time()
        cause = find_cause(witness, wrong, REFERENCE, dict.fromkeys(range(len(names)), None), 0.5)
        seconds.append(time.process_time() - started)
        true = {name for name, *_ in departures(right, wrong)}
        stages = {
            "values" if name.startswith("values") else "frame" if name.startswith("frame") else name for name in true
        }
        told = [] if cause is None else [next((s for s in stages if s in finding), None) for finding in cause.findings]
        named = bool(told) and None not in told and set(told) == stages
        good += named
        print(f"{number:3d} {seconds[-1]:5.1f} s  {'named' if named else 'MISSED'}  {' + '.join(mistakes)}", flush=True)
        if not named:
            print("      ", cause and cause.findings)
    print(
        f"{good} of {count} causes named first; {np.median(seconds):.1f} s of processor time in the median, "
        f"{max(seconds):.1f} s at most"
    )


if __name__ == "__main__":
    main()
