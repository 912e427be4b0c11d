"""The images that an artifact is shrunk with, as the tensors that it takes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from zygal.artifact.facts import Artifact
from zygal.errors import ImageError, InletError, LabelsError, WitnessError
from zygal.evidence.witness import Witness
from zygal.inlet import Inlet, apply_to_all
from zygal.inlet.images import list_images
from zygal.inlet.sizes import tensor_shape
from zygal.inlet.values import to_tensor
from zygal.listener import Listener

MOST_BYTES = 1_500_000_000
"""Tensors are held in memory; of more images so many are taken, at even places, as fit."""
ORDERS = 10.0
"""Tensors whose sizes differ by this factor come from another inlet."""


@dataclass(frozen=True)
class Given:
    """tensors: [N, ...]. names: of the images. where: in words. labels: the true classes, or which labels each image
    has; None if they are not known. unreadable: (name, reason)."""

    tensors: np.ndarray
    names: tuple[str, ...]
    where: str
    labels: np.ndarray | None = None
    unreadable: tuple[tuple[str, str], ...] = ()


def evenly(items: Sequence, most: int) -> list:
    """So many items at the most, at even places."""
    if len(items) <= most:
        return list(items)
    return [items[place] for place in np.linspace(0, len(items) - 1, most).round().astype(int)]


def from_images(folder: str | Path, inlet: Inlet | None, most: int, listener: Listener) -> Given:
    """Raises InletError, FileError, or ImageError if there is no image that can be read."""
    if inlet is None:
        raise InletError("the artifact holds no inlet, so --images needs --inlet FILE; or give --witness FILE.")
    names = list_images(folder)
    chosen = evenly(names, most)
    tensors, kept, unreadable = _tensors([Path(folder) / name for name in chosen], chosen, inlet, listener)
    if not kept:
        raise ImageError(
            f"{folder} holds no image that can be read; give a folder with a few hundred images like those that "
            f"the model will see."
        )
    return Given(tensors, tuple(kept), f"{folder} ({len(kept)} of {len(names)} images)", None, tuple(unreadable))


def from_witness(witness: Witness, path: str | Path, most: int) -> Given:
    """The recorded tensors. Raises WitnessError if there are none."""
    if witness.tensors is None:
        raise WitnessError(f"{path} holds no tensors, so it cannot calibrate; give --images DIR.")
    chosen = evenly(range(len(witness.tensors)), most)
    names = tuple(witness.images[index].name for index in chosen)
    return Given(witness.tensors[chosen], names, f"{path} ({len(chosen)} of {len(witness.tensors)} recorded tensors)")


def labelled(where: str, artifact: Artifact, inlet: Inlet | None, several: bool, listener: Listener) -> Given:
    """Labelled images. Raises LabelsError or InletError."""
    from zygal.prediction.labelled import join, read_labelled

    classes = artifact.metadata.labels
    if classes is None:
        raise LabelsError(
            f"{artifact.path} holds no class names to join the labels of --labelled to; convert it again with --labels."
        )
    if inlet is None:
        raise InletError("the artifact holds no inlet, so --labelled needs --inlet FILE.")
    joined = join(read_labelled(where, several), classes, where)
    size = 4 * int(np.prod(tensor_shape(inlet) or (3, 256, 256)))
    chosen = evenly(range(len(joined.images)), max(1, MOST_BYTES // size))
    paths = [Path(joined.images[index].path) for index in chosen]
    tensors, kept, unreadable = _tensors(paths, [str(path) for path in paths], inlet, listener, "labelled images")
    if not kept:
        raise ImageError(f"{where} holds no labelled image that can be read.")
    truth = dict(zip(map(str, paths), (joined.truth[index] for index in chosen)))
    if several:
        labels = np.array([[number in truth[name] for number in range(len(classes))] for name in kept])
    else:
        labels = np.array([truth[name] for name in kept])
    return Given(tensors, tuple(kept), where, labels, tuple(unreadable))


def _tensors(paths: Sequence[Path], names: Sequence[str], inlet: Inlet, listener: Listener, what: str = "images"):
    tensors, kept, unreadable = [], [], []
    for index, (name, prepared) in enumerate(zip(names, apply_to_all(paths, inlet))):
        listener.count(what, index, len(paths))
        if isinstance(prepared, ImageError):
            unreadable.append((name, str(prepared)))
        else:
            tensors.append(prepared.tensor)
            kept.append(name)
    shapes = {tensor.shape for tensor in tensors}
    if len(shapes) > 1:
        raise InletError(
            f"the inlet makes tensors of {len(shapes)} shapes; shrinking needs an inlet that ends with one size."
        )
    return np.stack(tensors) if tensors else None, kept, unreadable


def check_alike(given: Given, recorded: Witness | None, inlet: Inlet | None) -> None:
    """Raises WitnessError if the tensors are of another order of magnitude than recorded ones, or than the inlet can
    give."""
    largest = float(np.abs(given.tensors).max())
    if not np.isfinite(largest) or given.tensors.dtype != np.float32:
        return
    if largest == 0:
        raise WitnessError(f"all numbers of the tensors from {given.where} are 0; check the images and the inlet.")
    if recorded is not None and recorded.tensors is not None:
        reference, source = float(np.abs(recorded.tensors).max()), "the recorded tensors reach"
    elif inlet is not None and inlet.values.per_image == "none":
        ends = [
            to_tensor(np.full((1, 1, inlet.channels), level, np.uint8), inlet.values, inlet.tensor)[0]
            for level in (0, 255)
        ]
        reference, source = float(np.abs(ends).max()), "the inlet inside the artifact gives at the most"
    else:
        return
    if not reference / ORDERS <= largest <= reference * ORDERS:
        raise WitnessError(
            f"the tensors from {given.where} reach {largest:.4g}, but {source} {reference:.4g}: they come from another "
            "inlet; calibrate with the inlet that the model was trained with."
        )
