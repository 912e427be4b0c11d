"""The JSON result of zygal bench."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict

from zygal.results.common import MISSING


class BenchMachine(TypedDict):
    processor: str
    cores_by_affinity: int
    core_quota: Annotated[float | None, "cores granted by the control group"]
    instruction_sets: list[str]
    frequency_policy: str | None
    memory_bytes: int
    system: str
    python: str


class BenchLoad(TypedDict):
    stolen_share: float | None
    other_programs_cores: float | None
    throttled_share: float | None


class BenchSelfRatio(TypedDict):
    value: float
    ci95: list[float]
    blocks: int


class BenchCells(TypedDict):
    batch_images: int
    threads: int
    optimisation_level: str
    execution: str
    latency_median_seconds: float
    latency_ci95_seconds: list[float]
    latency_quartiles_seconds: list[float]
    latency_p90_seconds: float | None
    latency_p99_seconds: float | None
    latency_max_seconds: float
    runs: int
    images_per_second: float
    cpu_seconds_per_image: float
    share_of_arithmetic_peak: float | None
    self_ratio: BenchSelfRatio
    reference_workload_ratio: BenchSelfRatio
    steady_before: bool
    peak_memory_bytes: int
    base_memory_bytes: int
    session_seconds: float
    first_run_seconds: float
    latency_p99_ci95_seconds: Annotated[None | tuple[float, float], "95 % interval of the p99"]


class BenchCells2(TypedDict):
    batch_images: int
    threads: int
    optimisation_level: str
    execution: str
    time_ratio: BenchSelfRatio
    larger_than_noise: bool


class BenchCompared(TypedDict):
    name: str
    engine: str
    time_ratio: BenchSelfRatio
    cells: list[BenchCells2]


class BenchImagePipeline(TypedDict):
    batch_images: int
    threads: int
    inlet_threads: int
    files: int
    stage_seconds_per_image: dict[str, float]
    sequential_images_per_second: float
    overlapped_images_per_second_by_threads: dict[str, float]
    overlapped_gain_ratio: BenchSelfRatio


class BenchRuns(TypedDict):
    arrival_rate_images_per_second: float
    images: int
    mean_batch_images: float
    busy_share: float
    latency_p50_seconds: float
    latency_p90_seconds: float
    latency_p99_seconds: float
    latency_max_seconds: float
    falling_behind: bool


class BenchArrivals(TypedDict):
    threads: int
    max_batch_images: int
    max_wait_seconds: float
    runs: list[BenchRuns]
    deadline_seconds: float
    highest_rate_simulated_images_per_second: float
    highest_rate_measured: BenchRuns


class BenchLayers2(TypedDict):
    layer: str
    seconds: float
    share: float
    multiply_adds: int
    operators: list[str]


class BenchLayers(TypedDict):
    batch_images: int
    threads: int
    run_seconds: float
    outside_layers_seconds: float
    runs: int
    layers: list[BenchLayers2]


class BenchChanges(TypedDict):
    batch_images: Annotated[int, MISSING]
    threads: Annotated[int, MISSING]
    optimisation_level: Annotated[str, MISSING]
    execution: Annotated[str, MISSING]
    time_ratio: float
    time_ratio_uncorrected: float
    noise_share: float
    verdict: str
    all_settings: Annotated[bool, MISSING]


class BenchBaseline(TypedDict):
    max_slowdown_share: float
    differences: list[str]
    machine_time_ratio_by_threads: dict[str, float]
    changes: list[BenchChanges]
    verdict: Literal["passed", "failed", "undecided"]


class Bench(TypedDict):
    artifact: str
    artifact_sha256: str
    runtime: str
    inputs_from: str
    image_shapes: dict[str, list[int]]
    machine: BenchMachine
    load: BenchLoad
    measured_seconds: float
    rounds: int
    multiply_adds_per_image: int
    reference_workload_seconds_by_threads: dict[str, float]
    matrix_product_multiply_adds_per_second_by_threads: dict[str, float]
    cells: list[BenchCells]
    compared: list[BenchCompared]
    image_pipeline: Annotated[BenchImagePipeline, MISSING]
    arrivals: Annotated[BenchArrivals, MISSING]
    layers: Annotated[BenchLayers, MISSING]
    baseline: BenchBaseline | None
