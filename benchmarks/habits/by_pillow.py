"""Pipelines of Pillow."""

import numpy as np
from PIL import Image, ImageFilter, ImageOps
from pipelines import add, as_part, normalised, pipe, rgb_image

add("pil", "fit", lambda p: normalised(ImageOps.fit(rgb_image(p), (224, 224))))
add("pil", "fit_lanczos_tall", lambda p: normalised(ImageOps.fit(rgb_image(p), (192, 256), Image.LANCZOS)))
add(
    "pil",
    "fit_bilinear",
    lambda p: as_part(ImageOps.fit(ImageOps.exif_transpose(Image.open(p)).convert("RGB"), (224, 224), Image.BILINEAR)),
)
add("pil", "pad", lambda p: as_part(ImageOps.pad(rgb_image(p), (224, 224))))
add("pil", "pad_grey", lambda p: as_part(ImageOps.pad(rgb_image(p), (256, 192), Image.BILINEAR, color=(128, 128, 128))))
add("pil", "cover_crop", lambda p: as_part(ImageOps.cover(rgb_image(p), (224, 224)).crop((0, 0, 224, 224))))


@pipe("pil")
def thumb(p):
    im = Image.open(p)
    im.thumbnail((224, 224))
    im = im.convert("RGB")
    g = Image.new("RGB", (224, 224))
    g.paste(im, ((224 - im.width) // 2, (224 - im.height) // 2))
    return as_part(g)


@pipe("pil")
def thumb_after(p):
    im = rgb_image(p)
    im.thumbnail((224, 224))
    g = Image.new("RGB", (224, 224), (255, 255, 255))
    g.paste(im, ((224 - im.width) // 2, (224 - im.height) // 2))
    return normalised(g)


@pipe("pil")
def thumb_lanczos_160(p):
    im = Image.open(p)
    im.thumbnail((160, 160), Image.LANCZOS)
    im = im.convert("RGB")
    g = Image.new("RGB", (160, 160))
    g.paste(im, (0, 0))
    return as_part(g)


@pipe("pil")
def thumb_nogap(p):
    im = rgb_image(p)
    im.thumbnail((224, 224), Image.LANCZOS, reducing_gap=None)
    g = Image.new("RGB", (224, 224))
    g.paste(im, ((224 - im.width) // 2, (224 - im.height) // 2))
    return as_part(g)


add("pil", "reducing_gap", lambda p: normalised(rgb_image(p).resize((96, 96), Image.BICUBIC, reducing_gap=2.0)))
add("pil", "reducing_gap3", lambda p: normalised(rgb_image(p).resize((64, 64), Image.LANCZOS, reducing_gap=3.0)))
add("pil", "resize_first", lambda p: as_part(Image.open(p).resize((224, 224)).convert("RGB")))
add(
    "pil",
    "resize_first_bilinear",
    lambda p: normalised(Image.open(p).resize((224, 224), Image.BILINEAR).convert("RGB")),
)
add("pil", "resize_first_L", lambda p: as_part(Image.open(p).resize((64, 64), Image.LANCZOS).convert("L"))[None])
add("pil", "L_after", lambda p: as_part(rgb_image(p).resize((128, 128), Image.BILINEAR).convert("L"))[None])


@pipe("pil")
def draft_L(p):
    im = Image.open(p)
    im.draft("L", im.size)
    return as_part(im.convert("L").resize((128, 128), Image.BILINEAR))[None]


@pipe("pil")
def draft_256(p):
    im = Image.open(p)
    im.draft("RGB", (256, 256))
    return normalised(im.convert("RGB").resize((224, 224), Image.BILINEAR))


@pipe("pil")
def square_crop(p):
    im = rgb_image(p)
    m = min(im.size)
    left, top = (im.width - m) // 2, (im.height - m) // 2
    return as_part(im.crop((left, top, left + m, top + m)).resize((224, 224), Image.LANCZOS))


@pipe("pil")
def square_equal_pad(p):
    im = rgb_image(p)
    w, h = im.size
    s = max(w, h)
    return as_part(ImageOps.expand(im, ((s - w) // 2, (s - h) // 2), 0).resize((224, 224), Image.BILINEAR))


@pipe("pil")
def part875(p):
    im = rgb_image(p)
    m = min(im.size) * 0.875
    w, h = im.size
    m = int(m)
    top, left = (h - m) // 2, (w - m) // 2
    return normalised(im.crop((left, top, left + m, top + m)).resize((224, 224), Image.BICUBIC))


@pipe("pil")
def blur_resize(p):
    return as_part(rgb_image(p).filter(ImageFilter.GaussianBlur(2)).resize((224, 224), Image.BILINEAR))


@pipe("pil")
def two(p):
    return normalised(rgb_image(p).resize((256, 256), Image.BILINEAR).resize((224, 224), Image.BILINEAR))


@pipe("pil")
def border_crop(p):
    im = rgb_image(p)
    return as_part(im.crop((10, 10, im.width - 10, im.height - 10)).resize((224, 224), Image.BILINEAR))


@pipe("pil")
def expand10(p):
    return as_part(ImageOps.expand(rgb_image(p), 20, (255, 255, 255)).resize((224, 224), Image.BICUBIC))


@pipe("pil")
def dark_ground(p):
    a = np.asarray(Image.open(p).convert("L").resize((64, 64), Image.BILINEAR), np.float32)
    b = np.concatenate([a[0], a[-1], a[:, 0], a[:, -1]]).mean()
    return ((255 - a if b > 127 else a) / 255)[None]


@pipe("pil")
def maxdiv(p):
    a = np.asarray(rgb_image(p).resize((224, 224), Image.BILINEAR), np.float32)
    return (a / a.max()).transpose(2, 0, 1)


@pipe("pil")
def standard(p):
    a = np.asarray(rgb_image(p).resize((224, 224), Image.BILINEAR), np.float32)
    return ((a - a.mean()) / a.std()).transpose(2, 0, 1)


add("pil", "reject_autocontrast", lambda p: as_part(ImageOps.autocontrast(rgb_image(p).resize((224, 224)), cutoff=1)))
add("pil", "reject_equalize", lambda p: as_part(ImageOps.equalize(rgb_image(p).resize((224, 224)))))
