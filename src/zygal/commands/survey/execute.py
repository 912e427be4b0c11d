"""zygal survey: what a file is and what is in it."""

from __future__ import annotations

import os
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.source_options import input_option, shape_option, signature_option, weights_option
from zygal.commands.survey.documents import (
    artifact_document,
    folder_document,
    labels_document,
    trained_document,
    witness_document,
)
from zygal.errors import FileError, OutputError
from zygal.files import kinds
from zygal.files.outputs import DRAWING, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command, recover_command, sibling
from zygal.outcome import Outcome
from zygal.request import Request, option, paths_read

if TYPE_CHECKING:
    from zygal.outline.outline import Outline

KERAS_WEIGHTS = "a weights file of Keras (.weights.h5)"
_WEIGHTS = (kinds.SAFETENSORS, kinds.TORCH_PICKLE, kinds.PARAMETERS, KERAS_WEIGHTS)


def _is_trained(kind: str) -> bool:
    from zygal.files.families import family_of_kind

    return kind == kinds.LIVE or family_of_kind(kind) is not None


def _holds_a_model(folder: str | Path) -> bool:
    """Whether a folder is a trained model's or a part of one, not one of images, which may have a class called
    variables."""
    parts = ("saved_model.pb", "saved_model.pbtxt", "variables/variables.index", "variables.index")
    return any(os.path.exists(os.path.join(folder, name)) for name in parts)


