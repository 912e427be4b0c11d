"""What zygal classify is asked for."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from zygal.cluster.opened import ClassifierRequest
from zygal.files import kinds
from zygal.files.outputs import PICTURE, VECTOR_FILE, Output
from zygal.request import option

if TYPE_CHECKING:
    pass


PREDICTIONS, VECTORS = "predictions", "vectors"


@dataclass(frozen=True, kw_only=True)
class ClassifyRequest(ClassifierRequest):
    """What zygal classify is asked for. exclude: files in the folders that are not images, such as a document that a
    user interface will write there."""

    paths: tuple[str, ...] = option(
        "image files, and folders with the images below them; paths or URLs",
        (),
        positional=True,
        nargs="*",
        metavar="PATH",
    )
    lists: tuple[str, ...] = option(
        "a text file with one path or URL per line (- for standard input), or a .csv or .parquet table with a "
        "column of them; may be repeated",
        (),
        name="list",
        metavar="FILE",
        reads=True,
    )
    column: str | None = option(
        "with --list TABLE: the column of the paths (default: path, file, image or the like)", None, metavar="NAME"
    )
    write_as: str = option(
        "what to write: predictions, or vectors, the output of the model as it is (.parquet or .npy; default: "
        "predictions)",
        PREDICTIONS,
        name="as",
        choices=("predictions", "vectors"),
    )
    hash_images: bool = option(
        "notice images that were replaced since an earlier run by the hashes of their bytes, not by size and time",
        False,
    )
    skip: tuple[str, ...] = option(
        "leave out files and folders of this name in folders, as in --skip '*.json'", (), metavar="PATTERN"
    )
    output: str | None = option(
        "write one row per image: .csv, .jsonl or .parquet; the same command resumes an unfinished file",
        None,
        short="o",
        metavar="FILE",
        writes=True,
    )
    top: int = option("how many classes to give (default: {default})", 3, metavar="N", kind="int")
    min_probability: float = option(
        "a prediction with a lower probability is marked uncertain (default: {default})",
        0.5,
        metavar="SHARE",
        kind="share of one",
    )
    min_margin: float = option(
        "a prediction whose probability exceeds that of the second class by less is marked uncertain (default: "
        "{default})",
        0.1,
        metavar="SHARE",
        kind="share of one",
    )
    threshold: float = option(
        "multi-label: the probability from which a label is assigned (default: {default})",
        0.5,
        metavar="SHARE",
        kind="share of one",
    )
    regions: str | None = option(
        "for one image: draw what supports and what opposes the prediction", None, metavar="PNG", writes=True
    )
    exclude: tuple[str, ...] = ()

    def outputs(self) -> list[Output]:
        """The files that are written."""
        if self.write_as == VECTORS and self.output:
            from zygal.prediction.vectors import names_file

            names = [Output(names_file(self.output), kinds.LABELS)] if self.output.lower().endswith(".npy") else []
            return [Output(self.output, VECTOR_FILE), *names]
        # The file of rows has its own check: it is resumed, not replaced.
        return [Output(self.regions, PICTURE)] if self.regions else []
