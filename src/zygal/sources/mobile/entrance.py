"""The inlet that the open metadata of a flatbuffer state, as far as they state one."""

from __future__ import annotations

from zygal.inlet import Inlet
from zygal.inlet.specification import Decode, Resize, Values
from zygal.inlet.specification import Tensor as TensorStage
from zygal.mobile.meaning import Meaning
from zygal.mobile.model import Tensor


def own_inlet(meaning: Meaning, image: Tensor) -> Inlet | None:
    """Colours by the number of channels, the normalisation as stated, the size of the images as the tensor has it.

    How the images come to that size the metadata do not say: the plain resize of most programs is taken, and `match`
    shows whether it is the right one. None where no normalisation is stated.
    """
    if meaning.mean is None or len(image.shape) != 4 or image.shape[3] not in (1, 3):
        return None
    height, width, channels = image.shape[1:]
    grey = meaning.grey or channels == 1
    decode = Decode(colour="grey" if grey else "rgb", grey_channels=channels) if grey else Decode()
    mean, std = (tuple(each) * (channels if len(each) == 1 else 1) for each in (meaning.mean, meaning.std))
    plain = image.dtype == "uint8"
    if len(mean) != channels or len(std) != channels or min(map(abs, std)) == 0:
        return None
    values = Values() if plain else Values(range=(0.0, 255.0), mean=mean, std=std)
    return Inlet(decode, (Resize(size=(height, width)),), values, TensorStage("NHWC", "uint8" if plain else "float32"))
