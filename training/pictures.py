"""Drawn pictures as the training side reads them: through real files and its own preprocessing."""

import multiprocessing
import tempfile
from functools import partial

import numpy as np

from zygal.demo.marks import draw_mark

TRAINING_SERIES, UNSEEN_SERIES = 1, 2


def tensor_of(load_image, series, index):
    """One drawn picture through a real file, and its label."""
    picture, label = draw_mark(series, index)
    with tempfile.NamedTemporaryFile(suffix=".png") as file:
        picture.save(file, "png")
        file.flush()
        return load_image(file.name), label


def draw_set(load_image, series, count, start_method=None):
    """Tensors [count, ...] and labels [count], drawn by all processors."""
    with multiprocessing.get_context(start_method).Pool() as pool:
        drawn = pool.map(partial(tensor_of, load_image, series), range(count), chunksize=50)
    return np.stack([image for image, _ in drawn]), np.array([label for _, label in drawn])
