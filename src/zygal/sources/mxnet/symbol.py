"""Symbol files (NAME-symbol.json): a list of nodes with their attributes as text, validated as a whole."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from zygal.errors import SourceError, shown
from zygal.files.documents import parse_json
from zygal.files.opening import read_text

LARGEST_BYTES = 64_000_000
MOST_NODES = 200_000


@dataclass(frozen=True)
class SymbolNode:
    """One node. op: "null" for what is given. inputs: by node and output. attributes: of the operator, as text. said:
    those that users attach, such as the shape of an input."""

    op: str
    name: str
    inputs: tuple[tuple[int, int], ...]
    attributes: Mapping[str, str]
    said: Mapping[str, str]


@dataclass(frozen=True)
class Symbol:
    """nodes: each reads only nodes before it. heads: the results by node and output. version: of the framework; empty
    where the file does not say it."""

    path: Path
    nodes: tuple[SymbolNode, ...]
    heads: tuple[tuple[int, int], ...]
    version: str


def read_symbol(path: str | Path) -> Symbol:
    """Raises FileError or SourceError naming the first thing that is not sound."""
    path = Path(path)
    document = parse_json(read_text(path, "a symbol file", LARGEST_BYTES), str(path), SourceError)

    def refuse(what: str):
        raise SourceError(f"{path} is damaged: {what}; copy it again.")

    stated = document.get("nodes")
    if not isinstance(stated, list) or not stated or len(stated) > MOST_NODES:
        refuse("it has no list of nodes")
    nodes = tuple(_node(each, place, refuse) for place, each in enumerate(stated))
    heads = document.get("heads")
    if not isinstance(heads, list) or not heads:
        refuse("it has no heads, which are its results")
    return Symbol(path, nodes, tuple(_entry(each, len(nodes), refuse) for each in heads), _version(document))


def _version(document: dict[str, Any]) -> str:
    stated = document.get("attrs")
    found = stated.get("mxnet_version") if isinstance(stated, dict) else None
    number = found[1] if isinstance(found, list) and len(found) == 2 else None
    if not isinstance(number, int) or not 0 <= number < 10**7:
        return ""
    return f"{number // 10000}.{number // 100 % 100}.{number % 100}"


def _node(stated: Any, place: int, refuse) -> SymbolNode:
    if not isinstance(stated, dict):
        refuse(f"node {place} is no object")
    op, name = stated.get("op"), stated.get("name")
    if not isinstance(op, str) or not isinstance(name, str) or not op or len(name) > 4096:
        refuse(f"node {place} has no operator or no name")
    # Older files keep the operator's attributes under "param" or "attr", and what users attach under "attr".
    texts = [_texts(stated.get(key), name, refuse) for key in ("attr", "param", "attrs")]
    merged = {key: value for each in texts for key, value in each.items()}
    attributes = {key: value for key, value in merged.items() if not _is_said(key)}
    inputs = stated.get("inputs", [])
    if not isinstance(inputs, list):
        refuse(f"the inputs of {shown(name)} are no list")
    entries = tuple(_entry(each, place, refuse) for each in inputs)
    if op == "null" and entries:
        refuse(f"{shown(name)} is given, and yet has inputs")
    return SymbolNode(op, name, entries, attributes, {k: v for k, v in merged.items() if _is_said(k)})


def _is_said(key: str) -> bool:
    """Whether an attribute is one that users attach: the framework's own have no strokes around them."""
    return key.startswith("__") and key.endswith("__") or key in ("ctx_group", "lr_mult", "wd_mult", "force_mirroring")


def _texts(stated: Any, name: str, refuse) -> dict[str, str]:
    if stated is None:
        return {}
    if not isinstance(stated, dict) or not all(isinstance(value, str) for value in stated.values()):
        refuse(f"the attributes of {shown(name)} are no texts")
    return stated


def _entry(stated: Any, before: int, refuse) -> tuple[int, int]:
    """[node, output] or [node, output, version]; the node comes before."""
    fine = (
        isinstance(stated, list)
        and len(stated) in (2, 3)
        and all(isinstance(each, int) and not isinstance(each, bool) for each in stated)
        and 0 <= stated[0] < before
        and 0 <= stated[1] < 1000
    )
    if not fine:
        refuse("a node reads what comes after it, or nothing that exists")
    return stated[0], stated[1]
