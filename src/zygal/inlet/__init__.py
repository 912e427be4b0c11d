"""The inlet: how an image file becomes the input tensor, as data that can be checked."""

from zygal.inlet.apply import InletTensor, apply_inlet, decode_image
from zygal.inlet.specification import Crop, Decode, Inlet, Resize, Tensor, Values
from zygal.inlet.toml import format_inlet, parse_inlet, read_inlet

__all__ = [
    "Crop", "Decode", "Inlet", "InletTensor", "Resize", "Tensor", "Values",
    "apply_inlet", "decode_image", "format_inlet", "parse_inlet", "read_inlet",
]  # fmt: skip
