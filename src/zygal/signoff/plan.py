"""What a plan can say: one record for each of its tables, with the rule that each key keeps and what it means."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, fields
from typing import Any

from zygal.signoff import rules

PLAN_VERSION = 1


def key(rule: Callable[[Any], Any], says: str, default: Any = None, *, path: bool = False, gate: bool = False) -> Any:
    """A key of a table. says: its comment in a new plan. path: it names a file or folder. gate: it is the limit of a
    gate."""
    metadata = {"rule": rule, "says": says, "path": path, "gate": gate}
    return (
        field(default_factory=dict, metadata=metadata) if default == {} else field(default=default, metadata=metadata)
    )


@dataclass(frozen=True)
class Model:
    """What is signed off."""

    artifact: str | None = key(
        rules.text,
        "the artifact to sign off; made from the source where it is missing or was made from other bytes",
        path=True,
    )
    source: str | None = key(rules.text, "the trained model", path=True)
    weights: str | None = key(rules.text, "weights, for a source FILE.py:FUNCTION (needs --run-code)", path=True)
    inlet: str | None = key(rules.text, "the preprocessing", path=True)
    labels: str | None = key(rules.text, "the class names", path=True)
    scores: str | None = key(rules.text, "the output to take, if there are several")
    multi_label: bool = key(rules.truth, "an image can have several labels", False)


@dataclass(frozen=True)
class Convert:
    """The options of zygal convert, by their names there."""

    opset: int | None = key(rules.whole(1), "the ONNX opset to aim at")
    half: bool = key(rules.truth, "store the weights as float16", False)
    raw_pixels: bool = key(rules.truth, "put the preprocessing into the graph", False)
    input_name: str | None = key(rules.text, "the name of the input")
    output_name: str | None = key(rules.text, "the name of the output")
    layout: str | None = key(rules.either("NCHW", "NHWC"), "the order of the input's axes")
    shape: tuple[int, ...] | None = key(rules.sizes, "the shape of one image's tensor, if the source leaves it open")
    signature: str | None = key(rules.text, "the signature of a saved-model folder")


@dataclass(frozen=True)
class Shrink:
    """The options of zygal shrink, by their names there."""

    output: str | None = key(rules.text, "the artifact in 8 bits, which is then the one that is signed off", path=True)
    images: str | None = key(rules.text, "images that calibrate it", path=True)
    agree: float | None = key(rules.share, "share of the images that keep their top-1 class")
    lose: float | None = key(rules.share, "accuracy that may be lost on the labelled images")
    speed: float | None = key(rules.positive, "how many times as fast it must be")
    half: bool = key(rules.truth, "float16 weights instead of 8 bits", False)


@dataclass(frozen=True)
class Data:
    """What it is measured with."""

    witness: str | None = key(rules.text, "the recording of the training framework", path=True)
    reference: str | None = key(rules.text, "the folder of the recorded images", path=True)
    labelled: str | None = key(
        rules.text,
        "labelled images: a folder with one sub-folder per class, or a CSV of path, label and perhaps group",
        path=True,
    )
    unreadable_at_most: int = key(
        rules.whole(0),
        "how many of the reference and labelled images may be unreadable, or have a label that is no class",
        0,
        gate=True,
    )
    training: str | None = key(
        rules.text, "the folder of the training images, to find labelled images that were trained on", path=True
    )


@dataclass(frozen=True)
class Portability:
    """Where it must run."""

    size_at_most_mb: float | None = key(rules.positive, "size of the artifact in MB (1 000 000 bytes)", gate=True)
    opset_at_most: int | None = key(rules.whole(1), "ONNX opset of the artifact", gate=True)
    runs_on: str | None = key(rules.release, 'a release of the runtime that must load it, like "1.16"', gate=True)


@dataclass(frozen=True)
class Agreement:
    """The limits of zygal match; left out, they are what they are there."""

    tensor_grey_levels: float = key(rules.at_least_zero, "A: largest difference of the tensors, in grey levels", 0.5)
    model_of_spread: float = key(
        rules.at_least_zero,
        "B: largest difference of the scores on the recorded tensors, of the spread of the recorded scores",
        1e-4,
    )
    end_to_end_of_spread: float = key(
        rules.at_least_zero, "C: largest difference of the scores from the image files", 1e-2
    )
    shrunk_top_1: float = key(
        rules.share, "B and C of a shrunk artifact: share of images with the recorded top-1 class", 0.99
    )
    shrunk_order: float = key(
        rules.share, "B and C of a shrunk artifact: share of pairs of classes in the recorded order", 0.99
    )


@dataclass(frozen=True)
class Accuracy:
    """What it must know."""

    at_least: float | None = key(rules.share, "accuracy on the labelled images", gate=True)
    each_class_at_least: float | None = key(rules.share, "recall of every class", gate=True)
    classes: dict[str, float] = key(rules.shares, "recall of single classes", {}, gate=True)
    each_group_at_least: float | None = key(rules.share, "accuracy of every group", gate=True)
    groups: dict[str, float] = key(rules.shares, "accuracy of single groups", {}, gate=True)
    calibration_error_at_most: float | None = key(rules.share, "expected calibration error", gate=True)
    lost_at_most: float | None = key(rules.share, "accuracy lost to what compare names", gate=True)
    compare: str | None = key(
        rules.text,
        '"source" (its framework must be installed), "float" (the artifact before it was shrunk), or another '
        "model's file",
        path=True,
    )


@dataclass(frozen=True)
class SpeedLimit:
    """What must hold at one setting."""

    batch: int | None = key(rules.whole(1, 65536), "images in a batch")
    threads: int | None = key(rules.whole(1, 4096), "threads")
    p99_at_most_ms: float | None = key(rules.positive, "99th percentile of the time of a batch", gate=True)
    median_at_most_ms: float | None = key(rules.positive, "median time of a batch", gate=True)
    images_per_second_at_least: float | None = key(rules.positive, "throughput", gate=True)


@dataclass(frozen=True)
class Speed:
    """How fast it must be."""

    seconds: float = key(rules.positive, "how long to measure", 20.0)
    batches: tuple[int, ...] | None = key(rules.sizes, "batch sizes to measure (also those of the limits)")
    threads: tuple[int, ...] | None = key(rules.sizes, "numbers of threads to measure (default: 1 and all cores)")
    image_size: tuple[int, ...] | None = key(
        rules.sizes, "height and width of an image, where the artifact leaves them open"
    )
    layers: bool = key(rules.truth, "also measure where the time goes, layer by layer", True)
    limits: tuple[SpeedLimit, ...] = key(rules.tables, "what must hold at single settings", ())
    earlier: str | None = key(rules.text, "the --json of an earlier zygal bench on this machine", path=True)
    slowdown_at_most: float | None = key(rules.share, "how much slower than earlier it may be", gate=True)


@dataclass(frozen=True)
class Memory:
    """How much memory it may take."""

    peak_at_most_mb: float | None = key(
        rules.positive, "peak memory of a process that runs the artifact, with Python and the runtime, in MB", gate=True
    )


TABLES: dict[str, type] = {
    "model": Model,
    "convert": Convert,
    "shrink": Shrink,
    "data": Data,
    "portability": Portability,
    "agreement": Agreement,
    "accuracy": Accuracy,
    "speed": Speed,
    "memory": Memory,
}
MATCH_GATES = ("A", "B", "C", "L", "P")


@dataclass(frozen=True)
class Plan:
    """A whole plan. path: of its file; sha256: of it and of the plans that it extends. report_only: names of gates that
    are measured and shown, but do not fail. given: the keys that stand in the files, as "table.key"."""

    path: str
    sha256: str
    title: str
    model: Model = Model()
    convert: Convert = Convert()
    shrink: Shrink | None = None
    data: Data = Data()
    portability: Portability = Portability()
    agreement: Agreement = Agreement()
    accuracy: Accuracy = Accuracy()
    speed: Speed | None = None
    memory: Memory = Memory()
    report_only: tuple[str, ...] = ()
    given: frozenset[str] = frozenset()

    def required(self, gate: str) -> bool:
        """Whether a gate of this name, such as "accuracy.at_least", can fail the plan."""
        return gate not in self.report_only and gate.partition(".")[0] not in self.report_only


def gate_names() -> list[str]:
    """Every name that report_only takes: tables, and gates within them."""
    names = []
    for table, record in TABLES.items():
        gates = [each.name for each in fields(record) if each.metadata["gate"]]
        if table == "agreement":
            gates = list(MATCH_GATES)
        if table == "speed":
            gates += [each.name for each in fields(SpeedLimit) if each.metadata["gate"]]
        names += [table, *(f"{table}.{gate}" for gate in gates)] if gates else []
    return names
