"""Pipelines of torchvision, of PyTorch's tensors and of a model collection's presets."""

import numpy as np
import torch
import torchvision.transforms as T
import torchvision.transforms.v2 as T2
from pipelines import MEAN, STD, add, rgb_image
from timm.data import create_transform
from torchvision.io import ImageReadMode, decode_image
from torchvision.transforms._presets import ImageClassification as IC
from torchvision.transforms.functional import InterpolationMode as IM_


def as_array(t):
    return np.asarray(t, np.float32) if t.dtype != torch.uint8 else np.asarray(t)


for name, kw in dict(
    r50=dict(crop_size=224, resize_size=256),
    r50v2=dict(crop_size=224, resize_size=232),
    effb0=dict(crop_size=224, resize_size=256, interpolation=IM_.BICUBIC),
    swin=dict(crop_size=224, resize_size=238, interpolation=IM_.BICUBIC),
    vith=dict(crop_size=518, resize_size=518, interpolation=IM_.BICUBIC),
    incep=dict(crop_size=299, resize_size=342),
).items():
    if kw["crop_size"] > 300:
        kw = dict(kw, crop_size=256, resize_size=256)
    add("tv", "preset_" + name, lambda p, t=IC(**kw): as_array(t(rgb_image(p))))
add(
    "tv",
    "preset_tensor",
    lambda p, t=IC(crop_size=224, resize_size=256): as_array(t(decode_image(str(p), ImageReadMode.RGB))),
)
add(
    "tv",
    "preset_tensor_noaa",
    lambda p, t=IC(crop_size=224, resize_size=256, antialias=False): as_array(
        t(decode_image(str(p), ImageReadMode.RGB))
    ),
)
add(
    "tv",
    "tensor_bicubic_u8",
    lambda p, t=IC(crop_size=224, resize_size=236, interpolation=IM_.BICUBIC): as_array(
        t(decode_image(str(p), ImageReadMode.RGB))
    ),
)
add(
    "tv",
    "gray_decode",
    lambda p: as_array(T2.Resize((128, 128), antialias=True)(decode_image(str(p), ImageReadMode.GRAY)).float() / 255),
)
seqs = dict(
    squash=[T.Resize((224, 224)), T.ToTensor(), T.Normalize(MEAN, STD)],
    rect=[T.Resize((192, 256)), T.ToTensor()],
    half=[T.Resize(256), T.CenterCrop(224), T.ToTensor(), T.Normalize([0.5] * 3, [0.5] * 3)],
    lanczos=[T.Resize(256, IM_.LANCZOS), T.CenterCrop(224), T.ToTensor()],
    box=[T.Resize(224, IM_.BOX), T.CenterCrop(224), T.ToTensor()],
    hamming=[T.Resize((224, 224), IM_.HAMMING), T.ToTensor()],
    nearest=[T.Resize(256, IM_.NEAREST), T.CenterCrop(224), T.ToTensor()],
    tofirst=[T.ToTensor(), T.Resize(256, antialias=True), T.CenterCrop(224), T.Normalize(MEAN, STD)],
    tofirst_noaa=[T.ToTensor(), T.Resize((224, 224), antialias=False), T.Normalize(MEAN, STD)],
    tofirst_nearest=[T.ToTensor(), T.Resize((224, 224), IM_.NEAREST)],
    tofirst_nearest_exact=[T.ToTensor(), T.Resize((224, 224), IM_.NEAREST_EXACT)],
    tofirst_bicubic=[T.ToTensor(), T.Resize(232, IM_.BICUBIC, antialias=True), T.CenterCrop(224)],
    tofirst_bicubic_noaa=[T.ToTensor(), T.Resize(232, IM_.BICUBIC, antialias=False), T.CenterCrop(224)],
    crop_only=[T.CenterCrop(300), T.ToTensor()],
    crop_pad=[T.CenterCrop((650, 224)), T.Resize((224, 224)), T.ToTensor()],
    crop_resize=[T.CenterCrop(500), T.Resize(224), T.ToTensor()],
    gray1=[T.Resize(128), T.CenterCrop(112), T.Grayscale(), T.ToTensor()],
    gray3=[T.Grayscale(3), T.Resize((224, 224)), T.ToTensor(), T.Normalize(MEAN, STD)],
    gray_tensor=[T.ToTensor(), T.Grayscale(), T.Resize((128, 128), antialias=True)],
    padfix=[T.Pad(16, fill=127), T.Resize((224, 224)), T.ToTensor()],
    padreflect=[T.Pad(20, padding_mode="reflect"), T.Resize(224), T.CenterCrop(224), T.ToTensor()],
    two=[T.Resize(512), T.Resize((224, 224), IM_.BICUBIC), T.ToTensor()],
    maxsize=[T.Resize(200, max_size=224), T.CenterCrop(224), T.ToTensor()],
    blur=[T.GaussianBlur(5, 1.5), T.Resize((224, 224)), T.ToTensor()],
    invert=[T.Resize((64, 64)), T.Grayscale(), T.ToTensor(), T.Lambda(lambda x: 1 - x)],
)


