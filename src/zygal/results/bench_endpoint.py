"""The JSON result of zygal bench with --endpoint."""

from __future__ import annotations

from typing import Annotated, TypedDict


class BenchEndpointRuns(TypedDict):
    offered_images_per_second: float
    batch_images: Annotated[int, "images in a request"]
    requests: int
    answered_images_per_second: float
    latency_p50_seconds: Annotated[
        float | None, "from the moment a request was due to its answer; null where too few requests carry it"
    ]
    latency_p90_seconds: float | None
    latency_p99_seconds: float | None
    latency_max_seconds: float | None
    failures: Annotated[dict[str, int], "requests without an answer, by the reason"]
    sent_late_share: Annotated[float, "share of the requests that were sent more than 5 ms late"]
    falling_behind: Annotated[bool, "answers took longer and longer"]


class BenchEndpoint(TypedDict):
    endpoint: str
    service: Annotated[str, "URL and version"]
    inputs_from: str
    deadline_seconds: float | None
    runs: list[BenchEndpointRuns]
