"""The preprocessing of the second model's training side, as its authors wrote it: an image file to a tensor."""

import numpy as np
from PIL import Image


def load_image(path):
    """The array [48, 64, 3] of an image file, from -1 to 1."""
    picture = Image.open(path).convert("RGB").resize((64, 48), Image.Resampling.BICUBIC)
    return np.asarray(picture, dtype=np.float32) / 127.5 - 1
