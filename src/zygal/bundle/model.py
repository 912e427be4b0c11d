"""What a bundle says of one artifact, as data for the runners: names, shapes, labels, preprocessing, expected
scores."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from zygal.artifact.facts import Artifact
from zygal.artifact.formats import artifact_files, read_artifact
from zygal.bundle.abilities import cannot_do
from zygal.classifier.scores import INDEPENDENT_LOGITS, LOGITS
from zygal.errors import BundleError, ImageError, some_of
from zygal.evidence.result import elsewhere_limit
from zygal.files.opening import sha256_of
from zygal.inlet import Inlet
from zygal.inlet.decode import open_image
from zygal.inlet.images import list_images
from zygal.inlet.specification import Resize
from zygal.prediction.classifier import Classifier, open_artifact

MOST_REFERENCES, EVERYWHERE = 10, "decoded everywhere"
LIMIT_IN_GRAPH = 0.01
"""By how much the scores of a runner may differ, of the spread, where the artifact itself rounds pixels to 8 bits: a
rounding that falls the other way on another processor is a whole level. The limit is that of gate C of zygal match."""


@dataclass(frozen=True)
class Packed:
    """One artifact of a bundle. folder: its place in it. document: its entry in classifier.json. images: paths of the
    reference images, by their names in the bundle. left_out: what the runners cannot do of its preprocessing."""

    folder: str
    facts: Artifact
    inlet: Inlet
    labels: tuple[str, ...]
    document: dict[str, Any]
    images: dict[str, Path]
    left_out: tuple[str, ...]


def packed(path: str, folder: str, images: str | Path) -> Packed:
    """Runs the artifact on the reference images that are chosen from a folder. Raises ZygalError."""
    facts = read_artifact(path)
    beside = artifact_files(path)[1:]
    if beside:
        raise BundleError(
            f"{path} keeps its weights in {beside[0].name}, and a bundle holds an artifact as one file; convert "
            f"it without --weights-beside."
        )
    classifier = open_artifact(path)
    if not classifier.named:
        raise BundleError(
            f"{path} holds no labels, so an application team would have to guess them; convert it with --labels."
        )
    ((name, (dtype, shape)), *others) = facts.inputs.items()
    if others:
        raise BundleError(f"{path} takes {len(facts.inputs)} inputs; an image classifier takes one.")
    chosen, tensors, scores = _references(classifier, images)
    output_dtype, output_shape = facts.outputs[facts.chosen.name]
    document = {
        "name": folder,
        "file": f"{folder}/{Path(path).name}",
        "sha256": facts.sha256,
        "format": facts.format,
        "runtime": classifier.engine_name,
        "oldest_runtime": facts.oldest_runtime,
        "input": {
            "name": name,
            "dtype": dtype,
            "shape": _sizes(shape),
            "batch": shape[0] if isinstance(shape[0], int) else None,
        },
        "output": {
            "name": facts.chosen.name,
            "place": list(facts.outputs).index(facts.chosen.name),
            "dtype": output_dtype,
            "shape": _sizes(output_shape),
        },
        # One logit is that of the second class: a sigmoid, not a softmax, makes a probability of it.
        "scores": INDEPENDENT_LOGITS
        if classifier.one_output and classifier.own_kind == LOGITS
        else classifier.own_kind,
        "labels": list(classifier.labels),
        "raw_pixels": classifier.raw,
        "inlet": inlet_data(classifier.inlet),
        "limit_of_spread": _limit(facts, classifier),
        "spread": float(scores.max() - scores.min()) or 1.0,
        "references": [
            {
                "image": f"reference/{image}",
                "sha256": sha256_of(Path(images) / image),
                "tensor_shape": list(tensor.shape),
                "tensor_dtype": str(tensor.dtype),
                "tensor_sha256": hashlib.sha256(np.ascontiguousarray(tensor).tobytes()).hexdigest(),
                "scores": [float(value) for value in row],
                "predicted": _predicted(classifier, row),
            }
            for image, tensor, row in zip(chosen, tensors, scores)
        ],
    }
    return Packed(
        folder,
        facts,
        classifier.inlet,
        tuple(classifier.labels),
        document,
        {f"reference/{image}": Path(images) / image for image in chosen},
        (*cannot_do(classifier.inlet, classifier.raw), *_of_ports(dtype, output_dtype)),
    )


def _limit(facts: Artifact, classifier: Classifier) -> float:
    rounds = any(
        isinstance(step, Resize)
        and step.filter != "nearest"
        and step.rounding in ("passes", "passes-16bit", "end", "down")
        for step in classifier.inlet.frame
    )
    elsewhere = elsewhere_limit(facts.metadata.in_8_bits)
    return max(LIMIT_IN_GRAPH, elsewhere) if classifier.raw and rounds else elsewhere


def _of_ports(*dtypes: str) -> list[str]:
    """What the runners cannot feed or fetch."""
    return [f"tensors of {dtype} at the ends of the model" for dtype in dtypes if dtype not in ("float32", "uint8")]


def _sizes(shape: Iterable[Any]) -> list[Any]:
    return [size if isinstance(size, int) or size is None else str(size) for size in shape]


def inlet_data(inlet: Inlet) -> dict[str, Any]:
    """Every field of an inlet, none left to a default."""
    whole = asdict(inlet)
    whole["frame"] = [{"step": type(step).__name__.lower(), **asdict(step)} for step in inlet.frame]
    return whole


def _predicted(classifier: Classifier, row: np.ndarray) -> str:
    if len(row) == 1:
        yes = float(row[0]) >= (0.5 if "probabilities" in classifier.own_kind else 0.0)
        return classifier.labels[int(yes)]
    return classifier.labels[int(row.argmax())]


def _references(classifier: Classifier, folder: str | Path) -> tuple[list[str], list[np.ndarray], np.ndarray]:
    """Names, tensors and scores of at most ten images that differ in format, colours, orientation and predicted
    class."""
    names, features, faults = [], [], []
    for name in list_images(folder):
        try:
            found, row = _features(Path(folder) / name), _row(classifier, folder, name)
        except ImageError as fault:
            faults.append(str(fault))
            continue
        names.append(name)
        features.append({*found, f"predicted {row.argmax()}"})
    if not names:
        raise BundleError(
            f"none of the images in {folder} can be read ({some_of(faults, 1)}); give a folder of reference images."
        )
    # What every runner can decode, if there is any such image.
    everywhere = [index for index, each in enumerate(features) if EVERYWHERE in each] or list(range(len(names)))
    taken = sorted(everywhere[place] for place in _varied([features[index] for index in everywhere], MOST_REFERENCES))
    chosen = [names[index] for index in taken]
    # A folder may hold any number of images, so only those that are taken are kept as tensors.
    tensors = [classifier.read(Path(folder) / name).tensor for name in chosen]
    return chosen, tensors, np.concatenate([classifier.raw_output([tensor]) for tensor in tensors])


def _row(classifier: Classifier, folder: str | Path, name: str) -> np.ndarray:
    """The scores of one image."""
    return classifier.raw_output([classifier.read(Path(folder) / name).tensor])[0]


def _features(path: Path) -> set[str]:
    """What makes an image file another case than others."""
    picture = open_image(path)
    orientation = picture.getexif().get(0x0112, 1)
    transparent = "transparency" in picture.info or "A" in picture.getbands()
    plain = picture.format in ("JPEG", "PNG", "WEBP") and not picture.mode.startswith(("CMYK", "I", "F"))
    return {
        EVERYWHERE if plain else "elsewhere",
        f"suffix {path.suffix.lower()}",
        f"mode {picture.mode}",
        f"orientation {orientation}",
        f"transparent {transparent}",
        f"wide {picture.width > picture.height}",
    }


def _varied(features: list[set[str]], most: int) -> list[int]:
    """Indices of sets that together hold many members: always the one that adds most, the first of equals."""
    taken: list[int] = []
    seen: set[str] = set()
    while len(taken) < min(most, len(features)):
        rest = [index for index in range(len(features)) if index not in taken]
        best = max(rest, key=lambda index: (len(features[index] - seen), -index))
        taken.append(best)
        seen |= features[best]
    return taken
