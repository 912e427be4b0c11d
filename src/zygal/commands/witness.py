"""zygal witness: record what the training framework does on reference images."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.commands.source_options import SOURCE, input_option, shape_option, signature_option, weights_option
from zygal.errors import WitnessError
from zygal.files import kinds
from zygal.files.outputs import Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import match_command, recover_command, sibling
from zygal.outcome import Outcome
from zygal.request import SCORES_DEFAULT, Request, option, paths_read

if TYPE_CHECKING:
    import numpy as np

    from zygal.evidence.witness import Witness
    from zygal.sources import Reading


@dataclass(frozen=True, kw_only=True)
class WitnessRequest(Request):
    """What zygal witness is asked for: one of inlet, training_code and from_arrays says where the tensors come from; of
    a model folder its library's own preprocessing makes them, unless one is given."""

    source: str | None = option(
        SOURCE,
        None,
        positional=True,
        nargs="?",
        metavar="SOURCE",
    )
    weights: str | None = weights_option(": .pt, .pth, .safetensors or .weights.h5")
    shape: tuple[int, ...] | None = shape_option(" (default: that of the inlet; of FILE.py:FUNCTION 3,224,224)")
    images: str = option("folder of reference images", metavar="DIR", reads=True)
    output: str = option("the witness to write", short="o", metavar="FILE", writes=True)
    scores: str | None = option(
        f"the output to record, if the model has several ({SCORES_DEFAULT})", None, metavar="NAME"
    )
    signature: str | None = signature_option()
    input: str | None = input_option()
    labels: str | None = option(
        "also record the class names, so that match compares them: text, JSON, CSV, or the training folder",
        None,
        metavar="FILE",
        reads=True,
    )
    layers: bool = option("also record outputs of layers, so that match can name the first layer that differs", False)
    inlet: str | None = option(
        "this inlet (TOML)", None, metavar="FILE", group="where the tensors come from (exactly one)", reads=True
    )
    training_code: str | None = option(
        "the training side's own function from an image path to an array (the file is run)",
        None,
        metavar="FILE.py:FUNCTION",
        group="where the tensors come from (exactly one)",
        configurable=False,
    )
    from_arrays: str | None = option(
        "another framework: its recorded scores [images, classes] as .npy or CSV",
        None,
        metavar="SCORES",
        group="where the tensors come from (exactly one)",
        reads=True,
    )
    tensors: str | None = option(
        "with --from-arrays: the input tensors of the model", None, metavar="FILE.npy", reads=True
    )
    names: str | None = option(
        "with --from-arrays: the image name of each row, one per line", None, metavar="FILE", reads=True
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        return [Output(self.output, kinds.WITNESS)]


@dataclass(frozen=True, kw_only=True)
class WitnessOutcome(Outcome):
    """What was recorded."""

    kind: ClassVar[str] = "zygal.witness"

    request: WitnessRequest
    found: Witness
    size_bytes: int

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found = self.found
        return {
            "witness": self.request.output,
            "witness_bytes": self.size_bytes,
            "source": self.request.source,
            "images_from": self.request.images,
            "framework": found.framework,
            "framework_version": found.framework_version,
            "images": [image.name for image in found.images],
            "tensors": None
            if found.tensors is None
            else {"dtype": str(found.tensors.dtype), "shape": list(found.tensors.shape)},
            "preprocessing": found.preprocessing.kind,
            "layers": list(found.layers.names) if found.layers else None,
            "classes": found.scores.shape[1],
            "labels": list(found.labels) if found.labels else None,
        }


def execute(request: WitnessRequest, listener: Listener = SILENT) -> WitnessOutcome:
    """Records and writes the witness. Raises ZygalError; then nothing is written."""
    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    _check(request)
    found, notes = (_from_arrays(request), []) if request.from_arrays else _recorded(request, listener)
    found.write(request.output)
    return WitnessOutcome(
        request=request,
        found=found,
        size_bytes=Path(request.output).stat().st_size if Path(request.output).is_file() else 0,
        notes=tuple(notes),
        unreadable=found.skipped,
        written=(request.output,),
        next_step=_next_step(request),
    )


def _check(request: WitnessRequest) -> None:
    from zygal.sources.model_folder import is_model_folder

    given = [name for name in ("inlet", "training_code", "from_arrays") if getattr(request, name)]
    if len(given) != 1 and (given or not is_model_folder(request.source or "")):
        raise WitnessError(
            "give exactly one of --inlet, --training-code and --from-arrays: it says where the tensors come from."
        )
    if request.from_arrays:
        if request.layers or request.scores:
            raise WitnessError("--layers and --scores need a live model; leave them out with --from-arrays.")
        return
    if request.source is None:
        raise WitnessError("SOURCE is missing: name the trained model, or give its recorded scores with --from-arrays.")
    if request.tensors or request.names:
        raise WitnessError("--tensors and --names need --from-arrays, which is not given.")


def _from_arrays(request: WitnessRequest) -> Witness:
    from zygal.evidence.arrays import read_array, read_names
    from zygal.evidence.witness import Witness

    scores, names = read_array(request.from_arrays)
    if request.names:
        names = read_names(request.names)
    if names is None:
        raise WitnessError(
            f"{request.from_arrays} does not say which image each row belongs to; give --names FILE with one "
            f"name per line."
        )
    tensors = read_array(request.tensors)[0] if request.tensors else None
    return Witness.from_arrays(scores, names, request.images, tensors, "arrays", "", request.source, _labels(request))


def _labels(request: WitnessRequest) -> tuple[str, ...] | None:
    from zygal.classifier.labels import read_labels
    from zygal.sources.model_folder import folder_at

    if request.labels:
        return read_labels(request.labels).names
    folder = folder_at(request.source)
    return folder.labels.names if folder is not None and folder.labels is not None else None


def _recorded(request: WitnessRequest, listener: Listener) -> tuple[Witness, list[str]]:
    """The recording, and notes."""
    from zygal.engines.live import open_live_engine
    from zygal.evidence.record import (
        check_repeatable,
        first_tensor,
        inlet_preprocessing,
        library_preprocessing,
        record_witness,
        training_code_preprocessing,
    )
    from zygal.inlet.reading import read_with_notes
    from zygal.sources.model_folder import read_model_folder
    from zygal.sources.opened import source_file

    labels = _labels(request)
    inlet, inlet_notes = read_with_notes(request.inlet) if request.inlet else (None, ())
    if inlet:
        to_tensor, preprocessing = inlet_preprocessing(inlet)
    elif request.training_code:
        to_tensor, preprocessing = training_code_preprocessing(request.training_code)
    else:
        to_tensor, preprocessing = library_preprocessing(read_model_folder(request.source))
    # What is wrong with the images or their preprocessing is said before a framework is loaded.
    first = first_tensor(request.images, to_tensor)
    _check_first(request, *first)
    if inlet is None:
        check_repeatable(request.images, to_tensor, preprocessing.text)
    shape = request.shape or first[1].shape
    with source_file(request.source, request.weights, shape, given=_given(request)) as source:
        listener.detail(f"loading {source.name} in its framework")
        engine = open_live_engine(source, request.scores, len(labels) if labels else None, _reading(request), shape)
        found = record_witness(
            engine,
            request.images,
            to_tensor,
            preprocessing,
            lambda done, total: listener.count("images", done, total),
            request.layers,
            source,
            labels,
        )
    notes = [*inlet_notes, *source.notes]
    if engine.captured_in_training:
        notes.append(
            "the model was captured in training mode; it was recorded in evaluation mode, as convert converts it"
        )
    if engine.chosen.reason:
        notes.append(engine.chosen.note(engine.output_names))
    return found, notes


def _given(request: WitnessRequest) -> dict[str, Any]:
    return {"--shape": request.shape, "--signature": request.signature, "--input": request.input}


def _reading(request: WitnessRequest) -> Reading:
    from zygal.sources import Reading

    return Reading(request.scores, None, request.shape, request.signature, request.input)


def _check_first(request: WitnessRequest, name: str, tensor: np.ndarray) -> None:
    """Raises WitnessError if the model's file says that it takes other tensors."""
    from zygal.evidence.record import check_tensor
    from zygal.files.recognition import family_of
    from zygal.sources import source_facts
    from zygal.sources.live import is_live

    if is_live(request.source):
        return
    family_of(request.source).refuse_options(request.source, _given(request))
    inputs = [type for type in source_facts(request.source, _reading(request)).inputs.values() if type is not None]
    if len(inputs) == 1:
        check_tensor(
            tensor, name, [size if isinstance(size, int) else None for size in inputs[0].shape[1:]], request.source
        )


def _next_step(request: WitnessRequest) -> str | None:
    if request.inlet is None and (request.tensors or request.training_code):
        return recover_command(request.output, request.images, sibling(request.output, ".inlet.toml"))
    artifact = sibling(request.source, ".onnx") if request.source else "ARTIFACT"
    return match_command(artifact, request.output, request.images)
