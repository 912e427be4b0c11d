"""Pipelines of OpenCV."""

import cv2
import numpy as np
from pipelines import add, as_part, normalised


def opencv_bgr(p):
    return cv2.imread(str(p))


def opencv_rgb(p):
    return cv2.cvtColor(cv2.imread(str(p)), cv2.COLOR_BGR2RGB)


resize = cv2.resize
for k, i in dict(linear=1, nearest=0, cubic=2, area=3, lanczos=4, linear_exact=5, nearest_exact=6).items():
    add("cv", "rs_" + k, lambda p, i=i: normalised(resize(opencv_rgb(p), (224, 224), interpolation=i)))
add("cv", "f_linear", lambda p: resize(opencv_rgb(p).astype(np.float32) / 255, (224, 224)).transpose(2, 0, 1))
add(
    "cv",
    "f_cubic",
    lambda p: resize(opencv_rgb(p).astype(np.float32) / 255, (224, 224), interpolation=2).transpose(2, 0, 1),
)
add("cv", "f_area", lambda p: resize(opencv_rgb(p).astype(np.float32), (224, 224), interpolation=3) / 127.5 - 1)
add("cv", "f_lanczos", lambda p: resize(opencv_rgb(p).astype(np.float32), (224, 224), interpolation=4) / 255)
add(
    "cv",
    "bgr_mean",
    lambda p: (
        (resize(opencv_bgr(p), (224, 224)).astype(np.float32) - [104, 117, 123]).astype(np.float32).transpose(2, 0, 1)
    ),
)
add("cv", "blob", lambda p: cv2.dnn.blobFromImage(opencv_bgr(p), 1 / 255, (224, 224), swapRB=True, crop=False)[0])
add(
    "cv",
    "blob_mean",
    lambda p: cv2.dnn.blobFromImage(opencv_bgr(p), 1.0, (224, 224), (104, 117, 123), swapRB=False, crop=False)[0],
)
add("cv", "blob_crop", lambda p: cv2.dnn.blobFromImage(opencv_bgr(p), 1 / 255, (224, 224), swapRB=True, crop=True)[0])
add(
    "cv",
    "blob_crop_rect",
    lambda p: cv2.dnn.blobFromImage(opencv_bgr(p), 1 / 127.5, (256, 192), (127.5,) * 3, swapRB=True, crop=True)[0],
)


def fxy(p, i=1, t=256, s=224):
    im = opencv_rgb(p)
    f = t / min(im.shape[:2])
    im = resize(im, None, fx=f, fy=f, interpolation=i)
    h, w = im.shape[:2]
    a, b = (h - s) // 2, (w - s) // 2
    return normalised(im[a : a + s, b : b + s])


add("cv", "fxy", fxy)
add("cv", "fxy_area", lambda p: fxy(p, 3))
add("cv", "fxy_cubic", lambda p: fxy(p, 2, 236))


def half(p):
    im = resize(opencv_rgb(p), None, fx=0.5, fy=0.5)
    h, w = im.shape[:2]
    a, b = (h - 224) // 2, (w - 224) // 2
    return normalised(im[a : a + 224, b : b + 224])


add("cv", "half", half)


