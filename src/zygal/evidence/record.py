"""Recording a witness: the training framework, live, on a folder of reference images."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import numpy as np

from zygal import __version__
from zygal.engines import Engine, run_in_batches
from zygal.errors import ImageError, WitnessError, as_text, some_of
from zygal.evidence.arrays import check_finite
from zygal.evidence.images import hash_image, list_images
from zygal.evidence.layers import record_layers
from zygal.evidence.witness import Preprocessing, Witness
from zygal.files import load_function, sha256_of, split_place
from zygal.inlet import Inlet, apply_inlet, format_inlet

ImageToTensor = Callable[[Path], np.ndarray]
Progress = Callable[[int, int], None]


def record_witness(
    engine: Engine,
    images: str | Path,
    to_tensor: ImageToTensor,
    preprocessing: Preprocessing,
    progress: Progress = lambda done, total: None,
    layers: bool = False,
) -> Witness:
    """Runs the engine on every image of a folder and keeps tensors and scores, and of a few images the layers' outputs.

    `to_tensor` makes one image's tensor, without the batch axis. An image that it cannot read is
    skipped and named in the result. Raises WitnessError if none is left or a tensor does not fit.
    """
    names = _names(images)
    tensors, kept, skipped = [], [], []
    for done, name in enumerate(names):
        progress(done, len(names))
        try:
            tensor = to_tensor(Path(images) / name)
        except ImageError as fault:
            skipped.append((name, str(fault)))
            continue
        _check_tensor(tensor, name, engine)
        tensors.append(tensor)
        kept.append(hash_image(images, name))
    if not tensors:
        raise WitnessError(f"none of the {len(names)} images in {images} could be read; the first: {skipped[0][1]}")
    stacked = np.stack(tensors).astype(engine.input_type.dtype, copy=False)
    scores = np.concatenate(list(run_in_batches(engine, stacked)))
    progress(len(names), len(names))
    if scores.ndim != 2:
        raise WitnessError(
            f"{engine.path} gives {list(scores.shape)}; scores must be [images, classes], so choose another output with --scores."
        )
    check_finite(scores, [image.name for image in kept], str(engine.path))
    # A long function, but half of it only fills this record.
    return Witness(
        images=tuple(kept),
        tensors=stacked,
        scores=scores,
        framework=engine.name,
        framework_version=engine.version,
        source=engine.path.name,
        source_sha256=sha256_of(engine.path),
        preprocessing=preprocessing,
        zygal_version=__version__,
        skipped=tuple(skipped),
        layers=record_layers(engine, stacked) if layers else None,
    )


def _names(images: str | Path) -> list[str]:
    names = list_images(images)
    odd = [name for name in names if as_text(name) != name]
    if odd:
        raise WitnessError(
            f"{some_of(odd)} in {images} is not a valid UTF-8 name, which a witness needs; rename the file."
        )
    return names


def _check_tensor(tensor: np.ndarray, name: str, engine: Engine) -> None:
    wanted = engine.input_type.shape[1:]
    if tensor.shape != wanted:
        raise WitnessError(
            f"the tensor of {name} is {list(tensor.shape)}, but {engine.path} takes {list(wanted)} per image; check the inlet "
            "or the training code."
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

    def to_tensor(image: Path) -> np.ndarray:
        try:
            array = np.asarray(function(str(image)))
        except Exception as fault:  # Someone else's code: whatever it raises, this image is not readable by it.
            raise ImageError(f"{image}: {name} raised {type(fault).__name__}: {fault}") from fault
        if array.dtype.kind not in "fu":
            raise WitnessError(f"{entry_point} returned {array.dtype} values for {image.name}; return an array of numbers.")
        # Training code often returns a batch of one.
        array = array[0] if array.ndim == 4 and len(array) == 1 else array
        return array if array.dtype == np.uint8 else array.astype(np.float32)

    return to_tensor, Preprocessing("training code", f"{path.name}:{name}", sha256_of(path))