def once(p, t):
    torch.manual_seed(0)
    return as_array(t(rgb_image(p)))


for k, s in seqs.items():
    add("tv", k, lambda p, t=T.Compose(s): once(p, t))
v2s = dict(
    v2_preset=[
        T2.ToImage(),
        T2.Resize(256, antialias=True),
        T2.CenterCrop(224),
        T2.ToDtype(torch.float32, scale=True),
        T2.Normalize(MEAN, STD),
    ],
    v2_float_first=[T2.ToImage(), T2.ToDtype(torch.float32, scale=True), T2.Resize((224, 224), antialias=True)],
    v2_bicubic_u8=[
        T2.ToImage(),
        T2.Resize((224, 224), IM_.BICUBIC, antialias=True),
        T2.ToDtype(torch.float32, scale=True),
    ],
    v2_gray_u8=[
        T2.ToImage(),
        T2.Resize((128, 128), antialias=True),
        T2.Grayscale(),
        T2.ToDtype(torch.float32, scale=True),
    ],
    v2_u8=[T2.ToImage(), T2.Resize(232), T2.CenterCrop(224)],
    v2_noaa_u8=[T2.ToImage(), T2.Resize((224, 224), antialias=False), T2.ToDtype(torch.float32, scale=True)],
)
for k, s in v2s.items():
    add("tv", k, lambda p, t=T2.Compose(s): as_array(t(rgb_image(p))))
interpolate = torch.nn.functional.interpolate


def float_tensor(p):
    return torch.from_numpy(np.array(rgb_image(p))).permute(2, 0, 1)[None].float() / 255


def mid(t, s=224):
    h, w = t.shape[-2:]
    return as_array(t[0][:, (h - s) // 2 : (h - s) // 2 + s, (w - s) // 2 : (w - s) // 2 + s])


add("torch", "scale_factor", lambda p: mid(interpolate(float_tensor(p), scale_factor=0.45, mode="bilinear")))
add(
    "torch",
    "scale_factor_rec",
    lambda p: mid(interpolate(float_tensor(p), scale_factor=0.45, mode="bilinear", recompute_scale_factor=True)),
)
add("torch", "scale_factor_nearest", lambda p: mid(interpolate(float_tensor(p), scale_factor=0.43, mode="nearest")))
add("torch", "scale_factor_bicubic", lambda p: mid(interpolate(float_tensor(p), scale_factor=0.47, mode="bicubic")))
add(
    "torch",
    "align",
    lambda p: as_array(interpolate(float_tensor(p), size=(224, 224), mode="bilinear", align_corners=True)[0]),
)
add("torch", "area", lambda p: as_array(interpolate(float_tensor(p), size=(224, 224), mode="area")[0]))
add("torch", "adaptive", lambda p: as_array(torch.nn.functional.adaptive_avg_pool2d(float_tensor(p), (112, 112))[0]))
add(
    "torch",
    "aa_bicubic",
    lambda p: as_array(interpolate(float_tensor(p), size=(224, 224), mode="bicubic", antialias=True)[0]),
)
add("torch", "nearest", lambda p: as_array(interpolate(float_tensor(p), size=(224, 224), mode="nearest")[0]))


def permax(p):
    x = interpolate(float_tensor(p), size=(224, 224), mode="bilinear")[0]
    return as_array(x / x.max())


add("torch", "permax", permax)

for k, kw in dict(
    r224=dict(input_size=224, interpolation="bicubic", crop_pct=0.9),
    vit=dict(input_size=224, interpolation="bicubic", crop_pct=0.9, mean=[0.5] * 3, std=[0.5] * 3),
    incep=dict(input_size=256, interpolation="bilinear", crop_pct=0.875),
    squash=dict(input_size=256, interpolation="bicubic", crop_pct=0.95, crop_mode="squash"),
    border=dict(input_size=224, interpolation="bicubic", crop_pct=0.95, crop_mode="border"),
    full=dict(input_size=256, interpolation="bicubic", crop_pct=1.0),
    rect=dict(input_size=(3, 192, 256), interpolation="bicubic", crop_pct=0.9),
    rectsq=dict(input_size=(3, 256, 192), interpolation="bilinear", crop_pct=1.0, crop_mode="squash"),
    border1=dict(input_size=224, interpolation="bilinear", crop_pct=1.0, crop_mode="border"),
).items():
    add("timm", k, lambda p, t=create_transform(is_training=False, **kw): as_array(t(rgb_image(p))))
