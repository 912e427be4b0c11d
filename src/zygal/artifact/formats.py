"""The formats of artifacts: for each how it is told by a name and by a file, and where it is written, read and run.

Everything that must know what format an artifact has asks this table. Nothing here imports a runtime, or more than one
format at a time.
"""

from __future__ import annotations

from collections.abc import Container
from dataclasses import dataclass
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.errors import ArtifactError
from zygal.files import kinds
from zygal.files.opening import sha256_of_all

if TYPE_CHECKING:
    from zygal.artifact.facts import Artifact
    from zygal.classifier.metadata import Metadata
    from zygal.graph import Graph

DEFAULT_OPSET = 17


@dataclass(frozen=True)
class Writing:
    """What can be chosen about the form of an artifact.

    opset: of ONNX, the version of the standard to aim at. half: weights are stored as float16, and widened when the
    file is loaded. raw_pixels: the graph takes 8-bit images of any size, which not every format can state.
    weights_beside: weights go to a second file, PATH.weights, which the runtime maps: processes that run the artifact
    share one copy.
    """

    opset: int = DEFAULT_OPSET
    half: bool = False
    raw_pixels: bool = False
    weights_beside: bool = False


@dataclass(frozen=True)
class Written:
    """operators: what the file holds, by the format's names. notes: sentences that a person should read. weights: the
    second file, if there is one."""

    operators: dict[str, int]
    notes: tuple[str, ...] = ()
    weights: Path | None = None


@dataclass(frozen=True)
class Format:
    """One format.

    name: in words. kind: of `zygal.files.kinds`. ending: of the names by which it is chosen for writing. folder: its
    package: `write` has `write(graph, path, metadata, writing)`, `read` has `read(path, output)`, `spelling` has
    `operators_of(writing)`. sessions: the module whose `open_session(path, settings)` gives a session. inside: the
    module whose `values` shows what is inside. refused: the settings of `Writing` that it does not have, with the
    reason. arrangement: the module whose `arrange(graph, writing)` fits a graph to its runtime. proof: the module whose
    `check_written(path, graph, named)` runs what was written, where a runtime takes less than its format can state.
    """

    name: str
    kind: str
    ending: str
    folder: str
    sessions: str
    inside: str
    refused: dict[str, str]
    arrangement: str | None = None
    proof: str | None = None

    def write(
        self, graph: Graph, path: str | Path, metadata: Metadata, writing: Writing = Writing(), proven: bool = False
    ) -> Written:
        """proven: where the runtime is installed, the file is run at the batches that it takes before it stands at
        `path`."""
        write = import_module(f"{self.folder}.write").write
        if not proven or not self.proof:
            return write(graph, path, metadata, writing)
        return write(
            graph,
            path,
            metadata,
            writing,
            lambda written: import_module(self.proof).check_written(written, graph, path),
        )

    def read(self, path: str | Path, output: str | None = None) -> Artifact:
        """See `read_artifact`."""
        return import_module(f"{self.folder}.read").read(path, output)

    def is_own(self, path: str | Path) -> bool:
        """Whether Zygal wrote a file. Raises FileError or ArtifactError."""
        return import_module(f"{self.folder}.read").is_own(path)

    def expressed(self, writing: Writing) -> Container[str]:
        """The graph's operators that it has."""
        return import_module(f"{self.folder}.spelling").operators_of(writing)

    def arranged(self, graph: Graph, writing: Writing) -> Graph:
        """The graph in the form in which the format's runtime is fastest."""
        return import_module(self.arrangement).arrange(graph, writing) if self.arrangement else graph

    def check(self, where: str, writing: Writing) -> None:
        """Raises ArtifactError naming the first setting that the format does not have."""
        usual = Writing()
        for setting, reason in self.refused.items():
            if getattr(writing, setting) != getattr(usual, setting):
                raise ArtifactError(f"--{setting.replace('_', '-')} does not apply to {where}: {reason}; leave it out.")


FORMATS: tuple[Format, ...] = (
    Format(
        "ONNX",
        kinds.ARTIFACT,
        ".onnx",
        "zygal.artifact.onnx",
        "zygal.engines.onnx_session",
        "zygal.engines.onnx_inside",
        {},
        "zygal.artifact.onnx.arrange",
    ),
    Format(
        "mobile flatbuffer",
        kinds.MOBILE,
        ".tflite",
        "zygal.artifact.mobile",
        "zygal.engines.mobile_session",
        "zygal.engines.mobile_inside",
        {
            "opset": "a mobile flatbuffer has no opset",
            "raw_pixels": "a mobile flatbuffer takes images of one size, so it cannot hold the preprocessing",
            "weights_beside": "its runtime maps the one file as it is",
        },
        proof="zygal.engines.mobile_proof",
    ),
)
ONNX, MOBILE = FORMATS


def format_for(path: str | Path) -> Format:
    """The format that a name to be written asks for by its ending; ONNX unless it says another."""
    return next((each for each in FORMATS if Path(path).suffix.lower() == each.ending), ONNX)


def format_of(path: str | Path) -> Format:
    """The format of a file, by its first bytes. Raises FileError."""
    from zygal.files.recognition import require_artifact

    kind = require_artifact(path)
    return next(each for each in FORMATS if each.kind == kind)


def write_artifact(graph: Graph, path: str | Path, metadata: Metadata, writing: Writing = Writing()) -> Written:
    """Writes the graph to `path` in the format that its name asks for, whole or not at all; the same graph gives the
    same bytes.

    Raises ArtifactError naming the layers that the format cannot express, OutputError if the file cannot be written.
    """
    format = format_for(path)
    format.check(str(path), writing)
    return format.write(graph, path, metadata, writing)


def read_artifact(path: str | Path, output: str | None = None) -> Artifact:
    """What an artifact says of itself. output: which of its outputs are the class scores, if it has several; the one
    that looks like them unless named. Raises FileError, ArtifactError or InletError; SourceError if there is no such
    output."""
    return format_of(path).read(path, output)


def artifact_hash(path: str | Path) -> str:
    """What tells an artifact from every other one: the hash of all files that it consists of. Raises FileError or
    ArtifactError."""
    return sha256_of_all(artifact_files(path))


def artifact_files(path: str | Path) -> list[Path]:
    """The artifact and the files that it needs beside it. Raises FileError or ArtifactError."""
    return [Path(path), *import_module(f"{format_of(path).folder}.read").files_beside(path)]
