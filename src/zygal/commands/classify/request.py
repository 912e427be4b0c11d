"""What zygal classify is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.cluster.opened import ClassifierRequest
from zygal.files import kinds
from zygal.files.outputs import PICTURE, VECTOR_FILE, Output

if TYPE_CHECKING:
    pass


PREDICTIONS, VECTORS = "predictions", "vectors"


@dataclass(frozen=True, kw_only=True)
class ClassifyRequest(ClassifierRequest):
    """paths: images and folders, here or at URLs. lists: text files with one path per line, "-" for standard input, or
    tables with a column of paths; column: its name. skip: patterns of names to leave out in folders. output: the file
    of rows. overwrite: start the output again instead of resuming it. write_as: "predictions", or "vectors", the
    model's output as it is. hash_images: notice replaced images by the hashes of their bytes, not by size and time.
    top: how many classes to give. min_probability, min_margin: below these a prediction is uncertain. threshold: the
    probability from which a multi-label model assigns a label. regions: a picture of what supports the prediction for
    one image. exclude: files in the folders that are not images, such as a document that a user interface will write
    there."""

    paths: tuple[str, ...] = ()
    lists: tuple[str, ...] = ()
    column: str | None = None
    skip: tuple[str, ...] = ()
    output: str | None = None
    overwrite: bool = False
    hash_images: bool = False
    write_as: str = PREDICTIONS
    top: int = 3
    min_probability: float = 0.5
    min_margin: float = 0.1
    threshold: float = 0.5
    regions: str | None = None
    exclude: tuple[str, ...] = ()

    def outputs(self) -> list[Output]:
        if self.write_as == VECTORS and self.output:
            from zygal.prediction.vectors import names_file

            names = [Output(names_file(self.output), kinds.LABELS)] if self.output.lower().endswith(".npy") else []
            return [Output(self.output, VECTOR_FILE), *names]
        # The file of rows has its own check: it is resumed, not replaced.
        return [Output(self.regions, PICTURE)] if self.regions else []
