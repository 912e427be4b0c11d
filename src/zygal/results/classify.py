"""The JSON result of zygal classify."""

from __future__ import annotations

from typing import Annotated, TypedDict

from zygal.results.common import MISSING


class ClassifyThresholds(TypedDict):
    min_probability: float
    min_margin: float
    label: float


class ClassifyCounts(TypedDict):
    read: Annotated[int, MISSING]
    unreadable: Annotated[int, MISSING]
    uncertain: Annotated[int, MISSING]
    disagreements: Annotated[int, MISSING]


class ClassifyCluster(TypedDict):
    address: Annotated[str, "as it was given: of the scheduler, or local:N"]
    workers: Annotated[int, "when the run began"]
    threads: Annotated[int, "of all workers"]


class ClassifyTop(TypedDict):
    name: str
    score: float
    probability: float


class ClassifyPredictions(TypedDict):
    path: str
    error: str | None
    top: list[ClassifyTop]
    margin: float | None
    uncertain: bool | None
    labels: list[str] | None
    other: ClassifyTop | None
    other_labels: list[str] | None
    disagree: bool | None


class ClassifyDisagreements(TypedDict):
    path: str
    error: str | None
    top: list[ClassifyTop]
    margin: float
    uncertain: bool
    labels: list[str] | None
    other: ClassifyTop
    other_labels: list[str] | None


class ClassifyRegions(TypedDict):
    model: str
    predicted: str
    probability: float
    lowest_probability: float
    patch_pixels: list[int]
    log_odds_lost: list[list[float]]


class Classify(TypedDict):
    artifact: str
    engine: str
    scores: str
    labels: list[str]
    labels_order: str | None
    compared: str | None
    thresholds: ClassifyThresholds
    counts: ClassifyCounts
    images_per_second: float | None
    cluster: Annotated[ClassifyCluster | None, "the workers that did it, with --cluster"]
    predictions: list[ClassifyPredictions]
    output: str | None
    rows: int | None
    rows_resumed: int
    disagreements: list[ClassifyDisagreements]
    regions: list[ClassifyRegions]
    regions_differ_log_odds: float | None
    images_replaced: int
    vector_numbers: int | None
