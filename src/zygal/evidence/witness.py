"""The witness file: a plain zip of `witness.json`, `scores.npy` and, if they were kept, `tensors.npy` and `layers.npy`.

Anything that reads zip archives and NumPy arrays can read it. Reading validates everything before
one number is handed out, and believes no size that the file claims.
"""

from __future__ import annotations

import json
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np

from zygal import __version__, kinds
from zygal.archives import open_zip, zip_faults
from zygal.errors import WitnessError
from zygal.evidence.arrays import check_finite, checked_arrays
from zygal.evidence.images import ImageFile
from zygal.files import sha256_of, whole_file
from zygal.layout import FROM_OTHER, image_layout, permuted

FORMAT_VERSION = 1
QUANTILES = 33
_JSON, _TENSORS, _SCORES, _LAYERS = "witness.json", "tensors.npy", "scores.npy", "layers.npy"
_JSON_LIMIT_BYTES = 64_000_000
_DTYPES = ("float32", "uint8")
# A deflated byte gives at most 1032; a larger claim is not believed.
_MOST_DEFLATED = 1032
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

    names: the layers of the training code, in the order in which they end. values: the name of each output in the program.
    counts: how many numbers each has an image. quantiles: [images, layers, QUANTILES] float32, numbers of each output at
    even ranks from the smallest to the largest: they do not depend on the order of its axes.
    """

    names: tuple[str, ...]
    values: tuple[str, ...]
    counts: tuple[int, ...]
    quantiles: np.ndarray


@dataclass(frozen=True)
class Witness:
    """A recording of the training side.

    tensors: [N, ...] float32 or uint8, what the framework was fed; None if only scores were kept. scores: [N, classes]
    float32. skipped: images that could not be read when it was made, with the reasons. layers: outputs of layers, if they
    were recorded.
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
    ) -> Witness:
        """A recording made of arrays, in any training environment: nothing but NumPy is needed.

        scores: [N, classes]. names: the N image files in the order of the rows, as paths below the folder `images` (or
        into it). tensors: [N, ...], what the framework was fed; float32 or uint8 kept, other numbers made float32. source:
        the model file, whose hash is kept. Raises WitnessError or FileError.
        """
        kept, scores, tensors = checked_arrays(scores, names, images, tensors)
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
        )

    def write(self, path: str | Path) -> None:
        """Writes the witness file, whole or not at all. Raises OutputError."""
        write_witness(self, path)

    @staticmethod
    def read(path: str | Path) -> Witness:
        """Raises FileError or WitnessError."""
        return read_witness(path)

    def fed_as(self, shape: tuple) -> Witness:
        """The recording with its tensors as an artifact of that input shape takes them, if only their layout differs."""
        if self.tensors is None:
            return self
        layout = image_layout(shape)
        mine = self.tensors.shape
        if (
            layout
            and len(mine) == 4
            and mine[1:] != tuple(shape[1:])
            and permuted(mine, layout)[1:] == tuple(shape[1:])
        ):
            return replace(self, tensors=np.ascontiguousarray(self.tensors.transpose(FROM_OTHER[layout])))
        return self

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
            name for name, held in (("tensors", witness.tensors), ("layers", witness.layers)) if held is not None
        ],
        "images": [asdict(image) for image in witness.images],
        "skipped": [list(each) for each in witness.skipped],
    }
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
    path = kinds.require_kind(path, kinds.WITNESS)
    faults = (path, kinds.WITNESS, WitnessError)
    with open_zip(*faults) as archive, zip_faults(*faults):
        document = _read_json(archive, path)
        holds = document.get("holds", ["tensors"])
        tensors = _read_array(archive, _TENSORS, path) if "tensors" in holds else None
        scores = _read_array(archive, _SCORES, path)
        quantiles = _read_array(archive, _LAYERS, path) if "layers" in holds else None
    try:
        witness = _from_document(document, tensors, scores, quantiles)
    except (KeyError, TypeError, ValueError, AttributeError) as fault:
        raise WitnessError(
            f"{path} is damaged: its {_JSON} lacks or misstates something ({type(fault).__name__}: {fault})."
        ) from fault
    _validate(witness, path)
    return witness


