"""Image processors of transformers: classes with a table of settings, saved as preprocessor_config.json.

Each computes in one or two ways: on pictures of Pillow (the library's only way up to release 4, where the classes of
the other one end in Fast), or on 8-bit tensors (its usual one from release 5 on). They differ in how a resize is
rounded, and in where an odd pixel goes when a picture is smaller than its crop.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from zygal.errors import shown
from zygal.inlet.configured.settings import Configured, Settings, is_size
from zygal.inlet.toml import inlet_of

NAMED_BY = ("image_processor_type", "feature_extractor_type")
_FILTERS = {0: "nearest", 1: "lanczos", 2: "bilinear", 3: "bicubic", 4: "box", 5: "hamming"}
_OF_TENSORS = ("nearest", "bilinear", "bicubic")
_WITHOUT_EFFECT = (
    "processor_class _valid_processor_keys do_convert_rgb do_reduce_labels return_tensors "
    "disable_grouping device default_to_square num_channels transformers_version _processor_class"
)
"""Keys that are said of other things than an RGB picture's pixels."""
_HALF, _STANDARD = (0.5,) * 3, ((0.485, 0.456, 0.406), (0.229, 0.224, 0.225))
_CONTRASTIVE = ((0.48145466, 0.4578275, 0.40821073), (0.26862954, 0.26130258, 0.27577711))
_SQUARE = {"height": 224, "width": 224}


@dataclass(frozen=True)
class _Processor:
    """The defaults of a class. square: whether a size that is one number means a square. resample: None where releases
    have different defaults. rule: what it does beyond the usual steps. ways: in which it exists."""

    size: dict
    resample: int | None
    mean: tuple = _HALF
    std: tuple = _HALF
    crop: dict | None = None
    crops: bool = False
    normalises: bool = True
    square: bool = True
    rule: str = ""
    own: dict = field(default_factory=dict)
    ways: tuple[str, ...] = ("pictures", "tensors")


_SHORT = {"shortest_edge": 224}
_CLIP = _Processor(_SHORT, 3, *_CONTRASTIVE, crop=_SQUARE, crops=True, square=False)
_MOBILE = _Processor({"shortest_edge": 256}, 2, crop=_SQUARE, crops=True, square=False)
_PROCESSORS = {
    "Beit": _Processor(_SQUARE, 3, crop=_SQUARE),
    "Bit": _CLIP,
    "Blip": _Processor({"height": 384, "width": 384}, 3, *_CONTRASTIVE),
    "CLIP": _CLIP,
    "ConvNext": _Processor({"shortest_edge": 384}, None, square=False, rule="short-or-whole", own={"crop_pct": 0.875}),
    "DeiT": _Processor({"height": 256, "width": 256}, 3, crop=_SQUARE, crops=True),
    "DINOv3ViT": _Processor(_SQUARE, 2, *_STANDARD, rule="unrounded", ways=("tensors",)),
    "EfficientNet": _Processor(
        {"height": 346, "width": 346},
        None,
        crop={"height": 289, "width": 289},
        rule="twice-normalised",
        own={"rescale_offset": False, "include_top": True},
    ),
    "Levit": _Processor(_SHORT, 3, *_STANDARD, crop=_SQUARE, crops=True, square=False, rule="larger-short-side"),
    "MobileNetV1": _MOBILE,
    "MobileNetV2": _MOBILE,
    "MobileViT": _Processor(
        _SHORT,
        None,
        crop={"height": 256, "width": 256},
        crops=True,
        normalises=False,
        square=False,
        rule="flipped",
        own={"do_flip_channel_order": True},
    ),
    "Perceiver": _Processor(_SQUARE, 3, *_STANDARD, crop={"height": 256, "width": 256}, crops=True, rule="crop-first"),
    "PoolFormer": _Processor(
        _SHORT, 3, *_STANDARD, crop=_SQUARE, crops=True, square=False, rule="by-part", own={"crop_pct": 0.9}
    ),
    "PPLCNet": _Processor(
        {"height": 256, "width": 256},
        2,
        _STANDARD[0][::-1],
        _STANDARD[1][::-1],
        crop=_SQUARE,
        crops=True,
        rule="reversed",
        own={"resize_short": 256, "size_divisor": 1},
        ways=("tensors",),
    ),
    "Pvt": _Processor(_SQUARE, None, *_STANDARD),
    "Segformer": _Processor({"height": 512, "width": 512}, 2, *_STANDARD),
    "Siglip": _Processor(_SQUARE, 3, square=False),
    "ViT": _Processor(_SQUARE, 2),
}
_REFUSED = {
    "Donut": "it resizes twice and then pads",
    "ImageGPT": "it turns pixels into numbers of colour clusters",
    "Siglip2": "it cuts a picture into a number of patches that depends on its size",
    "TextNet": "the size of its tensor depends on the picture",
}


