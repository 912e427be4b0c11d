"""What the pipelines of all libraries share: their table, and the usual last steps."""

import numpy as np
from PIL import Image

PIPELINES = {}
MEAN, STD = [0.485, 0.456, 0.406], [0.229, 0.224, 0.225]


def add(library, name, pipeline):
    PIPELINES[f"{library}.{name}"] = pipeline


def pipe(library):
    """Adds a function by its name."""

    def decorate(pipeline):
        add(library, pipeline.__name__, pipeline)
        return pipeline

    return decorate


def rgb_image(path):
    return Image.open(path).convert("RGB")


def normalised(pixels):
    """[3, H, W], by the usual means and deviations."""
    return ((np.asarray(pixels, np.float32) / 255 - np.float32(MEAN)) / np.float32(STD)).transpose(2, 0, 1)


def as_part(pixels):
    return np.asarray(pixels, np.float32) / 255
