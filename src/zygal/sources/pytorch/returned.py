"""What a captured program returns: which tensors, and what a person calls them."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from zygal.errors import SourceError

if TYPE_CHECKING:
    pass


def returned_tensors(path: Path, specs: list[dict]) -> dict[int, str]:
    """The tensors that the model returns, by their place among all that it returns."""
    returned = [spec["user_output"]["arg"] for spec in specs if "user_output" in spec]
    names = {position: arg["as_tensor"]["name"] for position, arg in enumerate(returned) if "as_tensor" in arg}
    if not names:
        raise SourceError(f"{path} returns no tensor; capture a model that returns its scores.")
    return names


def names_of_returned(module: dict, outputs: dict[int, str]) -> tuple[str, ...]:
    """The keys that lead to each output through dictionaries; the program's own names where there are none."""
    calls = module.get("module_call_graph") or [{}]
    spec = (calls[0].get("signature") or {}).get("out_spec")
    try:
        leaves = list(_leaves(json.loads(spec)[1], ()))
        named = tuple(
            ".".join(leaves[position]) if not _counted(leaves[position]) else outputs[position] for position in outputs
        )
    except (KeyError, TypeError, ValueError, IndexError):
        return tuple(outputs.values())
    return named if len(set(named)) == len(named) else tuple(outputs.values())


def _leaves(spec: dict, key_path: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    """The path to each leaf of what the model returns: keys of dictionaries, positions in lists."""
    if spec["type"] is None:
        yield key_path
        return
    children = spec["children_spec"]
    keys = json.loads(spec["context"]) if isinstance(spec["context"], str) else None
    if not isinstance(keys, list) or len(keys) != len(children) or not all(isinstance(key, str) for key in keys):
        keys = [str(position) for position in range(len(children))]
    for key, child in zip(keys, children):
        yield from _leaves(child, (*key_path, key))


def _counted(key_path: tuple[str, ...]) -> bool:
    return all(step.isascii() and step.isdigit() for step in key_path)
