"""zygal inlet draw: an image after each stage of an inlet."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.files.outputs import PICTURE, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.outcome import Outcome
from zygal.request import Request, option, paths_read

if TYPE_CHECKING:
    from zygal.inlet import Inlet
    from zygal.inlet.stages import Stage


@dataclass(frozen=True, kw_only=True)
class DrawRequest(Request):
    """What zygal inlet draw is asked for."""

    image: str = option("the image file", positional=True, metavar="IMAGE")
    inlet: str = option("the inlet (TOML), or an artifact that holds one", metavar="FILE", reads=True)
    output: str = option("the picture to write", short="o", metavar="PNG", writes=True)

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(self.output, PICTURE)]


@dataclass(frozen=True, kw_only=True)
class DrawOutcome(Outcome):
    """The stages that were drawn."""

    kind: ClassVar[str] = "zygal.inlet-draw"

    request: DrawRequest
    inlet: Inlet
    stages: tuple[Stage, ...]

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        return {
            "image": self.request.image,
            "inlet": asdict(self.inlet),
            "stages": [
                {
                    "stage": stage.name,
                    "does": stage.does,
                    "height_pixels": stage.picture.shape[0],
                    "width_pixels": stage.picture.shape[1],
                    "lowest_value": stage.low,
                    "highest_value": stage.high,
                }
                for stage in self.stages
            ],
        }


def execute(request: DrawRequest, listener: Listener = SILENT) -> DrawOutcome:  # noqa: ARG001
    """Draws the stages. Raises ZygalError."""
    from zygal.artifact.inlets import inlet_at
    from zygal.files.opening import existing_file
    from zygal.inlet.figure import draw_strip
    from zygal.inlet.stages import stages_of

    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    inlet = inlet_at(request.inlet)
    stages = stages_of(existing_file(request.image), inlet)
    draw_strip(stages, f"{request.image}, preprocessed by {request.inlet}", request.output)
    return DrawOutcome(request=request, inlet=inlet, stages=tuple(stages), written=(request.output,))
