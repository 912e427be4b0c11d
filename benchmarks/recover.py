"""How many inlets, drawn at random from everything that an inlet can say, are recovered from 12 images.

    python benchmarks/recover.py [COUNT] [FIRST]

The images are the demo's and collages of them in larger sizes; every set has turned, see-through, grey
and 16-bit ones. A recovery is exact if it makes the recorded tensors of all 12 images to a hundredth of
a grey level: what is then left to choose, these images cannot tell.
"""

import random
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from PIL import Image

import zygal.demo
from zygal.errors import ImageError
from zygal.inlet import Blur, Crop, Decode, Inlet, Pad, Resize, Tensor, Values, apply_inlet, format_inlet, parse_inlet
from zygal.inlet import specification as spec
from zygal.inlet.edits import GREY_FORMULAS, effective, effective_decode, fits_together
from zygal.inlet.recovery import recover_inlet
from zygal.inlet.recovery.conventions import CONVENTIONS, in_the_way_of
from zygal.inlet.specification import departures

REFERENCE = sorted((Path(zygal.demo.__file__).parent / "data" / "reference").iterdir())


def draw_images(draw, folder):
    """12 files: 6 of the demo, 4 collages as photographs, one of them turned, one see-through and one 16-bit image."""
    paths = []
    for path in draw.sample(REFERENCE, 6):
        paths.append(folder / path.name)
        paths[-1].write_bytes(path.read_bytes())
    for number in range(6):
        size = (draw.randint(150, 700), draw.randint(150, 700))
        canvas = Image.new("RGB", size)
        for left in range(0, size[0], 150):
            for top in range(0, size[1], 110):
                tile = Image.open(draw.choice(REFERENCE)).convert("RGB")
                canvas.paste(tile.resize((160, 120)) if draw.random() < 0.5 else tile, (left, top))
        if number == 4:
            canvas.putalpha(canvas.convert("L").point(lambda level: 255 if level > 120 else level))
        if number == 5:
            grey = np.asarray(canvas.convert("L")).astype(np.uint16)
            canvas = Image.fromarray(grey * 200 + np.uint16(draw.randrange(3000)))
        exif = Image.Exif()
        exif[0x0112] = draw.choice([6, 8, 3]) if number == 3 else 1
        paths.append(folder / f"collage-{number}.{'png' if number >= 3 else 'jpg'}")
        canvas.save(paths[-1], exif=exif, **({"quality": 92} if number < 3 else {}))
    return paths


def draw_resize(draw, **to):
    """Half of them a library's own convention, half any mixture of keys that the format allows.

    "area-linear" is what OpenCV does where a side grows, and is left out here, where nearly all shrink.
    """
    sized = Resize(**to, long_side=draw.choice(spec.LONG_SIDES[:3]))
    if draw.random() < 0.5:
        step = in_the_way_of(sized, draw.choice([way for way in CONVENTIONS if way.filter != "area-linear"]))
        if sized.size is None and step.grid != "corners" and draw.random() < 0.3:
            step = replace(step, grid_scale="factor")
        return effective(step)
    filter = draw.choice([name for name in spec.FILTERS if name != "area-linear"])
    antialias = draw.random() < 0.6
    grid = "half-pixel" if antialias or draw.random() < 0.6 else draw.choice(spec.GRIDS)
    rounding = draw.choice(spec.ROUNDINGS)
    if rounding.startswith("fixed"):
        filter, antialias = draw.choice(spec.FIXED_POINT[:-1]), False
    return effective(
        replace(
            sized,
            filter=filter,
            grid=grid,
            antialias=antialias,
            edges=draw.choice(spec.EDGES) if not antialias else "inside",
            cubic=draw.choice(spec.CUBICS),
            rounding=rounding,
            scale=draw.choice(spec.SCALES),
        )
    )


