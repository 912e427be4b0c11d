"""What an artifact says about itself: the inlet, the labels and where it comes from."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, fields

from zygal.classifier.scores import KINDS
from zygal.errors import ArtifactError, shown
from zygal.files.documents import either, finite, listed, parse_json, rebuilt, record, text, whole
from zygal.inlet import Inlet, format_inlet, parse_inlet

INLET_KEY, LABELS_KEY, ORIGIN_KEY, TENSOR_KEY = "zygal.inlet", "zygal.labels", "zygal.origin", "zygal.tensor"
LABELS_ORDER_KEY, SCORES_KEY, SHRUNK_KEY = "zygal.labels.order", "zygal.scores", "zygal.shrunk"
EIGHT_BITS, HALF = "8 bits", "float16 weights"


@dataclass(frozen=True)
class Origin:
    """The source that an artifact was made from."""

    source: str
    source_sha256: str
    framework: str
    framework_version: str
    zygal_version: str


@dataclass(frozen=True)
class Share:
    """The part of the squared score error that a layer adds, each measured alone in 8 bits."""

    layer: str
    share: float


@dataclass(frozen=True)
class Shrunk:
    """How an artifact in lower precision was made. artifact, artifact_sha256: the float artifact. precision: EIGHT_BITS
    or HALF. settings: what was asked for, in words. images: how many calibrated it, calibrated_on: where they come
    from. layers_in_8_bits: how many operators; kept: the layers that stay in float. shares: the layers that add most to
    the error, the largest first."""

    artifact: str
    artifact_sha256: str
    precision: str
    settings: str
    images: int
    calibrated_on: str
    layers_in_8_bits: int
    kept: tuple[str, ...] = ()
    shares: tuple[Share, ...] = ()


MOST_LABELS, MOST_LAYERS = 1_000_000, 100_000


def _label(value: object) -> str:
    return text(value, 10_000)


_ORIGIN = record({each.name: _label for each in fields(Origin)})


def _share(value: object) -> Share:
    return Share(**record({"layer": _label, "share": finite})(value))


_SHRUNK = record(
    {
        "artifact": _label,
        "artifact_sha256": _label,
        "precision": either(EIGHT_BITS, HALF),
        "settings": _label,
        "images": whole(0),
        "calibrated_on": _label,
        "layers_in_8_bits": whole(0),
        "kept": listed(_label, MOST_LAYERS),
        "shares": listed(_share, MOST_LAYERS),
    }
)


@dataclass(frozen=True)
class Metadata:
    """All that an artifact says of itself; None where it says nothing."""

    inlet: Inlet | None = None
    labels: tuple[str, ...] | None = None
    origin: Origin | None = None
    tensor: str | None = None
    """In an artifact that takes raw pixels, the name of the value that its own inlet makes of them."""
    labels_order: str | None = None
    """Where the order of the labels comes from, in words."""
    scores: str | None = None
    """What the scores are (of `zygal.classifier.scores.KINDS`), where the last operator does not say it."""
    shrunk: Shrunk | None = None

    @property
    def in_8_bits(self) -> bool:
        """Whether it was shrunk to compute in 8 bits."""
        return self.shrunk is not None and self.shrunk.precision == EIGHT_BITS

    def to_properties(self) -> dict[str, str]:
        """As text properties of the ONNX model."""
        properties = {}
        if self.inlet is not None:
            properties[INLET_KEY] = format_inlet(self.inlet)
        if self.labels is not None:
            properties[LABELS_KEY] = json.dumps(self.labels, ensure_ascii=False)
        if self.scores is not None:
            properties[SCORES_KEY] = self.scores
        if self.labels_order is not None:
            properties[LABELS_ORDER_KEY] = self.labels_order
        if self.origin is not None:
            properties[ORIGIN_KEY] = json.dumps(asdict(self.origin))
        if self.tensor is not None:
            properties[TENSOR_KEY] = self.tensor
        if self.shrunk is not None:
            properties[SHRUNK_KEY] = json.dumps(asdict(self.shrunk), ensure_ascii=False)
        return properties

    @staticmethod
    def from_properties(properties: dict[str, str], where: str) -> Metadata:
        """Reads what is there; keys of others are left alone. Raises ArtifactError or InletError."""
        inlet = labels = origin = None
        if INLET_KEY in properties:
            inlet = parse_inlet(properties[INLET_KEY], f"the inlet inside {where}")
        if LABELS_KEY in properties:
            location = f"the list of labels inside {where}"
            stated = parse_json(properties[LABELS_KEY], location, ArtifactError, list)
            labels = tuple(rebuilt(stated, listed(_label, MOST_LABELS), location, ArtifactError))
            if len(set(labels)) != len(labels):
                raise ArtifactError(f"{location} names a class twice; convert it again from its source.")
        if ORIGIN_KEY in properties:
            location = f"the origin inside {where}"
            origin = Origin(
                **rebuilt(parse_json(properties[ORIGIN_KEY], location, ArtifactError), _ORIGIN, location, ArtifactError)
            )
        scores = properties.get(SCORES_KEY)
        if scores is not None and scores not in KINDS:
            raise ArtifactError(
                f"{where} says that its scores are {shown(scores)}, which this release does not know; convert it again."
            )
        return Metadata(
            inlet,
            labels,
            origin,
            properties.get(TENSOR_KEY),
            properties.get(LABELS_ORDER_KEY),
            scores,
            _shrunk(properties, where),
        )


def _shrunk(properties: dict[str, str], where: str) -> Shrunk | None:
    if SHRUNK_KEY not in properties:
        return None
    location = f"the record of shrinking inside {where}"
    stated = rebuilt(parse_json(properties[SHRUNK_KEY], location, ArtifactError), _SHRUNK, location, ArtifactError)
    return Shrunk(**stated | {"kept": tuple(stated["kept"]), "shares": tuple(stated["shares"])})
