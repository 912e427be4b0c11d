"""Pipelines of TensorFlow, Keras and JAX."""

import jax
import jax.numpy as jnp
import keras
import numpy as np
import tensorflow as tf
from keras.utils import img_to_array, load_img
from pipelines import add, rgb_image

add("keras", "load_nearest", lambda p: img_to_array(load_img(p, target_size=(224, 224))) / 255)
add(
    "keras",
    "load_bilinear",
    lambda p: img_to_array(load_img(p, target_size=(224, 224), interpolation="bilinear")) / np.float32(127.5) - 1,
)
add("keras", "load_lanczos", lambda p: img_to_array(load_img(p, target_size=(150, 150), interpolation="lanczos")) / 255)
add(
    "keras",
    "load_grey",
    lambda p: img_to_array(load_img(p, color_mode="grayscale", target_size=(96, 96), interpolation="bicubic")) / 255,
)
add(
    "keras",
    "load_keep",
    lambda p: img_to_array(load_img(p, target_size=(224, 224), interpolation="bilinear", keep_aspect_ratio=True)) / 255,
)
add(
    "keras",
    "load_keep_rect",
    lambda p: img_to_array(load_img(p, target_size=(192, 256), interpolation="bicubic", keep_aspect_ratio=True)),
)
add(
    "keras",
    "caffe",
    lambda p: keras.applications.imagenet_utils.preprocess_input(
        img_to_array(load_img(p, target_size=(224, 224))).copy(), mode="caffe", data_format="channels_last"
    ),
)
add(
    "keras",
    "smart",
    lambda p: np.asarray(keras.preprocessing.image.smart_resize(img_to_array(load_img(p)), (224, 224))) / 255,
)
add(
    "keras",
    "smart_rect",
    lambda p: (
        np.asarray(
            keras.preprocessing.image.smart_resize(img_to_array(load_img(p)), (160, 240), interpolation="bicubic")
        )
        / 255
    ),
)
KR = keras.layers.Resizing


def layer(made):
    return lambda p: np.asarray(made(img_to_array(load_img(p))[None])[0])


add("keras", "Resizing", layer(KR(224, 224)))
add("keras", "Resizing_crop", layer(KR(224, 224, crop_to_aspect_ratio=True)))
add("keras", "Resizing_pad", layer(KR(224, 224, pad_to_aspect_ratio=True)))
add("keras", "Resizing_crop_rect", layer(KR(192, 256, crop_to_aspect_ratio=True)))
add("keras", "CenterCrop", layer(keras.layers.CenterCrop(224, 224)))


def decoded(p):
    return tf.io.decode_image(tf.io.read_file(str(p)), channels=3, expand_animations=False)


def pixels(p):
    return tf.constant(np.array(rgb_image(p)))


for k in ["bilinear", "nearest", "bicubic", "area", "lanczos3", "lanczos5", "mitchellcubic", "gaussian"]:
    add(
        "tf",
        "rs_" + k,
        lambda p, k=k: tf.image.resize(pixels(p), (224, 224), method=k).numpy().astype(np.float32) / 255,
    )
    if k in ("bilinear", "bicubic"):
        add(
            "tf",
            "aa_" + k,
            lambda p, k=k: tf.image.resize(pixels(p), (224, 224), method=k, antialias=True).numpy() / np.float32(255),
        )
