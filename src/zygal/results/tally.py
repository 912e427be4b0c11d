"""The JSON result of zygal tally."""

from __future__ import annotations

from typing import Annotated, TypedDict


class TallyCluster(TypedDict):
    address: Annotated[str, "as it was given: of the scheduler, or local:N"]
    workers: Annotated[int, "when the run began"]
    threads: Annotated[int, "of all workers"]


class TallyAccuracy(TypedDict):
    value: float
    ci95_low: float
    ci95_high: float


class TallyClasses(TypedDict):
    name: str
    support: int
    predicted: int
    correct: int
    precision: float
    recall: float
    f1: float
    recall_interval: TallyAccuracy


class TallyConfusedPairs(TypedDict):
    true_class: str
    predicted: str
    count: int
    share: float


class TallyExclusive(TypedDict):
    top_k_accuracy: dict[str, TallyAccuracy]
    balanced_accuracy: TallyAccuracy
    cross_entropy_nats: TallyAccuracy
    macro_precision: float
    macro_recall: float
    macro_f1: float
    classes: list[TallyClasses]
    confusion_counts: list[list[int]]
    confused_pairs: list[TallyConfusedPairs]


class TallyMicro(TypedDict):
    precision: float
    recall: float
    f1: float


class TallyAverages(TypedDict):
    micro: TallyMicro
    macro: TallyMicro
    samples: TallyMicro


class TallyLabels(TypedDict):
    name: str
    support: int
    predicted: int
    correct: int
    precision: float
    recall: float
    f1: float
    average_precision: float


class TallyMultiLabel(TypedDict):
    threshold: float
    exact_match: TallyAccuracy
    hamming_loss: float
    averages: TallyAverages
    labels: list[TallyLabels]
    best_threshold: float
    best_f1: float


class TallyPaired(TypedDict):
    images: int
    only_first: int
    only_other: int
    disagreements: int
    difference: TallyAccuracy
    p_value: float
    margin: float
    other_correct: int
    verdict: str


class TallyBins(TypedDict):
    low: float
    high: float
    images: int
    confidence: float | None
    accuracy: TallyAccuracy | None


class TallyCalibration(TypedDict):
    expected_calibration_error: float
    mean_confidence: float
    accuracy: TallyAccuracy
    bins: list[TallyBins]
    corrected_calibration_error: Annotated[float, "less what chance adds for a perfectly calibrated model"]
    ci95_low: float
    ci95_high: float
    error_by_chance: float
    p_value_of_perfect_calibration: Annotated[float, "chance that a perfectly calibrated model is as far off"]
    predictions: int


class TallyGroups(TypedDict):
    images: int
    accuracy: TallyAccuracy


class TallyMisclassified(TypedDict):
    path: str
    true: list[str]
    predicted: list[str]
    confidence: float
    true_class_probability: float
    group: str


class TallyExchangedLabels(TypedDict):
    predicted_as: dict[str, str]
    correct_if_exchanged: int
    correct: int
    shift: int | None
    reversed: bool
    p_value: float


class TallyDuplicates(TypedDict):
    different_labels: list[list[str]]
    same_label: list[list[str]]
    in_training: list[list[str]]
    doubtful: list[list[str]]
    training_images: int


class Tally(TypedDict):
    artifact: str
    engine: str
    compared: str | None
    cluster: Annotated[TallyCluster | None, "the workers that did it, with --cluster"]
    images_from: str
    images: int
    labels: list[str]
    labels_order: str | None
    scores: str
    accuracy: TallyAccuracy
    exclusive: TallyExclusive | None
    multi_label: TallyMultiLabel | None
    compared_exclusive: TallyExclusive | None
    compared_multi_label: TallyMultiLabel | None
    paired: TallyPaired | None
    calibration: TallyCalibration
    groups: dict[str, TallyGroups]
    misclassified: list[TallyMisclassified]
    exchanged_labels: TallyExchangedLabels | None
    duplicates: TallyDuplicates
    labels_left_out: dict[str, int]
    labels_spelt_differently: dict[str, str]
    classes_without_images: list[str]
    images_left_out: Annotated[int, "images whose labels are no classes"]