def _member(name: str) -> zipfile.ZipInfo:
    info = zipfile.ZipInfo(name, _EPOCH)
    info.compress_type = zipfile.ZIP_DEFLATED
    info.external_attr = 0o644 << 16
    return info


def _read_json(archive: zipfile.ZipFile, path: Path) -> dict[str, Any]:
    if archive.getinfo(_JSON).file_size > _JSON_LIMIT_BYTES:
        raise WitnessError(f"{path} is damaged: its {_JSON} claims to be larger than {_JSON_LIMIT_BYTES} bytes.")
    try:
        document = json.loads(archive.read(_JSON))
    except (ValueError, RecursionError) as fault:
        raise WitnessError(f"{path} is damaged: its {_JSON} is not JSON ({fault}).") from fault
    version = document.get("zygal_witness") if isinstance(document, dict) else None
    if version != FORMAT_VERSION:
        raise WitnessError(
            f"{path} is a witness of version {version}, but this release reads version {FORMAT_VERSION}; "
            "record it again or use the release that made it."
        )
    return document


def _read_array(archive: zipfile.ZipFile, name: str, path: Path) -> np.ndarray:
    """An array of which the header, the claimed size and the packed size agree, before memory is taken."""
    try:
        info = archive.getinfo(name)
    except KeyError:
        raise WitnessError(f"{path} is damaged: it has no {name}; record it again.") from None
    with archive.open(info) as member:
        try:
            version = np.lib.format.read_magic(member)
            read_header = {(1, 0): np.lib.format.read_array_header_1_0, (2, 0): np.lib.format.read_array_header_2_0}
            shape, fortran, dtype = read_header[version](member)
        except (KeyError, ValueError, TypeError, SyntaxError) as fault:
            raise WitnessError(f"{path} is damaged: {name} has no proper header ({fault}).") from fault
        count = 1
        for size in shape:
            count *= size
        held = info.file_size - member.tell()
        if dtype.name not in _DTYPES or fortran or min(shape, default=0) < 1 or count * dtype.itemsize != held:
            raise WitnessError(f"{path} is damaged: {name} is said to be {dtype} {list(shape)}, which it cannot be.")
        if info.file_size > _MOST_DEFLATED * info.compress_size + 64:
            raise WitnessError(f"{path} is damaged: {name} claims more bytes than it can hold.")
        return np.frombuffer(member.read(), dtype).reshape(shape)


def _from_document(
    document: dict[str, Any], tensors: np.ndarray | None, scores: np.ndarray, quantiles: np.ndarray | None
) -> Witness:
    text = _of_type(str)
    layers = None
    if quantiles is not None:
        listed = [
            (text(each["name"]), text(each["value"]), _of_type(int)(each["count"])) for each in document["layers"]
        ]
        layers = LayerRecord(*(tuple(column) for column in zip(*listed)), quantiles)
    return Witness(
        images=tuple(ImageFile(text(each["name"]), text(each["sha256"])) for each in document["images"]),
        tensors=tensors,
        scores=scores,
        framework=text(document["framework"]),
        framework_version=text(document["framework_version"]),
        source=text(document["source"]),
        source_sha256=text(document["source_sha256"]),
        preprocessing=Preprocessing(**document["preprocessing"]),
        zygal_version=text(document["zygal_version"]),
        skipped=tuple((text(name), text(reason)) for name, reason in document["skipped"]),
        layers=layers,
    )


def _of_type(wanted: type) -> Callable[[Any], Any]:
    def check(value: Any) -> Any:
        if not isinstance(value, wanted):
            raise ValueError(f"{value!r} is not {wanted.__name__}")
        return value

    return check


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
    if len({image.name for image in witness.images}) != count:
        raise WitnessError(f"{path} is damaged: it names an image twice.")
    if any(Path(image.name).is_absolute() or ".." in Path(image.name).parts for image in witness.images):
        raise WitnessError(f"{path} names an image outside of its folder, so it is not used.")
    check_finite(witness.scores, [image.name for image in witness.images], str(path))
