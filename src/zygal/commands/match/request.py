"""What zygal match is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.endpoint import TIMEOUT_SECONDS
from zygal.files import kinds
from zygal.files.outputs import PICTURE, Output
from zygal.request import Request

if TYPE_CHECKING:
    pass


@dataclass(frozen=True, kw_only=True)
class MatchRequest(Request):
    """endpoint: the URL of a service to check instead; the artifact, which may then be left out, is what it should
    serve. timeout: seconds for one of its answers. endpoint_limit: largest difference of its scores from those of the
    artifact, of the spread; `evidence.result.ELSEWHERE` unless given, or ELSEWHERE_IN_8_BITS. scores: which of the
    artifact's outputs, if it has several. images: folder of the recorded images; without it only B is checked. inlet:
    instead of the one inside the artifact. tensor_limit: grey levels. model_limit, end_limit: of the spread of the
    recorded scores. agree_limit, order_limit: of shrunk artifacts, see `evidence.result.Limits`. worst: how many of the
    images that differ most to list. write_inlet: where to write the corrected inlet. sheet: picture of the images that
    differ most. own_rounding: compute the artifact in float64 on some recorded tensors in any case, not only where B
    fails or is near its limit."""

    artifact: str | None = None
    witness: str
    endpoint: str | None = None
    timeout: float = TIMEOUT_SECONDS
    endpoint_limit: float | None = None
    scores: str | None = None
    images: str | None = None
    inlet: str | None = None
    tensor_limit: float = 0.5
    model_limit: float = 1e-4
    end_limit: float = 1e-2
    agree_limit: float = 0.99
    order_limit: float = 0.99
    worst: int = 3
    write_inlet: str | None = None
    sheet: str | None = None
    own_rounding: bool = False
    overwrite: bool = False

    def outputs(self) -> list[Output]:
        outputs = [Output(self.write_inlet, kinds.INLET)] if self.write_inlet else []
        return [*outputs, Output(self.sheet, PICTURE)] if self.sheet else outputs