def way_of(document: dict[str, Any], release: str) -> str:
    """The way that a file's class computes in: Fast is on tensors, and so is every class from release 5 on."""
    name, known = _class_of(document)
    first = release.partition(".")[0]
    fast = name.endswith("Fast") or (first.isdigit() and int(first) >= 5 and not name.endswith("Pil"))
    way = "tensors" if fast else "pictures"
    return way if known is None or way in known.ways else known.ways[0]


def _class_of(document: dict[str, Any]) -> tuple[str, _Processor | None]:
    name = next((document[key] for key in NAMED_BY if isinstance(document.get(key), str)), "")
    return name, _PROCESSORS.get(_stem(name))


def _stem(name: str) -> str:
    for ending in ("ImageProcessorFast", "ImageProcessorPil", "ImageProcessor", "FeatureExtractor"):
        if name.endswith(ending):
            return name.removesuffix(ending)
    return name


def read(document: dict[str, Any], where: str, way: str) -> Configured:
    """The inlet that a processor's settings state. Raises InletError."""
    settings = Settings(where, document)
    name, known = _class_of(document)
    if "auto_map" in document:
        raise settings.refused(f"{shown(name)} is code of the model's own folder (auto_map), which is never run")
    if known is None:
        why = _REFUSED.get(_stem(name), "it is not known which preprocessing that is")
        raise settings.refused(f"its class is {shown(name)}: {why}")
    if way not in known.ways:
        raise settings.refused(f"{name} computes on {' and '.join(known.ways)} alone")
    reader = _Reader(settings, known, way)
    content = reader.document()
    settings.finish((*NAMED_BY, *_WITHOUT_EFFECT.split()))
    differs = len(known.ways) > 1 and bool(content["frame"])
    return Configured(inlet_of(content, where), "transformers", name, way, differs, tuple(reader.notes))


