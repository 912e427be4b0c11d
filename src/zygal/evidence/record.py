"""Recording a witness: the training framework, live, on a folder of reference images."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from zygal import __version__
from zygal.classifier.labels import check_label_count
from zygal.engines import run_in_batches
from zygal.engines.engine import LiveEngine
from zygal.errors import ImageError, WitnessError, as_text, some_of
from zygal.evidence.arrays import check_finite
from zygal.evidence.layers import record_layers
from zygal.evidence.witness import Preprocessing, Witness
from zygal.files.opening import sha256_of
from zygal.inlet import Inlet, apply_inlet, format_inlet
from zygal.inlet.images import hash_image, list_images
from zygal.machine.backends import missing_package
from zygal.sources.model_folder import ModelFolder
from zygal.sources.opened import SourceFile
from zygal.sources.user_code import load_function, split_place

REPEATED_IMAGES, REPEATED_CALLS = 12, 2
"""On how many images training code is called again, and how often: a step that changes one image in ten is found with
98 % probability, one that changes every second image always."""

ImageToTensor = Callable[[Path], np.ndarray]
Progress = Callable[[int, int], None]


def record_witness(
    engine: LiveEngine,
    images: str | Path,
    to_tensor: ImageToTensor,
    preprocessing: Preprocessing,
    progress: Progress = lambda done, total: None,
    layers: bool = False,
    source: SourceFile | None = None,
    labels: Sequence[str] | None = None,
) -> Witness:
    """Runs the engine on every image of a folder and keeps tensors and scores, and of a few images the layers' outputs.

    `to_tensor` makes one image's tensor, without the batch axis. An image that it cannot read is skipped and named in
    the result. source: what the user named, whose hash is kept; the engine's file unless given. labels: the class names
    in the order of the scores. Raises WitnessError if no image is left or a tensor does not fit, LabelsError if the
    labels do not.
    """
    names = image_names(images)
    tensors, kept, skipped = [], [], []
    for done, name in enumerate(names):
        progress(done, len(names))
        try:
            tensor = to_tensor(Path(images) / name)
        except ImageError as fault:
            skipped.append((name, str(fault)))
            continue
        check_tensor(tensor, name, engine.input_type.shape[1:], engine.path)
        tensors.append(tensor)
        kept.append(hash_image(images, name))
    if not tensors:
        raise _none_readable(images, names, skipped[0][1])
    stacked = np.stack(tensors).astype(engine.input_type.dtype, copy=False)
    scores = np.concatenate(list(run_in_batches(engine, stacked)))
    progress(len(names), len(names))
    if scores.ndim != 2:
        raise WitnessError(
            f"{engine.path} gives {list(scores.shape)} from {engine.chosen.name}, but scores must be [images, classes]"
            + (
                f"; choose another of its outputs with --scores ({', '.join(engine.output_names)})."
                if len(engine.output_names) > 1
                else "."
            )
        )
    check_finite(scores, [image.name for image in kept], str(engine.path))
    if labels is not None:
        check_label_count(labels, scores.shape[1], "the labels file")
    # A long function, but half of it only fills this record.
    return Witness(
        images=tuple(kept),
        tensors=stacked,
        scores=scores,
        framework=engine.name,
        framework_version=engine.version,
        source=Path(source.name if source else engine.path).name,
        source_sha256=(source or SourceFile.of(engine.path)).sha256,
        preprocessing=preprocessing,
        zygal_version=__version__,
        skipped=tuple(skipped),
        layers=record_layers(engine, stacked) if layers else None,
        labels=None if labels is None else tuple(labels),
    )


def first_tensor(images: str | Path, to_tensor: ImageToTensor) -> tuple[str, np.ndarray]:
    """The first image that can be read, and its tensor: what is wrong with every image shows before a framework is
    loaded.

    Raises WitnessError if none can be read.
    """
    names, reason = image_names(images), ""
    for name in names:
        try:
            return name, to_tensor(Path(images) / name)
        except ImageError as fault:
            reason = reason or str(fault)
    raise _none_readable(images, names, reason)


def check_repeatable(images: str | Path, to_tensor: ImageToTensor, entry_point: str) -> None:
    """Raises WitnessError if the training code makes another tensor of the same image when it is called again."""
    tried = 0
    for name in image_names(images):
        path = Path(images) / name
        try:
            first = to_tensor(path)
            again = [to_tensor(path) for _ in range(REPEATED_CALLS)]
        except ImageError:
            continue
        if any(other.shape != first.shape or not np.array_equal(first, other, equal_nan=True) for other in again):
            raise WitnessError(
                f"{entry_point} makes another tensor of {name} each time it is called, so a recording would prove "
                "nothing; leave the random steps of training (flips, crops, colours) out of it, as in evaluation."
            )
        tried += 1
        if tried == REPEATED_IMAGES:
            return


def _none_readable(images: str | Path, names: list[str], reason: str) -> WitnessError:
    return WitnessError(f"none of the {len(names)} images in {images} could be read; the first: {reason}")


def image_names(images: str | Path) -> list[str]:
    """The images of a folder. Raises FileError or WitnessError."""
    names = list_images(images)
    odd = [name for name in names if as_text(name) != name]
    if odd:
        raise WitnessError(
            f"{some_of(odd)} in {images} is not a valid UTF-8 name, which a witness needs; rename the file."
        )
    return names


def check_tensor(tensor: np.ndarray, name: str, wanted: Sequence[int | None], model: str | Path) -> None:
    """Raises WitnessError if a tensor is not what the model takes for an image, or not finite. wanted: sizes; None for
    any."""
    if tensor.ndim != len(wanted) or any(size not in (None, own) for size, own in zip(wanted, tensor.shape)):
        raise WitnessError(
            f"the tensor of {name} is {list(tensor.shape)}, but {model} takes {list(wanted)} per image; check the "
            "inlet or the training code."
        )
    if tensor.dtype.kind == "f" and not np.isfinite(tensor).all():
        raise WitnessError(f"the tensor of {name} contains NaN or infinity; check the inlet or the training code.")


def inlet_preprocessing(inlet: Inlet) -> tuple[ImageToTensor, Preprocessing]:
    """The preprocessing that an inlet states."""
    return lambda path: apply_inlet(path, inlet).tensor, Preprocessing("inlet", format_inlet(inlet))


def training_code_preprocessing(entry_point: str) -> tuple[ImageToTensor, Preprocessing]:
    """The training side's own preprocessing: FILE.py:FUNCTION, from an image path to an array.

    The file is run: it is the user's own code, named on purpose. Raises WitnessError.
    """
    function = load_function(entry_point, WitnessError)
    file, name = split_place(entry_point, WitnessError)
    path = Path(file)
    text = f"{path.name}:{name}"
    return _called(lambda image: function(str(image)), name, entry_point), Preprocessing(
        "training code", text, sha256_of(path)
    )


def library_preprocessing(folder: ModelFolder) -> tuple[ImageToTensor, Preprocessing]:
    """The preprocessing of a model folder, by the library that wrote it. Raises EngineError or SourceError."""
    from zygal.sources.model_folder.libraries import preprocessing

    function, name = preprocessing(folder)
    return _called(function, name, name), Preprocessing("training code", name)


def _called(function: Callable[[Path], Any], name: str, entry_point: str) -> ImageToTensor:
    """Someone else's function from an image path to an array, with what it raises and returns in our terms."""

    def to_tensor(image: Path) -> np.ndarray:
        try:
            array = np.asarray(function(image))
        except ModuleNotFoundError as fault:
            raise WitnessError(f"{entry_point} cannot be run: {missing_package(fault)}.") from fault
        except Exception as fault:  # Someone else's code: whatever it raises, this image is not readable by it.
            raise ImageError(f"{image}: {name} raised {type(fault).__name__}: {fault}") from fault
        if array.dtype.kind not in "fu":
            raise WitnessError(
                f"{entry_point} returned {array.dtype} values for {image.name}; return an array of numbers."
            )
        # Training code often returns a batch of one.
        array = array[0] if array.ndim == 4 and len(array) == 1 else array
        return array if array.dtype == np.uint8 else array.astype(np.float32)

    return to_tensor
