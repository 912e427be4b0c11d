"""What zygal match is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.endpoint import endpoint_option, timeout_option
from zygal.files import kinds
from zygal.files.outputs import PICTURE, Output
from zygal.request import SCORES_DEFAULT, Request, option

if TYPE_CHECKING:
    pass


@dataclass(frozen=True, kw_only=True)
class MatchRequest(Request):
    """What zygal match is asked for."""

    artifact: str | None = option(
        "the artifact to check; with --endpoint, the one that the service should serve",
        None,
        positional=True,
        nargs="?",
        metavar="ARTIFACT",
    )
    witness: str = option("the recording of the training framework", metavar="FILE", reads=True)
    scores: str | None = option(
        f"the output of the artifact to check, if it has several ({SCORES_DEFAULT})", None, metavar="NAME"
    )
    images: str | None = option(
        "folder of the recorded images; without it only B is checked", None, metavar="DIR", reads=True
    )
    inlet: str | None = option(
        "check this inlet instead of the one inside the artifact", None, metavar="FILE", reads=True
    )
    tensor_limit: float = option(
        "A: largest difference of the tensors, in grey levels (default: {default})",
        0.5,
        metavar="LEVELS",
        kind="limit",
        needs="images",
    )
    model_limit: float = option(
        "B: largest difference of the scores, as a share of the spread of the recorded scores (default: {default})",
        0.0001,
        metavar="SHARE",
        kind="limit",
    )
    end_limit: float = option(
        "C: largest difference of the scores, as a share of the spread of the recorded scores (default: {default})",
        0.01,
        metavar="SHARE",
        kind="limit",
        needs="images",
    )
    agree_limit: float = option(
        "B and C of a shrunk artifact: least share of images with the recorded top-1 class (default: {default})",
        0.99,
        metavar="SHARE",
        kind="share of one",
    )
    order_limit: float = option(
        "B and C of a shrunk artifact: least share of pairs of classes in the recorded order (default: {default})",
        0.99,
        metavar="SHARE",
        kind="share of one",
    )
    worst: int = option(
        "how many of the images that differ most to list (default: {default})", 3, metavar="N", kind="int"
    )
    write_inlet: str | None = option(
        "write the corrected inlet, if A fails and the cause is found", None, metavar="FILE", writes=True
    )
    sheet: str | None = option(
        "draw the images that differ most, with scores and tensor differences", None, metavar="PNG", writes=True
    )
    own_rounding: bool = option(
        "compute the artifact in float64 on some recorded tensors, to tell a wrong conversion from rounding "
        "(without it, only where B fails or is near its limit)",
        False,
    )
    endpoint: str | None = endpoint_option("check")
    timeout: float = timeout_option()
    endpoint_limit: float | None = option(
        "E: largest difference of the service's scores from those of ARTIFACT, as a share of the spread (default: "
        "1e-5, or 0.02 in 8 bits)",
        None,
        metavar="SHARE",
        kind="limit",
        needs="endpoint",
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        outputs = [Output(self.write_inlet, kinds.INLET)] if self.write_inlet else []
        return [*outputs, Output(self.sheet, PICTURE)] if self.sheet else outputs
