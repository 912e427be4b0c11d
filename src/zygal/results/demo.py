"""The JSON result of zygal demo."""

from __future__ import annotations

from typing import TypedDict


class DemoSteps(TypedDict):
    command: list[str]
    exit_code: int
    expected_exit_code: int


class Demo(TypedDict):
    folder: str
    steps: list[DemoSteps]
