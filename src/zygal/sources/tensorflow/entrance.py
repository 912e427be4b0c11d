"""Images that come in encoded: the part of a graph between the text and the tensor that the model computes with."""

from __future__ import annotations

from dataclasses import dataclass

from zygal.errors import SourceError
from zygal.inlet import Inlet
from zygal.sources.families import Reading
from zygal.sources.tensorflow.entries import Place
from zygal.sources.tensorflow.program import GraphFile
from zygal.sources.tensorflow.site import Context
from zygal.sources.tensorflow.translate import Translator


@dataclass(frozen=True)
class Entrance:
    """Where the model proper begins. inlet: what is done before it, None where that cannot be stated as one."""

    inlet: Inlet | None
    notes: tuple[str, ...] = ()

    def feed(self, translator: Translator, context: Context) -> None:
        """Puts the model's own input in the place of what leads to it."""


def entrance_behind(file: GraphFile, place: Place, reading: Reading) -> Entrance:
    """What lies between encoded images and the model. Raises SourceError."""
    raise SourceError(f"{file.path} takes text ({place.key}).")
