"""The inlet inside an artifact, before the model, as a graph like any other."""

from zygal.inlet.front.stages import front_of
from zygal.inlet.front.writer import LAYER

__all__ = ["LAYER", "front_of"]
