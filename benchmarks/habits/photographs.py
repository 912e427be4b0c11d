"""Photographs in the file forms that people have, cut out of the sample images of scikit-image and scikit-learn."""

import random
from importlib.util import find_spec
from pathlib import Path

from PIL import Image, ImageOps

SAMPLES = {
    "skimage": (
        "astronaut.png",
        "coffee.png",
        "chelsea.png",
        "rocket.jpg",
        "hubble_deep_field.jpg",
        "retina.jpg",
        "ihc.png",
        "motorcycle_left.png",
        "motorcycle_right.png",
    ),
    "sklearn": ("china.jpg", "flower.jpg"),
}
FOLDERS = {"skimage": "data", "sklearn": "datasets/images"}
KINDS = ("4:2:0", "4:4:4", "png", "4:2:0", "grey", "rotated", "4:2:2", "png", "transparent", "palette", "4:2:0", "png")


def sample_images():
    """The sample images of the libraries that are installed."""
    found = []
    for library, names in SAMPLES.items():
        spec = find_spec(library)
        if spec:
            found += [path for name in names if (path := Path(spec.origin).parent / FOLDERS[library] / name).exists()]
    return found


def cut(draw, path, size):
    image = Image.open(path).convert("RGB")
    if image.width < size[0] or image.height < size[1]:
        image = ImageOps.fit(image, tuple(max(sides) for sides in zip(size, image.size)), Image.Resampling.BICUBIC)
    left, top = (draw.randrange(have - want + 1) for have, want in zip(image.size, size))
    return image.crop((left, top, left + size[0], top + size[1]))


def write_photographs(folder, seed, count=12):
    """`count` files of 600 to 900 pixels a side; returns their paths."""
    folder.mkdir(parents=True, exist_ok=True)
    draw, sources = random.Random(seed), sample_images()
    draw.shuffle(sources)
    paths = []
    for number in range(count):
        size = draw.randint(600, 900), draw.randint(600, 900)
        image, kind = cut(draw, sources[number % len(sources)], size), KINDS[number % len(KINDS)]
        paths.append(
            folder
            / f"{number:02d}-{kind.replace(':', '')}.{'png' if kind in ('png', 'transparent', 'palette') else 'jpg'}"
        )
        if kind == "transparent":
            image.putalpha(image.convert("L").point(lambda level: 255 if level > 110 else 2 * level))
        elif kind in ("palette", "grey"):
            image = image.quantize(128) if kind == "palette" else image.convert("L")
        exif = Image.Exif()
        if kind == "rotated":
            exif[0x0112] = 6
        subsampling = {"4:4:4": 0, "4:2:2": 1}.get(kind, 2)
        image.save(
            paths[-1],
            **({"quality": 90, "subsampling": subsampling, "exif": exif} if paths[-1].suffix == ".jpg" else {}),
        )
    return paths
