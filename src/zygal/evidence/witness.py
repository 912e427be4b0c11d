"""The witness file: a plain zip of `witness.json`, `scores.npy` and, if they were kept, `tensors.npy` and `layers.npy`.

Anything that reads zip archives and NumPy arrays can read it. Reading validates everything before
one number is handed out, and believes no size that the file claims.
"""

from __future__ import annotations

import hashlib
import json
import re
import zipfile
from collections.abc import Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from zygal import __version__
from zygal.classifier.labels import check_label_count
from zygal.classifier.layout import FROM_OTHER, image_layout, permuted
from zygal.errors import WitnessError, shown
from zygal.evidence.array_files import read_array
from zygal.evidence.arrays import check_finite, checked_arrays
from zygal.files import kinds
from zygal.files.archives import open_zip, read_member
from zygal.files.documents import Misfit, either, listed, maybe, parse_json, rebuilt, record, text, whole
from zygal.files.opening import sha256_of
from zygal.files.recognition import require_kind
from zygal.files.writing import whole_file
from zygal.inlet.images import ImageFile

FORMAT_VERSION = 1
QUANTILES = 33
_JSON, _TENSORS, _SCORES, _LAYERS = "witness.json", "tensors.npy", "scores.npy", "layers.npy"
_JSON_LIMIT_BYTES = 64_000_000
_EPOCH = (1980, 1, 1, 0, 0, 0)


@dataclass(frozen=True)
class Preprocessing:
    """How the recorded tensors were made: by an inlet (`text` is its TOML) or by the training side's own
    function (`text` is FILE.py:FUNCTION, `sha256` that of the file)."""

    kind: str
    text: str
    sha256: str | None = None


@dataclass(frozen=True)
class LayerRecord:
    """Recorded outputs of layers, for the first few images.

    names: the layers of the training code, in the order in which they end. values: the name of each output in the
    program. counts: how many numbers each has an image. quantiles: [images, layers, QUANTILES] float32, numbers of each
    output at even ranks from the smallest to the largest: they do not depend on the order of its axes.
    """

    names: tuple[str, ...]
    values: tuple[str, ...]
    counts: tuple[int, ...]
    quantiles: np.ndarray


@dataclass(frozen=True)
class Witness:
    """A recording of the training side.

    tensors: [N, ...] float32 or uint8, what the framework was fed; None if only scores were kept. scores: [N, classes]
    float32. skipped: images that could not be read when it was made, with the reasons. layers: outputs of layers, if
    they were recorded. labels: class names in the order of the scores, if they were recorded.
    """

    images: tuple[ImageFile, ...]
    tensors: np.ndarray | None
    scores: np.ndarray
    framework: str
    framework_version: str
    source: str
    source_sha256: str
    preprocessing: Preprocessing
    zygal_version: str
    skipped: tuple[tuple[str, str], ...] = field(default=())
    layers: LayerRecord | None = None
    labels: tuple[str, ...] | None = None

    @classmethod
    def from_arrays(
        cls,
        scores: np.ndarray,
        names: Sequence[str],
        images: str | Path,
        tensors: np.ndarray | None = None,
        framework: str = "unknown",
        framework_version: str = "",
        source: str | Path | None = None,
        labels: Sequence[str] | None = None,
    ) -> Witness:
        """A recording made of arrays, in any training environment: nothing but NumPy is needed.

        scores: [N, classes]. names: the N image files in the order of the rows, as paths below the folder `images` (or
        into it). tensors: [N, ...], what the framework was fed; float32 or uint8 kept, other numbers made float32.
        source: the model file, whose hash is kept. labels: class names in the order of the scores. Raises WitnessError,
        LabelsError or FileError.
        """
        kept, scores, tensors = checked_arrays(scores, names, images, tensors)
        if labels is not None:
            check_label_count(labels, scores.shape[1], "labels")
        return cls(
            images=kept,
            tensors=tensors,
            scores=scores,
            framework=framework,
            framework_version=framework_version,
            source=Path(source).name if source else "unknown",
            source_sha256=sha256_of(source) if source else "",
            preprocessing=Preprocessing("arrays", "recorded elsewhere"),
            zygal_version=__version__,
            labels=None if labels is None else tuple(labels),
        )

    def write(self, path: str | Path) -> None:
        """Writes the witness file, whole or not at all. Raises OutputError."""
        write_witness(self, path)

    @staticmethod
    def read(path: str | Path) -> Witness:
        """Raises FileError or WitnessError."""
        return read_witness(path)

    def fed_as(self, shape: tuple) -> Witness:
        """The recording with its tensors as an artifact of that input shape takes them, if only their layout
        differs."""
        if self.tensors is None:
            return self
        layout = image_layout(shape)
        recorded_shape = self.tensors.shape
        if (
            layout
            and len(recorded_shape) == 4
            and recorded_shape[1:] != tuple(shape[1:])
            and permuted(recorded_shape, layout)[1:] == tuple(shape[1:])
        ):
            return replace(self, tensors=np.ascontiguousarray(self.tensors.transpose(FROM_OTHER[layout])))
        return self

    def images_sha256(self) -> str:
        """Of the images' own hashes, in whatever order they were recorded and whatever they are called."""
        return hashlib.sha256("\n".join(sorted(image.sha256 for image in self.images)).encode()).hexdigest()

    def spread(self) -> float:
        """The largest recorded score minus the smallest: the unit of score differences."""
        return float(self.scores.max() - self.scores.min())


