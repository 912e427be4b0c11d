"""The JSON result of zygal bench with --cluster."""

from __future__ import annotations

from typing import Annotated, Literal, TypedDict


class BenchClusterSpeed(TypedDict):
    workers: int
    threads: int
    block_seconds: Annotated[list[float], "seconds for a block of 8 images, of each group"]
    images_per_second: float
    between_seconds: Annotated[float, "that a worker waited between two groups"]
    bytes_per_second: Annotated[float | None, "where files were only read"]


class BenchClusterCoordinator(TypedDict):
    group_seconds: float
    row_seconds: float
    rows_per_second: float
    group_rows: Annotated[int, "rows in a group for that rate"]


class BenchClusterPlanned(TypedDict):
    threads: Annotated[int, "workers of one thread each"]
    seconds: float
    images_per_second: float
    workers_busy: Annotated[float, "share of the time"]
    coordinator_busy: Annotated[float, "share of the time"]
    groups: int
    again: Annotated[int, "groups that ran again after a failure"]
    copies: Annotated[int, "of late groups"]


class BenchCluster(TypedDict):
    artifact: str
    engine: str
    cluster: str
    images: Annotated[str, "the folder or URL"]
    measured_images: Annotated[int, "how many of them were measured with, again and again"]
    one_thread: Annotated[BenchClusterSpeed, "classifying, one thread of one worker alone"]
    all_threads: Annotated[BenchClusterSpeed, "classifying, all at once, with the coordinator at work"]
    reading_one_thread: Annotated[BenchClusterSpeed, "reading the files and nothing else"]
    reading_all_threads: Annotated[BenchClusterSpeed, "the same, all at once"]
    worker_start_seconds: Annotated[float, "until a worker has opened the artifact and run its first block"]
    coordinator: Annotated[BenchClusterCoordinator, "ordering and writing rows that are ready made"]
    threads_that_pay: Annotated[int, "more than these bring nothing"]
    limit: Annotated[Literal["coordinator", "storage"], "what is the limit then"]
    storage_limit_seen: Annotated[bool, "whether reading alone is less than 1.5 times as fast as classifying"]
    planned_images: int
    failures_per_worker_hour: float
    late_groups_share: float
    planned: Annotated[list[BenchClusterPlanned], "simulated runs"]
