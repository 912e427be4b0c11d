"""The inlet inside an artifact, before the model."""

from zygal.inlet.front.stages import front_of
from zygal.inlet.front.writer import LAYER, Front, FrontNode

__all__ = ["LAYER", "Front", "FrontNode", "front_of"]