def write_witness(witness: Witness, path: str | Path) -> None:
    """Writes the file whole or not at all; the same recording gives the same bytes. Raises OutputError."""
    document = {
        "zygal_witness": FORMAT_VERSION,
        "zygal_version": witness.zygal_version,
        "framework": witness.framework,
        "framework_version": witness.framework_version,
        "source": witness.source,
        "source_sha256": witness.source_sha256,
        "preprocessing": asdict(witness.preprocessing),
        "holds": [
            name for name, entries in (("tensors", witness.tensors), ("layers", witness.layers)) if entries is not None
        ],
        "images": [asdict(image) for image in witness.images],
        "skipped": [list(each) for each in witness.skipped],
    }
    if witness.labels is not None:
        document["labels"] = list(witness.labels)
    arrays = [(_SCORES, witness.scores)]
    if witness.tensors is not None:
        arrays.insert(0, (_TENSORS, witness.tensors))
    if witness.layers is not None:
        arrays.append((_LAYERS, witness.layers.quantiles))
        columns = zip(witness.layers.names, witness.layers.values, witness.layers.counts)
        document["layers"] = [{"name": name, "value": value, "count": count} for name, value, count in columns]
    with whole_file(path) as file, zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
        text = json.dumps(document, indent=1, ensure_ascii=False)
        archive.writestr(_member(_JSON), text.encode(), compresslevel=9)
        for name, array in arrays:
            with archive.open(_member(name), "w", force_zip64=True) as member:
                np.lib.format.write_array(member, np.ascontiguousarray(array), version=(1, 0), allow_pickle=False)


def read_witness(path: str | Path) -> Witness:
    """The recording in a file. Raises FileError or WitnessError."""
    path = require_kind(path, kinds.WITNESS)
    with open_zip(path, kinds.WITNESS, WitnessError) as archive:
        document = _read_document(archive, path)
        passes = document.get("holds", ["tensors"])
        tensors = read_array(archive, _TENSORS, path) if "tensors" in passes else None
        scores = read_array(archive, _SCORES, path)
        quantiles = read_array(archive, _LAYERS, path) if "layers" in passes else None
    witness = _from_document(document, tensors, scores, quantiles)
    _validate(witness, path)
    return witness


def _member(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _EPOCH)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    return info


def _read_document(archive: zipfile.ZipFile, path: Path) -> dict[str, Any]:
    location = f"{_JSON} of {path}"
    document = parse_json(read_member(archive, _JSON, path, WitnessError, _JSON_LIMIT_BYTES), location, WitnessError)
    version = document.get("zygal_witness")
    if version != FORMAT_VERSION:
        raise WitnessError(
            f"{path} is a witness of version {shown(version)}, but this release reads version {FORMAT_VERSION}; "
            "record it again or use the release that made it."
        )
    return rebuilt(document, _DOCUMENT, location, WitnessError)