add(
    "tf",
    "mitchell_aa",
    lambda p: tf.image.resize(pixels(p), (224, 224), method="mitchellcubic", antialias=True).numpy() / np.float32(255),
)
add(
    "tf",
    "gauss_aa",
    lambda p: tf.image.resize(pixels(p), (224, 224), method="gaussian", antialias=True).numpy() / np.float32(255),
)
add("tf", "with_pad", lambda p: tf.image.resize_with_pad(pixels(p), 224, 224).numpy() / np.float32(255))
add(
    "tf",
    "with_pad_rect",
    lambda p: tf.image.resize_with_pad(pixels(p), 192, 256, method="bicubic", antialias=True).numpy() / np.float32(255),
)
add(
    "tf",
    "crop_or_pad",
    lambda p: (
        tf.image.resize(tf.cast(tf.image.resize_with_crop_or_pad(pixels(p), 700, 700), tf.float32), (224, 224)).numpy()
        / np.float32(255)
    ),
)
add(
    "tf",
    "crop_or_pad_only",
    lambda p: tf.cast(tf.image.resize_with_crop_or_pad(pixels(p), 224, 224), tf.float32).numpy() / np.float32(255),
)
add(
    "tf",
    "central875",
    lambda p: tf.image.resize(tf.image.central_crop(pixels(p), 0.875), (224, 224)).numpy() / np.float32(127.5) - 1,
)
add("tf", "standard", lambda p: tf.image.per_image_standardization(tf.image.resize(pixels(p), (224, 224))).numpy())


def goog(p):
    x = pixels(p)
    h, w = x.shape[:2]
    s = int(224 / (224 + 32) * min(h, w))
    return tf.image.resize(
        x[((h - s) + 1) // 2 : ((h - s) + 1) // 2 + s, ((w - s) + 1) // 2 : ((w - s) + 1) // 2 + s],
        (224, 224),
        method="bicubic",
    ).numpy() / np.float32(255)


add("tf", "google_crop", goog)
add("tf", "jpeg_bilinear", lambda p: tf.image.resize(decoded(p), (224, 224)).numpy() / np.float32(255))
add(
    "tf",
    "jpeg_crop",
    lambda p: tf.cast(tf.image.resize_with_crop_or_pad(decoded(p), 300, 300), tf.float32).numpy() / np.float32(255),
)
add(
    "tf",
    "jpeg_aa",
    lambda p: tf.image.resize(decoded(p), (224, 224), antialias=True, method="bicubic").numpy() / np.float32(127.5) - 1,
)
add(
    "tf",
    "v1_bilinear",
    lambda p: tf.compat.v1.image.resize_bilinear(pixels(p)[None], (224, 224))[0].numpy() / np.float32(255),
)
add(
    "tf",
    "v1_align",
    lambda p: (
        tf.compat.v1.image.resize_bilinear(pixels(p)[None], (224, 224), align_corners=True)[0].numpy() / np.float32(255)
    ),
)
add(
    "tf",
    "v1_nearest",
    lambda p: (
        tf.compat.v1.image.resize_nearest_neighbor(pixels(p)[None], (224, 224))[0].numpy().astype(np.float32)
        / np.float32(255)
    ),
)
add(
    "tf",
    "v1_bicubic",
    lambda p: tf.compat.v1.image.resize_bicubic(pixels(p)[None], (224, 224))[0].numpy() / np.float32(255),
)
add("tf", "grey", lambda p: tf.image.resize(tf.image.rgb_to_grayscale(pixels(p)), (96, 96)).numpy() / np.float32(255))
add(
    "tf",
    "grey_after",
    lambda p: tf.image.rgb_to_grayscale(tf.image.resize(pixels(p), (96, 96))).numpy() / np.float32(255),
)


def crop_resize(p):
    x = tf.cast(pixels(p), tf.float32)[None]
    return tf.image.crop_and_resize(x, [[0.1, 0.1, 0.9, 0.9]], [0], (224, 224))[0].numpy() / np.float32(255)


add("tf", "crop_and_resize", crop_resize)

for k in ["linear", "cubic", "lanczos3"]:
    add(
        "jax",
        k,
        lambda p, k=k: (
            np.asarray(jax.image.resize(jnp.asarray(np.array(rgb_image(p)), jnp.float32), (224, 224, 3), k))
            / np.float32(255)
        ),
    )
add(
    "jax",
    "linear_noaa",
    lambda p: (
        np.asarray(
            jax.image.resize(jnp.asarray(np.array(rgb_image(p)), jnp.float32), (224, 224, 3), "linear", antialias=False)
        )
        / np.float32(255)
    ),
)
