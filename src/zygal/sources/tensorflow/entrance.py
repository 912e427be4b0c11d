"""Images that come in encoded: what a graph does to them before the model proper, read off as an inlet.

The images are followed as values that only remember what was done to them. The first operator that is no step of an
inlet gets a tensor instead, and that is where the converted model begins. Loops over the images of a batch are gone
through once.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from zygal.errors import InletError
from zygal.graph import Batch, TensorType
from zygal.inlet import Inlet
from zygal.sources.layouts import View
from zygal.sources.tensorflow.pixels import FOLLOWED, Pixels, Sizes, inlet_of
from zygal.sources.tensorflow.site import NodeSite, Value
from zygal.sources.tensorflow.table_entrance import STEPS, unclear

ON_THE_WAY = frozenset((
    "Add", "AddV2", "Assert", "BiasAdd", "Cast", "ClipByValue", "ConcatV2", "CropAndResize", "Div", "Equal",
    "FloorDiv", "FloorMod", "Gather",
    "GatherV2", "Greater", "GreaterEqual", "Less", "LessEqual", "LogicalAnd", "Maximum", "Mean", "Minimum",
    "MirrorPad", "Mul", "Pack", "Pad",
    "PadV2", "Prod", "RealDiv", "Reshape", "ReverseV2", "Round", "Select", "SelectV2", "Slice", "Split", "SplitV",
    "StridedSlice", "Sub", "Tile",
    "Transpose",
))  # fmt: skip
"""What cropping and padding are made of. Anything else on images of any size is no preprocessing."""


class Entrance:
    """What stands between the files and the model of one graph. taken, view: what was done to the images where the
    model begins, and its input there; None before that is known. inlet: None where it cannot be stated as one."""

    def __init__(self, where: str):
        self._where, self.taken, self.view = where, None, None

    def takes(self, inputs: list[Value]) -> bool:
        """Whether a node works on images that are still pixels."""
        return any(isinstance(each, FOLLOWED) for each in inputs)

    def made(self, site: NodeSite) -> Value | list[Value] | None:
        """What a step makes of images on their way in; None if the operator is no such step, so that it gets
        tensors."""
        step = STEPS.get(site.kind)
        if step is not None:
            found = step(site)
            if found is not None:
                return found
        pixels = next((each for each in site.inputs if isinstance(each, Pixels)), None)
        if pixels is not None and pixels.size is not None:
            return None
        if pixels is None:
            return Sizes() if all(isinstance(each, Sizes | View) for each in site.inputs) else unclear(site)
        if site.kind not in ON_THE_WAY:
            return None
        # Images of any size: whatever it is, they are not made alike yet.
        return replace(pixels, unclear=pixels.unclear or site.kind)

    def tensor(self, pixels: Pixels, site: NodeSite) -> View:
        """The model's input in the place of images that were made alike."""
        if self.taken is None:
            if pixels.size is None or pixels.axes != 4:
                site.refuse("is given images of any size, one by one; an artifact takes a batch of images of one size")
            dtype = np.uint8 if pixels.whole and pixels.factor == (1.0,) and pixels.offset == (0.0,) else np.float32
            type = TensorType(np.dtype(dtype), (Batch(), *pixels.size, pixels.channels))
            name = site.context.builder.input(site.context.builder.free_name("pixels"), type)
            self.taken, self.view = pixels, View(name, (0, 1, 2, 3))
        if pixels != self.taken:
            site.refuse(
                "reads the images at another place than the layers before it; what lies between is not a chain of steps"
            )
        return self.view

    @property
    def inlet(self) -> Inlet | None:
        """What the graph does to pixels, as an inlet; None if it does nothing that one can state."""
        pixels = self.taken
        if pixels is None or pixels.unclear is not None or pixels.resize is None:
            return None
        try:
            return inlet_of(pixels)
        except InletError:
            return None

    @property
    def notes(self) -> tuple[str, ...]:
        """Sentences on what could not be stated."""
        pixels = self.taken
        if pixels is None:
            return ()
        if self.inlet is None:
            what = f"a step ({pixels.unclear})" if pixels.unclear else "its preprocessing"
            return (
                f"the model takes encoded images; the part behind the decoder was converted, and {what} between them "
                "cannot be stated as an inlet: recover it with zygal inlet recover, from a witness with tensors",
            )
        return (
            "the model takes encoded images; the part behind the decoder was converted, and what lies between "
            "is its inlet",
        )