def draw_frame(draw):
    side = draw.choice([32, 48, 64, 96, 128])
    size = (side, side) if draw.random() < 0.7 else (side, draw.choice([40, 56, 80]))
    margin = draw.choice([1.0, 1.05, 1.125, 8 / 7, 1.2, 1.3])
    centring = draw.choice(["down", "nearest", "up"])
    larger = tuple(round(each * margin) for each in size)
    rounding = draw.choice(spec.FRACTION_ROUNDINGS)
    edge = draw.randint(2, 9)
    kinds = {
        "box": lambda: (
            effective(replace(draw_resize(draw, size=size), box=draw.choice(["aspect", "aspect-pixels"]))),
        ),
        "cover": lambda: (draw_resize(draw, cover=size), Crop(size, centring)),
        "part of the aspect": lambda: (
            Crop(aspect=size, fraction=draw.choice([0.875, 0.9]), centring=centring),
            draw_resize(draw, size=size),
        ),
        "margins": lambda: (Crop(margins=(edge,) * 4), draw_resize(draw, size=size)),
        "blur": lambda: (Blur(taps=5, kind="binomial", rounding="fixed-8bit"), draw_resize(draw, size=size)),
        "crop and pad": lambda: (Crop((200, 200), missing="#000000"), draw_resize(draw, size=size)),
        "equal pads": lambda: (Pad(aspect=(1, 1), centring="equal"), draw_resize(draw, size=size)),
        "exact": lambda: (draw_resize(draw, size=size),),
        "short side": lambda: (draw_resize(draw, short_side=round(max(size) * margin)), Crop(size, centring)),
        "squash and crop": lambda: (draw_resize(draw, size=larger), Crop(size, centring)),
        "part": lambda: (
            effective(
                Crop(fraction=draw.choice([0.875, 0.9, 0.8, 0.95]), fraction_rounding=rounding, centring=centring)
            ),
            draw_resize(draw, size=size),
        ),
        "proportions": lambda: (Crop(aspect=size, centring=centring), draw_resize(draw, size=size)),
        "within": lambda: (
            draw_resize(draw, within=size),
            Pad(
                size,
                colour=draw.choice(["#000000", "#727272", "#ffffff", "#7b7467"]),
                centring=draw.choice([centring, "start"]),
            ),
        ),
        "pad first": lambda: (Pad(aspect=size, colour="#808080", centring=centring), draw_resize(draw, size=size)),
        "crop only": lambda: (Crop((64, 64), draw.choice([centring, "start"])),),
        "crop first": lambda: (Crop((90, 90), centring), draw_resize(draw, size=size)),
    }
    return kinds[draw.choice(list(kinds))]()


def draw_inlet(draw):
    colour = draw.choice(["rgb", "rgb", "bgr", "grey"])
    decode = Decode(
        colour,
        draw.choice(spec.EXIF),
        draw.choice(["drop", "#ffffff", "#000000", "#336699"]),
        draw.choice(GREY_FORMULAS),
        draw.choice(spec.GREY_ROUNDINGS),
        1,
        draw.choice(spec.SIXTEEN_BIT[1:]),
        draw.choice(["as-is", "as-is", "inverted"]),
        draw.choice(["none", "none", *spec.MIRRORS]),
        draw.choice(["accurate", "accurate", "fast"]),
        None,
        draw.choice(["colour", "colour", "luma"]),
        draw.choice(["first", "first", "grey-after-resize"]),
    )
    channels = draw.choice([1, 3]) if colour == "grey" else 3
    decode = effective_decode(decode, channels)
    mean, std = (tuple(round(draw.uniform(0.2, 0.6), 3) for _ in range(channels)) for _ in "ab")
    values = draw.choice(
        [
            Values(),
            Values((0.0, 255.0)),
            Values((-1.0, 1.0)),
            Values(mean=mean, std=std),
            Values(mean=mean),
            Values((0.0, 255.0), tuple(round(255 * each, 2) for each in mean)),
            Values((-0.5, 0.5)),
            Values(per_image=draw.choice(spec.PER_IMAGE)),
        ]
    )
    tensor = Tensor(draw.choice(spec.LAYOUTS))
    if draw.random() < 0.1:
        values, tensor = Values((0.0, 255.0)), Tensor(tensor.layout, "uint8")
    return Inlet(decode, draw_frame(draw), values, tensor)


def main():
    count, first = (
        (int(text) for text in [*sys.argv[1:], "60", "0"][:2]) if len(sys.argv) != 2 else (int(sys.argv[1]), 0)
    )
    exact, within_half, seconds, wall = 0, 0, [], []
    for seed in range(first, first + count):
        with tempfile.TemporaryDirectory() as name:
            draw = random.Random(seed)
            paths = draw_images(draw, Path(name))
            while True:
                inlet = draw_inlet(draw)
                if not fits_together(inlet):
                    continue
                try:
                    tensors = np.stack([apply_inlet(path, inlet).tensor for path in paths])
                    assert parse_inlet(format_inlet(inlet), "drawn") == inlet
                    break
                except ImageError:
                    continue
            started, began = time.process_time(), time.perf_counter()
            found = recover_inlet(paths, tensors)
            seconds.append(time.process_time() - started)
            wall.append(time.perf_counter() - began)
        exact += found.residual < 0.01
        within_half += found.residual <= 0.5
        verdict = "exact" if found.residual < 0.01 else f"{found.residual:.3g} grey levels left"
        print(f"{seed:3d} {seconds[-1]:5.1f} s  {verdict}", flush=True)
        if found.residual >= 0.01:
            for field, mine, theirs in departures(found.inlet, inlet):
                print(f"      {field}: found {mine}, true {theirs}")
    print(
        f"{exact} of {count} exact, {within_half} within half a grey level; "
        f"{np.median(wall):.1f} s in the median, {max(wall):.1f} s at most ({np.median(seconds):.1f} s of "
        f"processor time)"
    )


if __name__ == "__main__":
    main()
