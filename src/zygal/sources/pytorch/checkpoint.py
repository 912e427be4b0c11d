"""Weights alone, as training code saves them: which dictionary of a file is the model's, and what is in it."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from zygal.errors import SourceError
from zygal.files.weights import StoredWeight, WeightsFacts
from zygal.sources.pytorch.pickled import Saved, open_saved
from zygal.sources.pytorch.tensors import SCALAR_TYPES, StoredTensor

NESTED_UNDER = (
    "state_dict",
    "model_state_dict",
    "model",
    "net",
    "network",
    "weights",
    "params",
    "module",
    "state_dict_ema",
    "model_ema",
    "ema",
)
"""The keys under which training code keeps the model's dictionary beside others."""


def state_in(saved: Saved) -> tuple[str, dict[str, StoredTensor]]:
    """The key of the model's dictionary, empty for the whole file, and its tensors by their names. Raises
    SourceError."""
    content = saved.content
    if isinstance(content, dict):
        candidates = [("", content), *((key, content.get(key)) for key in NESTED_UNDER)]
        for key, candidate in candidates:
            if isinstance(candidate, dict) and candidate and all(map(_is_tensor, candidate.values())):
                return key, dict(candidate)
    raise SourceError(
        f"{saved.path} holds no state dictionary, neither at the top nor under {', '.join(NESTED_UNDER)}; save "
        "module.state_dict()."
    )


def _is_tensor(value: Any) -> bool:
    return isinstance(value, StoredTensor)


def read_checkpoint(path: str | Path) -> WeightsFacts:
    """What a file of weights holds, in either form of the framework. Raises FileError or SourceError."""
    with open_saved(path) as saved:
        key, state = state_in(saved)
        weights = tuple(
            StoredWeight(str(name), SCALAR_TYPES[each.scalar_type], each.sizes) for name, each in state.items()
        )
        beside = tuple(str(each) for each in saved.content if key and each != key)
    return WeightsFacts(weights, Path(path).stat().st_size, key, beside)