class _Reader:
    """The settings of one processor on their way to an inlet. notes: what to know about it."""

    def __init__(self, settings: Settings, known: _Processor, way: str):
        self._settings, self._known, self._way = settings, known, way
        self.notes: list[str] = []

    def document(self) -> dict[str, Any]:
        """The inlet as a TOML document."""
        settings, known = self._settings, self._known
        for key in ("do_pad", "do_thumbnail", "do_align_long_axis", "use_square_size", "do_color_quantize"):
            if settings.take(key):
                raise settings.refused(f"{key} is not understood")
        for key in ("pad_size", "image_seq_length", "max_size", "input_data_format"):
            if settings.take(key) is not None:
                raise settings.refused(f"{key} is not understood")
        if settings.take("data_format", "channels_first") not in ("channels_first", None):
            raise settings.refused("its data_format is not channels_first")
        own = {key: self._own(key, default) for key, default in known.own.items()}
        size = self._size("size", known.size, known.square)
        crops = settings.flag("do_center_crop", known.crops)
        crop = self._size("crop_size", known.crop, True)
        if crops and (crop is None or "height" not in crop):
            raise settings.refused(f"crop_size is {shown(crop)}, where a height and a width are needed")
        steps = self._steps(size, crop if crops else None, own)
        values = self._values(own)
        flipped = own.get("do_flip_channel_order") or known.rule == "reversed"
        decode = {"colour": "bgr" if flipped else "rgb", "exif": "apply"}
        return {
            "zygal_inlet": 1,
            "decode": decode,
            "frame": steps,
            "values": values,
            "tensor": {"layout": "NCHW", "dtype": "uint8"} if values == {"range": [0, 255]} else {"layout": "NCHW"},
        }

    def _own(self, key: str, default: Any) -> Any:
        settings = self._settings
        if isinstance(default, bool):
            return settings.flag(key, default)
        if self._known.rule == "by-part" and settings.is_null(key):
            raise settings.refused(f"{key} is null, which releases take differently; write a number")
        return settings.number(key, default)

    def _size(self, key: str, default: Any, square: bool) -> dict[str, int] | None:
        """A size as the library makes it of a number, a pair or a table."""
        settings = self._settings
        value = settings.take(key)
        value = default if value is None else value
        if value is None:
            return None
        if is_size(value):
            value = {"height": value, "width": value} if square else {"shortest_edge": value}
        if isinstance(value, list) and len(value) == 2:
            value = {"height": value[0], "width": value[1]}
        fits = isinstance(value, dict) and all(is_size(each) for each in value.values())
        if not fits or set(value) not in ({"height", "width"}, {"shortest_edge"}):
            raise settings.refused(f"{key} is {shown(value)}, which is not understood")
        return value

    # The frame

    def _steps(self, size: dict, crop: dict | None, own: dict) -> list[dict]:
        settings, rule = self._settings, self._known.rule
        resizes = settings.flag("do_resize", True)
        resample = settings.take("resample")
        steps, least = [], None
        if crop and rule == "crop-first":
            steps.append(self._part_of_short_side(size, crop))
            crop = None
        if resizes:
            resize, least = self._resize(size, own)
            steps.append(resize | self._filter(resample))
            if rule == "short-or-whole" and "short_side" in resize:
                steps += self._crop(size["shortest_edge"], size["shortest_edge"], least)
                least = (size["shortest_edge"],) * 2, True
        if crop:
            steps += self._crop(crop["height"], crop["width"], least)
        return steps

    def _resize(self, size: dict, own: dict) -> tuple[dict, tuple[tuple[int, int], bool]]:
        """The resize to a size by the class's own rule, and (height, width) that the result has at least, with whether
        it has just that."""
        settings, rule = self._settings, self._known.rule
        side = size.get("shortest_edge")
        if rule == "reversed":
            # Where the library's rounding in float64 is ours for all pictures of up to 5,000 pixels a side.
            side = own["resize_short"]
            if own["size_divisor"] != 1 or side not in (256, 320):
                raise settings.refused(f"it resizes to {side} pixels and multiples of {own['size_divisor']}")
            return {"step": "resize", "short_side": side, "long_side": "nearest"}, ((side, side), False)
        if rule == "short-or-whole":
            if side is None:
                raise settings.refused(f"its size is {shown(size)}, where shortest_edge is needed")
            if side >= 384:
                return {"step": "resize", "size": [side, side]}, ((side, side), True)
            side = int(side / own["crop_pct"])
        elif rule == "larger-short-side" and side is not None:
            side = int((256 / 224) * side)
        elif rule == "by-part":
            if side is None and size["height"] != size["width"]:
                height, width = (int(size[each] / own["crop_pct"]) for each in ("height", "width"))
                return {"step": "resize", "size": [height, width]}, ((height, width), True)
            side = int((side or size["height"]) / own["crop_pct"])
        if side is None:
            height, width = size["height"], size["width"]
            return {"step": "resize", "size": [height, width]}, ((height, width), True)
        return {"step": "resize", "short_side": side, "long_side": "down"}, ((side, side), False)

    def _filter(self, resample: Any) -> dict:
        settings = self._settings
        resample = self._known.resample if resample is None else resample
        if resample is None:
            raise settings.refused("resample is not stated, and releases have different defaults; write its number")
        if type(resample) is not int or resample not in _FILTERS:
            raise settings.refused(f"resample is {shown(resample)}, where a number of 0 to 5 is needed")
        name = _FILTERS[resample]
        if self._way == "pictures":
            return {"filter": name}
        if name not in _OF_TENSORS:
            raise settings.refused(f"its filter is {name}, which tensors are not resized with in all releases")
        if name == "nearest":
            return {"filter": name, "scale": "float32"}
        return {"filter": name, "rounding": "none" if self._known.rule == "unrounded" else "passes-16bit"}

    def _crop(self, height: int, width: int, least: tuple[tuple[int, int], bool] | None) -> list[dict]:
        """The crop of the centre; of a picture that is smaller, what lies beyond is black."""
        crop = {"step": "crop", "size": [height, width], "centring": "down"}
        if least is not None and least[0][0] >= height and least[0][1] >= width:
            return [crop]
        if self._way == "tensors":
            return [crop | {"missing": "#000000"}]
        if least is not None and not least[1]:
            raise self._settings.refused(
                f"its crop to {height} x {width} is larger than what its resize leaves ({least[0][0]} pixels), and "
                "where the library puts an odd row of black pixels cannot be stated"
            )
        if least is None:
            self.notes.append(
                f"Images that are smaller than {height} x {width} before the crop are refused: where the library puts "
                "an odd row of black pixels cannot be stated."
            )
            return [crop]
        # The library puts the odd pixel before the picture here, and behind it on tensors.
        padded = [max(height, least[0][0]), max(width, least[0][1])]
        return [{"step": "pad", "size": padded, "colour": "#000000", "centring": "up"}, crop]

    def _part_of_short_side(self, size: dict, crop: dict) -> dict:
        """A crop before the resize: a part of the short side, both ways."""
        settings = self._settings
        if "height" not in size or size["height"] * crop["width"] != size["width"] * crop["height"]:
            raise settings.refused(f"it crops {shown(crop)} before it resizes to {shown(size)}")
        part = size["height"] / crop["height"]
        sides = np.arange(1, 65_537)
        if part > 1 or ((part * sides).astype(int) != (part * sides + 1e-9).astype(int)).any():
            raise settings.refused(f"it crops {part:.4g} of the short side, which cannot be stated to the pixel")
        return {"step": "crop", "aspect": [1, 1], "centring": "down"} | ({"fraction": part} if part < 1 else {})

    # The values

    def _values(self, own: dict) -> dict:
        settings, known = self._settings, self._known
        rescales = settings.flag("do_rescale", True)
        factor = settings.number("rescale_factor", 1 / 255)
        normalises = settings.flag("do_normalize", known.normalises)
        mean = settings.three("image_mean", list(known.mean))
        std = settings.three("image_std", list(known.std))
        low, high = 0.0, 255 * factor if rescales else 255.0
        if own.get("rescale_offset") and rescales:
            low, high = -1.0, high - 1
        again = bool(own.get("include_top"))
        if known.rule == "unrounded" and not rescales:
            raise settings.refused("do_rescale is false, so that its resize would round to 8 bits")
        if known.rule == "flipped" and normalises:
            raise settings.refused("do_normalize has no effect on its class in some releases; write false")
        values: dict[str, Any] = {"range": [_plain(low), _plain(high)]}
        if not normalises and not again:
            return values
        if not normalises:
            mean = [0.0] * 3
        elif again:
            std = [each * each for each in std]
        if known.rule == "reversed":
            mean, std = mean[::-1], std[::-1]
        return values | {"mean": mean, "std": std}


def _plain(number: float) -> float | int:
    """A number as one writes it: 255 * (1 / 255) is 1."""
    nearest = round(number)
    return nearest if abs(number - nearest) < 1e-12 else number
