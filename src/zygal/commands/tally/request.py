"""What zygal tally is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.cluster.opened import ClassifierRequest
from zygal.files.outputs import PICTURE, Output
from zygal.request import option

if TYPE_CHECKING:
    pass


FIGURES = ("confusion.png", "reliability.png", "wrong.png")


@dataclass(frozen=True, kw_only=True)
class TallyRequest(ClassifierRequest):
    """What zygal tally is asked for."""

    images: str = option(
        "a folder with one sub-folder per class, or a CSV or Parquet table: path (relative to the table), label, "
        "perhaps group; all may be URLs",
        metavar="DIR|CSV",
        reads=True,
    )
    numbers: str | None = option(
        "what numeric labels mean: a labels file, or the training folder", None, metavar="FILE", reads=True
    )
    top: tuple[int, ...] | None = option(
        "the k of the top-k accuracies (default: 1,3 or 1,5)", None, metavar="K,K", kind="numbers"
    )
    threshold: float = option(
        "multi-label: the probability from which a label is assigned (default: {default})",
        0.5,
        metavar="SHARE",
        kind="share of one",
    )
    min_accuracy: float | None = option("gate: fail below this accuracy", None, metavar="SHARE", kind="share of one")
    margin: float = option(
        "with --compare: the loss of accuracy that still counts as not worse (default: {default})",
        0.01,
        metavar="SHARE",
        kind="share of one",
        needs="compare",
    )
    trained_on: tuple[str, ...] = option(
        "folder of training images: labelled images that are also there are listed", (), metavar="DIR", reads=True
    )
    worst: int = option(
        "how many of the worst classes, pairs and images to list (default: {default})", 12, metavar="N", kind="int"
    )
    draw: str | None = option(
        "draw the confusion matrix, the calibration and the wrong predictions there", None, metavar="DIR", writes=True
    )
    pair: str | None = option(
        "with --draw: only the wrong predictions of this pair of classes", None, metavar="TRUE,PREDICTED"
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(str(Path(self.draw) / name), PICTURE, True) for name in FIGURES] if self.draw else []
