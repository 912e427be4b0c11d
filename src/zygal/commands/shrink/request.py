"""What zygal shrink is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.artifact.formats import format_for
from zygal.files.outputs import PICTURE, Output
from zygal.request import SCORES_DEFAULT, Request, option

if TYPE_CHECKING:
    pass


@dataclass(frozen=True, kw_only=True)
class ShrinkRequest(Request):
    """What zygal shrink is asked for."""

    artifact: str = option("the float artifact, ONNX or a mobile flatbuffer", positional=True, metavar="ARTIFACT")
    output: str = option("the file to write, in the same format", short="o", metavar="SMALL", writes=True)
    images: str | None = option(
        "images like those that the model will see, a few hundred; they set the ranges of the activations",
        None,
        metavar="DIR",
        group="images",
        reads=True,
    )
    witness: str | None = option(
        "set the ranges by recorded tensors; with --images, check the images against the recording",
        None,
        metavar="FILE",
        group="images",
        reads=True,
    )
    inlet: str | None = option(
        "use this inlet instead of the one inside the artifact", None, metavar="FILE", group="images", reads=True
    )
    count: int = option(
        "use at most N images, at even places (default: {default})", 200, metavar="N", kind="int", group="images"
    )
    labelled: str | None = option(
        "labelled images, for the loss of accuracy: a folder with one sub-folder per class, or a CSV",
        None,
        metavar="DIR|CSV",
        group="images",
        reads=True,
    )
    scores: str | None = option(
        f"the output of the artifact to use, if it has several ({SCORES_DEFAULT})", None, metavar="NAME", group="images"
    )
    agree: float | None = option(
        "at least this share of the images keeps its top-1 class (default, without a budget: 99%%)",
        None,
        metavar="SHARE",
        kind="share of one",
        group="budget (layers stay in float until it is met)",
    )
    lose: float | None = option(
        "at most this much accuracy is lost on --labelled, like 0.5%%",
        None,
        metavar="SHARE",
        kind="share of one",
        group="budget (layers stay in float until it is met)",
    )
    speed: float | None = option(
        "at least so many times as fast as the float artifact, like 2x",
        None,
        metavar="TIMES",
        kind="factor",
        group="budget (layers stay in float until it is met)",
    )
    half: bool = option("store the weights as float16 instead: half the file, no speed", False)
    batch: int = option("batch size at which the speed is measured (default: {default})", 1, metavar="N", kind="int")
    threads: int | None = option("number of cores to use (default: all)", None, metavar="N", kind="int")
    draw: str | None = option("draw agreement and speed of what was tried (PNG)", None, metavar="FILE", writes=True)
    listed: int = option("how many layers to list (default: {default})", 8, metavar="N", kind="int")

    def outputs(self) -> list[Output]:
        """The files that are written."""
        drawn = [Output(self.draw, PICTURE)] if self.draw else []
        return [Output(self.output, format_for(self.output).kind), *drawn]