def short(p, i=1):
    im = opencv_rgb(p)
    h, w = im.shape[:2]
    s = 256 / min(h, w)
    im = resize(im, (int(w * s), int(h * s)), interpolation=i)
    h, w = im.shape[:2]
    return normalised(im[(h - 224) // 2 : (h - 224) // 2 + 224, (w - 224) // 2 : (w - 224) // 2 + 224])


add("cv", "short", short)
add(
    "cv",
    "short_round",
    lambda p: (
        lambda im: (
            lambda h, w: (
                lambda im2: normalised(
                    im2[
                        (im2.shape[0] - 224) // 2 : (im2.shape[0] - 224) // 2 + 224,
                        (im2.shape[1] - 224) // 2 : (im2.shape[1] - 224) // 2 + 224,
                    ]
                )
            )(resize(im, (round(w * 256 / min(h, w)), round(h * 256 / min(h, w))), interpolation=3))
        )(*im.shape[:2])
    )(opencv_rgb(p)),
)


def letter(p, fill=114, i=1):
    im = opencv_rgb(p)
    h, w = im.shape[:2]
    r = min(224 / h, 224 / w)
    nw, nh = round(w * r), round(h * r)
    dw, dh = (224 - nw) / 2, (224 - nh) / 2
    im = resize(im, (nw, nh), interpolation=i)
    t, b = round(dh - 0.1), round(dh + 0.1)
    left, right = round(dw - 0.1), round(dw + 0.1)
    return as_part(cv2.copyMakeBorder(im, t, b, left, right, cv2.BORDER_CONSTANT, value=(fill,) * 3)).transpose(2, 0, 1)


add("cv", "letter", letter)
add("cv", "letter_area", lambda p: letter(p, 0, 3))


def square(p):
    im = opencv_rgb(p)
    h, w = im.shape[:2]
    s = max(h, w)
    c = np.zeros((s, s, 3), np.uint8)
    c[(s - h) // 2 : (s - h) // 2 + h, (s - w) // 2 : (s - w) // 2 + w] = im
    return as_part(resize(c, (224, 224)))


add("cv", "square", square)


def replicate(p):
    im = opencv_rgb(p)
    h, w = im.shape[:2]
    s = max(h, w)
    top, left = (s - h) // 2, (s - w) // 2
    return as_part(
        resize(
            cv2.copyMakeBorder(im, top, s - h - top, left, s - w - left, cv2.BORDER_REPLICATE),
            (224, 224),
            interpolation=3,
        )
    )


add("cv", "replicate", replicate)
add("cv", "grey_read", lambda p: as_part(resize(cv2.imread(str(p), 0), (128, 128)))[None])
add("cv", "grey_read_area", lambda p: as_part(resize(cv2.imread(str(p), 0), (28, 28), interpolation=3))[None])
add("cv", "grey_after", lambda p: as_part(cv2.cvtColor(resize(opencv_bgr(p), (128, 128)), cv2.COLOR_BGR2GRAY))[None])
add("cv", "grey_before", lambda p: as_part(resize(cv2.cvtColor(opencv_bgr(p), cv2.COLOR_BGR2GRAY), (128, 128)))[None])
add("cv", "blur", lambda p: normalised(resize(cv2.GaussianBlur(opencv_rgb(p), (5, 5), 0), (224, 224))))
add("cv", "two", lambda p: normalised(resize(resize(opencv_rgb(p), (256, 256)), (224, 224), interpolation=3)))
add(
    "cv",
    "reduced",
    lambda p: normalised(
        resize(cv2.cvtColor(cv2.imread(str(p), cv2.IMREAD_REDUCED_COLOR_2), cv2.COLOR_BGR2RGB), (224, 224))
    ),
)
add("cv", "upscale_area", lambda p: normalised(resize(opencv_rgb(p)[200:300, 200:330], (224, 224), interpolation=3)))


def centre_up(p, i):
    im = opencv_rgb(p)
    h, w = im.shape[:2]
    a, b = (h - 150) // 2, (w - 150) // 2
    return normalised(resize(im[a : a + 150, b : b + 150], (224, 224), interpolation=i))


for k, i in dict(linear=1, cubic=2, area=3, lanczos=4).items():
    add("cv", "up_" + k, lambda p, i=i: centre_up(p, i))


def stretch(p):
    a = resize(cv2.imread(str(p), 0), (64, 64)).astype(np.float32)
    return ((a - a.min()) / (a.max() - a.min()))[None]


add("cv", "stretch", stretch)


def clahe(p):
    return as_part(cv2.createCLAHE(2.0, (8, 8)).apply(resize(cv2.imread(str(p), 0), (128, 128))))[None]


add("cv", "reject_clahe", clahe)
add("cv", "reject_median", lambda p: normalised(resize(cv2.medianBlur(opencv_rgb(p), 5), (224, 224))))
