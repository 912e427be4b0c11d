"""Pipelines of scikit-image."""

import numpy as np
from pipelines import add, rgb_image
from skimage import color, util
from skimage import transform as tr


def pixels(p):
    return np.array(rgb_image(p))


add("sk", "default", lambda p: tr.resize(pixels(p), (224, 224)).astype(np.float32))
add("sk", "noaa", lambda p: tr.resize(pixels(p), (224, 224), anti_aliasing=False).astype(np.float32))
add(
    "sk",
    "aa",
    lambda p: (
        tr.resize(pixels(p), (224, 224), anti_aliasing=True, preserve_range=True).astype(np.float32) / np.float32(127.5)
        - 1
    ),
)
add("sk", "order0", lambda p: tr.resize(pixels(p), (224, 224), order=0, anti_aliasing=False).astype(np.float32))
add("sk", "order3", lambda p: tr.resize(pixels(p), (224, 224), order=3, anti_aliasing=False).astype(np.float32))
add("sk", "order3_aa", lambda p: tr.resize(pixels(p), (224, 224), order=3, anti_aliasing=True).astype(np.float32))
add(
    "sk",
    "grey_aa",
    lambda p: tr.resize(color.rgb2gray(pixels(p)), (64, 64), anti_aliasing=True).astype(np.float32)[None],
)
add(
    "sk",
    "grey_after",
    lambda p: color.rgb2gray(tr.resize(pixels(p), (64, 64), anti_aliasing=True)).astype(np.float32)[None],
)
add(
    "sk", "constant", lambda p: tr.resize(pixels(p), (224, 224), mode="constant", anti_aliasing=True).astype(np.float32)
)
add(
    "sk",
    "u8",
    lambda p: util.img_as_ubyte(tr.resize(pixels(p), (224, 224), anti_aliasing=True)).astype(np.float32) / 255,
)


def rescale(p):
    x = tr.rescale(pixels(p), 0.4, channel_axis=2, anti_aliasing=True)
    h, w = x.shape[:2]
    return x[(h - 224) // 2 : (h - 224) // 2 + 224, (w - 224) // 2 : (w - 224) // 2 + 224].astype(np.float32)


add("sk", "rescale", rescale)


def localmean(p):
    x = tr.downscale_local_mean(pixels(p)[:600, :600], (3, 3, 1))
    return (x / 255).astype(np.float32)


add("sk", "local_mean", localmean)


def minmaxsk(p):
    x = tr.resize(pixels(p), (128, 128), anti_aliasing=True)
    return ((x - x.min()) / (x.max() - x.min())).astype(np.float32)


add("sk", "minmax", minmaxsk)

add(
    "sk",
    "reject_swirl",
    lambda p: tr.swirl(tr.resize(pixels(p), (128, 128), anti_aliasing=True), strength=2, radius=60).astype(np.float32),
)