@dataclass(frozen=True, kw_only=True)
class SurveyRequest(Request):
    """What zygal survey is asked for."""

    file: str = option(
        "a trained model (a file, a saved-model folder or FILE.py:FUNCTION), an artifact, a witness, an inlet, "
        "labels or their folder, or a weights file",
        positional=True,
        metavar="FILE",
        reads=True,
    )
    weights: str | None = weights_option()
    shape: tuple[int, ...] | None = shape_option()
    signature: str | None = signature_option()
    input: str | None = input_option()
    write_inlet: str | None = option(
        "write the preprocessing that a model does itself, as an inlet", None, metavar="FILE", writes=True
    )
    draw: str | None = option(
        "draw the network (PNG or SVG): its parts with repeats folded, shapes, parameters and multiply-adds",
        None,
        metavar="FILE",
        writes=True,
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        drawn = [Output(self.draw, DRAWING)] if self.draw else []
        return [Output(self.write_inlet, kinds.INLET), *drawn] if self.write_inlet else drawn

    def options(self) -> dict[str, Any]:
        """What only some sources have."""
        return {"--shape": self.shape, "--signature": self.signature, "--input": self.input}


@dataclass(frozen=True)
class Survey:
    """kind: a constant of `zygal.files.kinds`. facts: what the reader of that kind returns."""

    path: Path
    kind: str
    facts: Any
    why_not: str = ""
    """Of another maker's ONNX file: what stands in the way of a conversion, as a sentence."""

    @property
    def is_artifact(self) -> bool:
        """Whether it says of itself what an artifact of ours does; another maker's flatbuffer is surveyed as a
        source."""
        return hasattr(self.facts, "metadata")

    @property
    def is_source(self) -> bool:
        """Whether it is a trained model and no artifact."""
        return _is_trained(self.kind) and not self.is_artifact


@dataclass(frozen=True, kw_only=True)
class SurveyOutcome(Outcome):
    """What a file is, and what was drawn and written of it."""

    kind: ClassVar[str] = "zygal.survey"

    found: Survey
    outline: Outline | None = None

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        documents = {
            **dict.fromkeys(_WEIGHTS, lambda facts: facts.document()),
            kinds.INLET: asdict,
            **dict.fromkeys((kinds.LABELS, kinds.FOLDER), labels_document),
            kinds.WITNESS: witness_document,
            kinds.MODEL_FOLDER: folder_document,
        }
        describe = artifact_document if self.found.is_artifact else documents.get(self.found.kind, trained_document)
        return {
            "file": str(self.found.path),
            "file_kind": self.found.kind,
            **describe(self.found.facts),
            **({"cannot_be_converted": self.found.why_not or None} if self.found.is_artifact else {}),
            "outline": self.outline and self.outline.document(),
        }


def execute(request: SurveyRequest, listener: Listener = SILENT) -> SurveyOutcome:
    """Recognises a file by its contents and reads what it says. Raises ZygalError."""
    from zygal.inlet.reading import read_with_notes
    from zygal.sources.live import is_function

    if request.draw and not request.draw.lower().endswith((".png", ".svg")):
        raise OutputError(f"--draw {request.draw}: a drawing ends in .png or .svg.")
    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    listener.detail(f"reading {request.file}")
    if is_function(request.file) or request.weights and not _takes_weights(request.file):
        found, notes = _survey_live(request)
    else:
        found, notes = survey(request.file, request), []
    if found.kind in (kinds.LABELS, kinds.FOLDER, kinds.MODEL_FOLDER):
        notes += found.facts.notes
    if found.kind == kinds.INLET:
        notes += read_with_notes(request.file)[1]
    if found.is_source:
        notes += _notes_on(found.facts)
    if found.is_artifact and found.facts.chosen.reason:
        notes.append(found.facts.chosen.note(list(found.facts.outputs)))
    written = _write_inlet(found, request) if request.write_inlet else ()
    outline = _draw(found, request) if request.draw else None
    return SurveyOutcome(
        found=found,
        outline=outline,
        notes=tuple(notes),
        written=(*written, *((request.draw,) if outline else ())),
        next_step=_next_step(found, request),
    )


def _draw(found: Survey, request: SurveyRequest) -> Outline:
    """Draws the network. Raises FileError for a file that holds none."""
    from zygal.outline.figure import draw_network
    from zygal.outline.opened import graph_at
    from zygal.outline.outline import outline_of

    if not found.is_artifact and not found.is_source and found.kind != kinds.MODEL_FOLDER:
        raise FileError(
            f"--draw shows a network, but {request.file} is {found.kind}; name a trained model or an artifact."
        )
    outline = outline_of(
        graph_at(
            request.file, found.kind, request.weights, request.shape, signature=request.signature, input=request.input
        )
    )
    draw_network(outline, Path(request.file).name, request.draw)
    return outline


def _write_inlet(found: Survey, request: SurveyRequest) -> tuple[str, ...]:
    """Writes the inlet that a file holds or does itself. Raises FileError if there is none."""
    from zygal.files.writing import write_text
    from zygal.inlet import format_inlet

    inlet = found.facts.metadata.inlet if found.is_artifact else getattr(found.facts, "inlet", None)
    inlet = getattr(inlet, "inlet", inlet)
    if inlet is None:
        raise FileError(
            f"--write-inlet writes the preprocessing inside a file, but {request.file} holds none that can be "
            f"stated as an inlet."
        )
    write_text(request.write_inlet, format_inlet(inlet))
    return (request.write_inlet,)


def _survey_live(request: SurveyRequest) -> tuple[Survey, list[str]]:
    """What the model is that a function builds, and notes."""
    from zygal.sources import source_facts
    from zygal.sources.opened import source_file

    with source_file(request.file, request.weights, request.shape, "FILE", request.options()) as source:
        facts = replace(source_facts(source.path), path=Path(source.name))
    notes = list(source.notes)
    if source.estimator is not None:
        notes.append(
            f"what follows describes the network; the estimator {type(source.estimator).__name__} classifies "
            f"what it returns"
        )
    return Survey(Path(request.file), kinds.LIVE, facts), notes


def _notes_on(facts: Any) -> list[str]:
    """What makes a model doubtful."""
    from zygal.conversion.convert import SOFTMAX_TWICE

    notes = [facts.chosen.note(list(facts.outputs))] if facts.chosen.reason else []
    if facts.mode == "training":
        notes.append("the model was captured in training mode; convert and witness use it in evaluation mode")
    return [*notes, SOFTMAX_TWICE] if facts.softmax_twice else notes


def survey(path: str | Path, request: SurveyRequest | None = None) -> Survey:  # noqa: C901
    """Recognises a file by its contents and reads what it says of itself. Raises ZygalError."""
    from zygal.files.recognition import advice, family_of, kind_of
    from zygal.sources.model_folder import folder_at

    folder = folder_at(path)
    if folder is not None:
        if request is not None and not request.draw:
            _refuse_options(request, kinds.MODEL_FOLDER)
        return Survey(Path(path), kinds.MODEL_FOLDER, folder)
    if os.path.isdir(path) and not _holds_a_model(path):
        from zygal.classifier.labels import read_labels

        return Survey(Path(path), kinds.FOLDER, read_labels(path))
    kind = kind_of(path)
    if request is not None and not _is_trained(kind):
        _refuse_options(request, kind)
    if kind == kinds.SAFETENSORS:
        from zygal.files.weights import read_safetensors

        return Survey(Path(path), kind, read_safetensors(path))
    if kind == kinds.TORCH_PICKLE:
        from zygal.sources.pytorch.checkpoint import read_checkpoint

        return Survey(Path(path), kind, read_checkpoint(path))
    if kind == kinds.PARAMETERS:
        from zygal.sources.mxnet.parameters import read_weights

        return Survey(Path(path), kind, read_weights(path))
    if kind == kinds.HDF5:
        from zygal.files.weights import read_keras_weights

        weights = read_keras_weights(path)
        if weights is not None:
            return Survey(Path(path), KERAS_WEIGHTS, weights)
    if kind in kinds.ARTIFACTS:
        from zygal.artifact.formats import read_artifact

        artifact = read_artifact(path)
        if artifact.metadata.origin is not None:
            if request is not None and not request.draw:
                _refuse_options(request, kind)
            return Survey(Path(path), kind, artifact)
        if kind == kinds.ARTIFACT:
            from zygal.sources import Reading
            from zygal.sources.onnx.reader import obstacle

            if request is not None:
                family_of(path).refuse_options(str(path), request.options())
            return Survey(Path(path), kind, artifact, obstacle(path, Reading(image_shape=request and request.shape)))
    if _is_trained(kind):
        from zygal.sources import Reading, source_facts

        reading = Reading()
        if request is not None:
            family_of(path).refuse_options(str(path), request.options())
            weights = Path(request.weights) if request.weights else None
            reading = Reading(None, None, request.shape, request.signature, request.input, weights=weights)
        facts = source_facts(path, reading)
        for type in facts.inputs.values():
            if reading.image_shape and type is not None and type.shape[1:] != tuple(reading.image_shape):
                raise FileError(
                    f"--shape does not fit {path}, which takes images of {','.join(map(str, type.shape[1:]))}; "
                    f"leave it out."
                )
        return Survey(Path(path), kind, facts)
    if kind == kinds.WITNESS:
        from zygal.evidence.witness import read_witness

        return Survey(Path(path), kind, read_witness(path))
    if kind == kinds.INLET:
        from zygal.inlet import read_inlet

        return Survey(Path(path), kind, read_inlet(path))
    if kind == kinds.LABELS:
        from zygal.classifier.labels import read_labels

        return Survey(Path(path), kind, read_labels(path))
    raise FileError(
        f"{path} is {kind}; survey reads trained models, artifacts, witnesses, inlets and labels{advice(kind)}."
    )


def _takes_weights(file: str) -> bool:
    """Whether a file is a graph alone, whose weights are in a file of their own."""
    from zygal.files.families import family_of_kind
    from zygal.files.recognition import kind_of

    family = None if os.path.isdir(file) else family_of_kind(kind_of(file))
    return family is not None and family.takes_weights


def _inlet_and_labels(file: str, inlet: Any, labels: Any) -> list[str]:
    """Options for what a source does not hold itself, with the files beside it that fit by their names."""
    return [
        *([] if inlet else ["--inlet", found_in_folder(file, "*.inlet.toml", "INLET.toml")]),
        *([] if labels else ["--labels", found_in_folder(file, "labels.*", "LABELS")]),
    ]


def _convert_it(file: str, found: Survey) -> str:
    """How another maker's ONNX file becomes an artifact: whole where its graph can be read, else as it is."""
    shape = ["--shape", "C,H,W"] if "--shape" in found.why_not else []
    how = shape if shape or not found.why_not else ["--as-it-is"]
    metadata = found.facts.metadata
    more = _inlet_and_labels(file, metadata.inlet, metadata.labels)
    return command_line("zygal", "convert", file, "-o", sibling(file, ".zygal.onnx"), *how, *more)


def _refuse_options(request: SurveyRequest, kind: str) -> None:
    for name, value in request.options().items():
        if value:
            raise FileError(f"{name} does not apply to {kind}; leave it out.")


def _next_step(found: Survey, request: SurveyRequest) -> str | None:
    file = request.file
    if found.is_source and not found.facts.unknown_operators and not found.facts.why_not:
        weights = ["--weights", request.weights] if request.weights else []
        more = _inlet_and_labels(file, found.facts.inlet, found.facts.labels)
        return command_line("zygal", "convert", file, *weights, "-o", sibling(file, ".onnx"), *more)
    if found.kind == kinds.MODEL_FOLDER:
        more = [] if found.facts.labels else ["--labels", "LABELS"]
        return command_line("zygal", "convert", file, "-o", sibling(file.rstrip("/"), ".onnx"), *more)
    if found.kind == kinds.PARAMETERS:
        return command_line("zygal", "survey", "NAME-symbol.json", "--weights", file)
    if found.kind in _WEIGHTS:
        return command_line("zygal", "survey", "FILE.py:FUNCTION", "--weights", file)
    if found.is_artifact and found.kind == kinds.ARTIFACT and found.facts.metadata.origin is None:
        return _convert_it(file, found)
    if found.is_artifact:
        witness = found_in_folder(file, "*.witness", "WITNESS")
        return match_command(file, witness, "DIR")
    if found.kind == kinds.WITNESS and found.facts.tensors is not None:
        return recover_command(file, "DIR", sibling(file, ".inlet.toml"))
    return None
