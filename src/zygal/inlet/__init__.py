"""The inlet: how an image file becomes the input tensor, as data that can be checked."""

from zygal.inlet.apply import InletTensor, apply_inlet, apply_to_all
from zygal.inlet.decode import decode_image
from zygal.inlet.reading import read_inlet
from zygal.inlet.specification import Blur, Crop, Decode, Inlet, Pad, Resize, Tensor, Values
from zygal.inlet.toml import format_inlet, parse_inlet

__all__ = [
    "Blur",
    "Crop",
    "Decode",
    "Inlet",
    "InletTensor",
    "Pad",
    "Resize",
    "Tensor",
    "Values",
    "apply_inlet",
    "apply_to_all",
    "decode_image",
    "format_inlet",
    "parse_inlet",
    "read_inlet",
]
