"""What zygal inlet recover is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.files import kinds
from zygal.files.outputs import Output
from zygal.request import Request, option

if TYPE_CHECKING:
    pass


@dataclass(frozen=True, kw_only=True)
class RecoverRequest(Request):
    """What zygal inlet recover is asked for."""

    witness: str = option("the recording of the training framework", metavar="FILE", reads=True)
    images: str = option("folder of the recorded images", metavar="DIR", reads=True)
    output: str = option("the inlet to write (TOML)", short="o", metavar="FILE", writes=True)
    artifact: str | None = option(
        "for a witness without tensors: the model whose scores guide the search", None, metavar="FILE", reads=True
    )
    accept: float = option(
        "difference that 99.9 %% of each tensor's values must keep, in grey levels; the others may be one level "
        "more (default: {default})",
        0.5,
        metavar="LEVELS",
        kind="limit",
    )
    accept_scores: float = option(
        "the same for scores, as a share of their spread (default: 0.05)", 0.05, metavar="SHARE", kind="share"
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(self.output, kinds.INLET)]
