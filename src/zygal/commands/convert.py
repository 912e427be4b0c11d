"""zygal convert: a trained model to an artifact."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any, ClassVar

from zygal.artifact.formats import DEFAULT_OPSET, format_for
from zygal.commands.source_options import SOURCE, input_option, shape_option, signature_option, weights_option
from zygal.files import kinds
from zygal.files.outputs import WEIGHTS, Output, check_outputs
from zygal.listener import SILENT, Listener
from zygal.naming import command_line, found_in_folder, match_command, recover_command, sibling
from zygal.outcome import Outcome
from zygal.request import SCORES_DEFAULT, Request, option, paths_read

if TYPE_CHECKING:
    from zygal.classifier.labels import Labels
    from zygal.conversion.convert import Conversion
    from zygal.graph import TensorType
    from zygal.inlet import Inlet
    from zygal.sources.model_folder import ModelFolder


@dataclass(frozen=True, kw_only=True)
class ConvertRequest(Request):
    """What zygal convert is asked for. The fields behind `labels` are those of `conversion.convert.Choices`."""

    source: str = option(
        SOURCE,
        positional=True,
        metavar="SOURCE",
    )
    weights: str | None = weights_option(": .pt, .pth, .safetensors or .weights.h5")
    shape: tuple[int, ...] | None = shape_option(" (default: that of the inlet; of FILE.py:FUNCTION 3,224,224)")
    output: str = option(
        "the file to write: ONNX, or a mobile flatbuffer if the name ends in .tflite",
        short="o",
        metavar="ARTIFACT",
        writes=True,
    )
    inlet: str | None = option(
        "the preprocessing (TOML), which is stored in the artifact", None, metavar="FILE", reads=True
    )
    labels: str | None = option(
        "the class names, which are stored in the artifact: text, JSON, CSV, or the training folder",
        None,
        metavar="FILE",
        reads=True,
    )
    input_name: str = option("name of the artifact's input (default: {default})", "image", metavar="NAME")
    output_name: str = option("name of the artifact's output (default: {default})", "scores", metavar="NAME")
    scores: str | None = option(
        f"the output to take, if the model has several ({SCORES_DEFAULT})", None, metavar="NAME"
    )
    signature: str | None = signature_option()
    input: str | None = input_option()
    write_inlet: str | None = option(
        "write the preprocessing that a model with encoded images as its input does itself, as an inlet",
        None,
        metavar="FILE",
        writes=True,
    )
    any_shape: bool = option("convert even if the output is not [batch, classes]", False)
    keep_batch: bool = option("keep the fixed batch size that the model was captured with", False)
    layout: str | None = option(
        "order of the axes of the artifact's input (default: that of the source)", None, choices=("NCHW", "NHWC")
    )
    raw_pixels: bool = option(
        "put the preprocessing into the graph: the artifact takes 8-bit RGB images [N, H, W, 3] of any size", False
    )
    half: bool = option(
        "store the weights as float16: half the file, no speed (zygal shrink --half also shows the difference)", False
    )
    weights_beside: bool = option(
        "write the weights to a file of their own, ARTIFACT.weights, which processes can share in memory", False
    )
    as_it_is: bool = option(
        "of an ONNX file: store inlet, labels, origin and names in it, and leave its graph untouched", False
    )
    widen: bool = option("compute in float32 what a mobile flatbuffer stores in 8 or 16 bits", False)
    opset: int = option(
        "version of the ONNX operator set (default: {default}); for ONNX alone", DEFAULT_OPSET, kind="int"
    )

    def outputs(self) -> list[Output]:
        """The files that are written."""
        written = [Output(self.write_inlet, kinds.INLET)] if self.write_inlet else []
        weights = [Output(f"{self.output}.weights", WEIGHTS)] if self.weights_beside else []
        return [Output(self.output, format_for(self.output).kind), *weights, *written]


@dataclass(frozen=True, kw_only=True)
class ConvertOutcome(Outcome):
    """found: what the conversion did. labels_order: where the order of the classes comes from."""

    kind: ClassVar[str] = "zygal.convert"

    request: ConvertRequest
    found: Conversion
    classes_named: int | None
    labels_order: str | None

    def result(self) -> dict[str, Any]:
        """See `Outcome.result`."""
        found = self.found
        return {
            "source": self.request.source,
            "artifact": str(found.artifact),
            "framework": found.framework,
            "framework_version": found.framework_version,
            "input": _tensor(found.input_name, found.input_type),
            "output": _tensor(found.output_name, found.output_type),
            "raw_pixels": found.raw_pixels,
            "nodes_before": found.nodes_before,
            "nodes_after": found.nodes_after,
            "operators": dict(found.operators),
            "parameters": found.parameters,
            "artifact_bytes": found.artifact_bytes,
            "weights_file": str(found.weights) if found.weights else None,
            "format": found.format,
            "opset": found.opset,
            "graph_as_it_came": self.request.as_it_is,
            "inlet_inside": found.inlet is not None,
            "inlet": asdict(found.inlet) if found.inlet is not None else None,
            "labels_inside": self.classes_named,
            "labels_order": self.labels_order,
        }


def execute(request: ConvertRequest, listener: Listener = SILENT) -> ConvertOutcome:
    """Writes the artifact. Raises ZygalError; then no artifact is written."""
    from zygal.classifier.labels import read_labels
    from zygal.conversion.convert import Choices, convert
    from zygal.inlet.sizes import tensor_shape
    from zygal.sources.model_folder import folder_at
    from zygal.sources.opened import source_file

    check_outputs(request.outputs(), request.overwrite, paths_read(request))
    folder = folder_at(request.source)
    inlet, read_notes = _inlet(request, folder)
    labels = read_labels(request.labels) if request.labels else folder and folder.labels
    choices = Choices(
        request.input_name,
        request.output_name,
        request.scores,
        request.any_shape,
        request.keep_batch,
        request.opset,
        request.layout,
        request.shape,
        request.raw_pixels,
        request.signature,
        request.input,
        request.half,
        request.widen,
        request.weights_beside,
    )
    shape = request.shape or (tensor_shape(inlet) if inlet else None)
    given = {
        "--shape": request.shape,
        "--keep-batch": request.keep_batch,
        "--signature": request.signature,
        "--input": request.input,
        "--write-inlet": request.write_inlet,
        "--widen": request.widen,
    }
    with source_file(request.source, request.weights, shape, given=given) as source:
        listener.detail(f"converting {source.name}")
        if source.estimator is not None:
            labels = _labels_of_estimator(source.estimator, labels)
        if request.as_it_is:
            from zygal.conversion.as_it_is import store

            found = store(source, request.output, inlet, labels, choices)
        else:
            found = convert(source, request.output, inlet, labels, choices)
    labels = found.labels
    if request.write_inlet:
        _write_inlet(found.inlet if inlet is None else None, request)
    notes = [*read_notes, *(labels.notes if labels else ()), *source.notes, *found.notes]
    if found.raw_pixels:
        notes.append(
            "EXIF rotation, transparency and 16-bit pixels are not part of the artifact: the program that decodes the "
            "images must do what the inlet says about them"
        )
    return ConvertOutcome(
        request=request,
        found=found,
        classes_named=len(labels.names) if labels else None,
        labels_order=labels.order if labels else None,
        notes=tuple(notes),
        written=(
            request.output,
            *([str(found.weights)] if found.weights else []),
            *([request.write_inlet] if request.write_inlet else []),
        ),
        next_step=_next_step(request, found.inlet),
    )


def _inlet(request: ConvertRequest, folder: ModelFolder | None) -> tuple[Inlet | None, tuple[str, ...]]:
    """The inlet that was given, else that of a model folder, as its installed library computes it; and notes."""
    from zygal.errors import InletError
    from zygal.inlet.reading import read_with_notes

    if request.inlet:
        return read_with_notes(request.inlet)
    if folder is None:
        return None, ()
    if folder.inlet is None:
        return None, (f"the artifact has no inlet inside: {folder.why_no_inlet}",)
    from zygal.inlet.configured import read_configured
    from zygal.sources.model_folder.libraries import way_of_processor

    try:
        found = read_configured(folder.inlet_file, way_of_processor(folder))
    except InletError as fault:
        return None, (f"the artifact has no inlet inside: {fault}",)
    return found.inlet, (f"the inlet inside is {found.said}, read from {folder.inlet_file}", *found.notes)


def _write_inlet(inlet: Inlet | None, request: ConvertRequest) -> None:
    """Writes the inlet that was read off the source. Raises InletError if there is none."""
    from zygal.errors import InletError
    from zygal.files.writing import write_text
    from zygal.inlet import format_inlet

    if inlet is None:
        raise InletError(
            f"--write-inlet writes the preprocessing that {request.source} does itself, but none could be read off it; "
            "the artifact was written. Recover the inlet with zygal inlet recover."
        )
    write_text(request.write_inlet, format_inlet(inlet))


def _labels_of_estimator(estimator: Any, given: Labels | None) -> Labels | None:
    """The given labels, else the estimator's own. Raises LabelsError if they contradict each other."""
    from zygal.classifier.labels import Labels
    from zygal.errors import LabelsError, some_of
    from zygal.sources.estimators import class_labels

    own = class_labels(estimator)
    if own is None:
        return given
    if given is None:
        return Labels(own, "classes_ of the estimator")
    if len(given.names) == len(own) and given.names != own and not all(name.lstrip("-").isdigit() for name in own):
        raise LabelsError(
            f"the labels of {given.order} are {some_of(list(given.names), 4)}, but the estimator's classes are "
            f"{some_of(list(own), 4)}; leave out --labels, or give them in this order."
        )
    return given


