"""The table pretrained_cfg in the config.json of timm: input size, crop, interpolation, mean and standard deviation."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from zygal.errors import shown
from zygal.inlet.configured.settings import Configured, Settings, is_size
from zygal.inlet.toml import inlet_of

_FILTERS = ("nearest", "bilinear", "bicubic", "box", "hamming", "lanczos")
_WITHOUT_EFFECT = (
    "url file state_dict hf_hub_id hf_hub_filename source architecture tag custom_load custom_load_fn "
    "test_input_size test_crop_pct fixed_input_size min_input_size num_classes label_offset label_names "
    "label_descriptions pool_size first_conv classifier license description origin_url paper_name "
    "paper_ids notes dataset"
)
"""Keys that are said of other things than an image's way into the model."""


def read(table: dict[str, Any], where: str, way: str | None) -> Configured:
    """The inlet that the table states, as the library's evaluation computes it. Raises InletError."""
    settings = Settings(f"{where}, in pretrained_cfg,", table)
    if way not in (None, "pictures"):
        raise settings.refused("timm computes on pictures alone")
    size = settings.take("input_size") or [3, 224, 224]
    if not isinstance(size, list) or len(size) != 3 or size[0] != 3 or not all(map(is_size, size)):
        raise settings.refused(f"input_size is {shown(size)}, where [3, height, width] is needed")
    part = settings.number("crop_pct", 0.875)
    mode = settings.take("crop_mode") or "center"
    name = settings.take("interpolation") or "bicubic"
    if name not in _FILTERS:
        raise settings.refused(f"interpolation is {shown(name)}; known are {', '.join(_FILTERS)}")
    mean = settings.three("mean", [0.485, 0.456, 0.406])
    std = settings.three("std", [0.229, 0.224, 0.225])
    frame = _frame(settings, size[1:], [math.floor(each / part) for each in size[1:]], mode, name, mean)
    settings.finish(tuple(_WITHOUT_EFFECT.split()))
    document = {
        "zygal_inlet": 1,
        "decode": {"colour": "rgb"},
        "frame": frame,
        "values": {"range": [0, 1], "mean": mean, "std": std},
        "tensor": {"layout": "NCHW"},
    }
    name = f"the evaluation transform (crop_mode {mode})"
    return Configured(inlet_of(document, where), "timm", name, "pictures", other_way=False)


def _frame(settings: Settings, size: list[int], scaled: list[int], mode: Any, name: str, mean: list) -> list[dict]:
    crop = {"step": "crop", "size": size, "centring": "nearest"}
    smaller = any(each < wanted for each, wanted in zip(scaled, size))
    black = {"missing": "#000000"} if smaller else {}
    if mode == "squash":
        return [{"step": "resize", "size": scaled, "filter": name}, crop | black]
    if mode == "center" and scaled[0] == scaled[1]:
        return [{"step": "resize", "short_side": scaled[0], "long_side": "down", "filter": name}, crop | black]
    if mode not in ("border", "center"):
        raise settings.refused(f"crop_mode is {shown(mode)}; known are center, squash and border")
    if not all(_rounds_like_us(each) for each in set(scaled)):
        raise settings.refused(f"sides that follow are rounded by float arithmetic (crop_mode {mode} to {scaled})")
    sized = {"step": "resize", "within" if mode == "border" else "cover": scaled, "long_side": "nearest"}
    colour = "#" + "".join(f"{min(255, max(0, round(255 * each))):02x}" for each in mean)
    return [sized | {"filter": name}, crop | ({"missing": colour} if mode == "border" else black)]


def _rounds_like_us(side: int) -> bool:
    """Whether round(x / (long / side)), as the library computes it, is x * side / long rounded, for all sides of up to
    2,000 pixels."""
    for long in range(1, 2001):
        x = np.arange(1, 2001)
        twice, rest = np.divmod(2 * x * side, long)
        exact = np.where((twice % 2 == 1) & (rest == 0), np.rint(twice / 2), (twice + 1) // 2)
        if (np.rint(x / (long / side)) != exact).any():
            return False
    return True
