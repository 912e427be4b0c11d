"""The preprocessing of the training side, as its authors wrote it: an image file to a tensor."""

import numpy as np
from PIL import Image, ImageOps

MEAN = (0.46, 0.48, 0.50)
STD = (0.24, 0.23, 0.25)


def load_image(path):
    """The array [3, 64, 64] of an image file, normalised."""
    picture = ImageOps.exif_transpose(Image.open(path))
    if "transparency" in picture.info or picture.mode in ("RGBA", "LA"):
        white = Image.new("RGBA", picture.size, "white")
        picture = Image.alpha_composite(white, picture.convert("RGBA"))
    picture = picture.convert("RGB")
    width, height = picture.size
    if width <= height:
        size = (72, int(72 * height / width))
    else:
        size = (int(72 * width / height), 72)
    picture = picture.resize(size, Image.Resampling.BILINEAR)
    left, top = (size[0] - 64) // 2, (size[1] - 64) // 2
    picture = picture.crop((left, top, left + 64, top + 64))
    pixels = np.asarray(picture, dtype=np.float32) / 255
    pixels = (pixels - np.array(MEAN, np.float32)) / np.array(STD, np.float32)
    return pixels.transpose(2, 0, 1)