def _next_step(request: ConvertRequest, inlet: Inlet | None) -> str:
    """The proof: match against a recording in the source's folder, or record one."""
    from zygal.sources.model_folder import is_model_folder

    witness = found_in_folder(request.source, "*.witness", "")
    if not witness and _is_retired(request.source):
        arrays = ["--from-arrays", "SCORES.npy", "--tensors", "TENSORS.npy", "--names", "NAMES.txt"]
        return command_line("zygal", "witness", *arrays, "--images", "DIR", "-o", sibling(request.source, ".witness"))
    if not witness:
        how = (
            ["--inlet", request.inlet or request.write_inlet]
            if request.inlet or request.write_inlet
            else []
            if is_model_folder(request.source)
            else ["--training-code", "FILE.py:FUNCTION"]
        )
        weights = ["--weights", request.weights] if request.weights else []
        return command_line(
            "zygal",
            "witness",
            request.source,
            *weights,
            "--images",
            "DIR",
            *how,
            "-o",
            sibling(request.source, ".witness"),
        )
    if inlet is None:
        return recover_command(witness, "DIR", sibling(request.source, ".inlet.toml"))
    return match_command(request.output, witness, "DIR")


def _is_retired(source: str) -> bool:
    """Whether the framework of a source runs beside no current Python, so that its scores are recorded elsewhere."""
    from zygal.files.recognition import kind_of
    from zygal.sources.live import is_live

    return not is_live(source) and kind_of(source) == kinds.SYMBOL


def _tensor(name: str, type: TensorType) -> dict[str, Any]:
    shape = [size if isinstance(size, int) else str(size) for size in type.shape]
    return {"name": name, "dtype": str(type.dtype), "shape": shape}