def _line(value: Any) -> str:
    return text(value, 5_000)


def _hash(value: Any) -> str:
    """SHA-256 in hexadecimal, or nothing where it is not known."""
    if not isinstance(value, str) or not re.fullmatch(r"([0-9a-f]{64})?", value):
        raise Misfit("a SHA-256", value)
    return value


_DOCUMENT = record(
    {
        "zygal_witness": whole(1, 1),
        "zygal_version": _line,
        "framework": _line,
        "framework_version": _line,
        "source": _line,
        "source_sha256": _hash,
        "preprocessing": record(
            {"kind": either("inlet", "training code", "arrays"), "text": text}, {"sha256": maybe(_hash)}
        ),
        "images": listed(record({"name": _line, "sha256": _hash}), 10_000_000),
        "skipped": listed(listed(_line, 2)),
    },
    {
        "holds": listed(either("tensors", "layers"), 2),
        "labels": listed(lambda value: text(value, 10_000), 1_000_000),
        "layers": listed(record({"name": _line, "value": _line, "count": whole(0)}), 100_000),
    },
)


def _from_document(
    document: dict[str, Any], tensors: np.ndarray | None, scores: np.ndarray, quantiles: np.ndarray | None
) -> Witness:
    layers = None
    if quantiles is not None:
        entries = document.get("layers", [])
        columns = (tuple(each[key] for each in entries) for key in ("name", "value", "count"))
        layers = LayerRecord(*columns, quantiles)
    copied = ("framework", "framework_version", "source", "source_sha256", "zygal_version")
    return Witness(
        images=tuple(ImageFile(each["name"], each["sha256"]) for each in document["images"]),
        tensors=tensors,
        scores=scores,
        preprocessing=Preprocessing(**document["preprocessing"]),
        skipped=tuple((each[0], each[1]) for each in document["skipped"] if len(each) == 2),
        layers=layers,
        labels=tuple(document["labels"]) if "labels" in document else None,
        **{name: document[name] for name in copied},
    )


def _validate(witness: Witness, path: Path) -> None:
    count = len(witness.images)
    tensors = count if witness.tensors is None else len(witness.tensors)
    if witness.scores.ndim != 2 or len(witness.scores) != count or tensors != count:
        raise WitnessError(
            f"{path} is damaged: it names {count} images, but holds {tensors} tensors and scores "
            f"{list(witness.scores.shape)}."
        )
    layers = witness.layers
    if layers is not None and layers.quantiles.shape[1:] != (len(layers.names), QUANTILES):
        raise WitnessError(
            f"{path} is damaged: it names {len(layers.names)} layers, but holds {list(layers.quantiles.shape)}."
        )
    if not count or witness.scores.shape[1] < 1:
        raise WitnessError(f"{path} is damaged: it records no image or no class.")
    if (
        witness.labels is not None
        and len(witness.labels) != witness.scores.shape[1]
        and (len(witness.labels), witness.scores.shape[1]) != (2, 1)
    ):
        raise WitnessError(
            f"{path} is damaged: it names {len(witness.labels)} classes, but holds scores of {witness.scores.shape[1]}."
        )
    if len({image.name for image in witness.images}) != count:
        raise WitnessError(f"{path} is damaged: it names an image twice.")
    if any(Path(image.name).is_absolute() or ".." in Path(image.name).parts for image in witness.images):
        raise WitnessError(f"{path} names an image outside of its folder, so it is not used.")
    names = [image.name for image in witness.images]
    check_finite(witness.scores, names, str(path))
    if witness.tensors is not None and witness.tensors.dtype.kind == "f":
        for name, tensor in zip(names, witness.tensors):
            if not np.isfinite(tensor).all():
                raise WitnessError(
                    f"{path} records a tensor for {name} that contains NaN or infinity; record it again."
                )
