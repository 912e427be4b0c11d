"""Pipelines of an augmentation library."""

import albumentations as A
import numpy as np
from by_opencv import opencv_rgb
from pipelines import add

N = A.Normalize()
alb = dict(
    resize=[A.Resize(224, 224), N],
    small=[A.SmallestMaxSize(256), A.CenterCrop(224, 224), N],
    longest=[A.LongestMaxSize(224), A.PadIfNeeded(224, 224, border_mode=0, fill=0), N],
    longest_reflect=[A.LongestMaxSize(224), A.PadIfNeeded(224, 224, border_mode=4), N],
    cubic=[A.Resize(224, 224, interpolation=2), N],
    area=[A.SmallestMaxSize(256, interpolation=3), A.CenterCrop(224, 224), N],
    image=[A.Resize(224, 224), A.Normalize(normalization="image")],
    image_ch=[A.Resize(224, 224), A.Normalize(normalization="image_per_channel")],
    minmax=[A.Resize(224, 224), A.Normalize(normalization="min_max")],
    minmax_ch=[A.Resize(224, 224), A.Normalize(normalization="min_max_per_channel")],
    togray=[A.Resize(224, 224), A.ToGray(p=1), N],
    crop=[A.CenterCrop(512, 512), A.Resize(224, 224), N],
    incep=[A.Resize(224, 224), A.Normalize((0.5,) * 3, (0.5,) * 3)],
    blur=[A.GaussianBlur((5, 5), sigma_limit=(1, 1), p=1), A.Resize(224, 224), N],
)
for k, s in alb.items():
    try:
        add("alb", k, lambda p, t=A.Compose(s): t(image=opencv_rgb(p))["image"].transpose(2, 0, 1).astype(np.float32))
    except Exception as e:
        print("alb", k, e)
