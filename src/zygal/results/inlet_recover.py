"""The JSON result of zygal inlet recover."""

from __future__ import annotations

from typing import Annotated, TypedDict

from zygal.inlet.specification import Inlet


class InletRecoverSecondBest(TypedDict):
    field: str
    value: str
    max_error_grey_levels: float


class InletRecoverNotDetermined(TypedDict):
    field: str
    chosen: str
    others: list[str]
    decided_by: str


class InletRecoverPerImage(TypedDict):
    image: str
    file_kind: str
    max_error_grey_levels: float
    mean_error_grey_levels: float
    share_above_half_a_level: float
    where: str
    explained: bool


class InletRecoverChanges(TypedDict):
    field: str
    first_group: str
    this_group: str


class InletRecoverGroups(TypedDict):
    images: list[str]
    inlet: Inlet | None
    separated_by: str | None
    changes: list[InletRecoverChanges]


class InletRecoverByTensors(TypedDict):
    max_error_grey_levels: float
    mean_error_grey_levels: float
    second_best: InletRecoverSecondBest | None
    not_determined: list[InletRecoverNotDetermined]
    library: Annotated[str | None, "whose way of resampling the inlet's is"]
    error_of_999_in_1000_grey_levels: Annotated[float, "difference that 99.9 % of the values of every image keep"]
    per_image: list[InletRecoverPerImage]
    groups: Annotated[list[InletRecoverGroups], "images that one inlet explains, where no inlet explains all"]
    images_held_back: Annotated[int, "images that the search did not see"]
    held_back_max_error_grey_levels: float | None


class InletRecoverSecondBest2(TypedDict):
    inlet: Inlet | None
    mean_error_of_spread: float


class InletRecoverByScores(TypedDict):
    max_error_of_spread: float
    mean_error_of_spread: float
    changed_top_1: int
    second_best: InletRecoverSecondBest2
    images_held_back: int
    held_back_max_error_of_spread: float | None


class InletRecover(TypedDict):
    witness: str
    images_from: str
    inlet: Inlet | None
    images: int
    inlets_tried: int
    by_tensors: InletRecoverByTensors | None
    by_scores: InletRecoverByScores | None
