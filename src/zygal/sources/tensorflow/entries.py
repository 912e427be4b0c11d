"""Where the images come into a graph, and where its scores come out."""

from __future__ import annotations

import re
from dataclasses import dataclass

import numpy as np

from zygal.errors import SourceError, some_of
from zygal.files.families import Reading
from zygal.graph import TensorType
from zygal.sources.tensorflow.graph_file import GraphFile, Signature
from zygal.sources.tensorflow.messages import DTYPES
from zygal.sources.tensorflow.tensors import sizes_of
from zygal.sources.tensorflow.translate import declared_type

_PLACEHOLDERS = ("Placeholder", "PlaceholderV2", "PlaceholderWithDefault")
_NO_RESULT = frozenset(
    (
        "NoOp",
        "Assert",
        "Placeholder",
        "Const",
        "VarHandleOp",
        "VariableV2",
        "Variable",
        "AssignVariableOp",
        "Assign",
        "SaveV2",
        "RestoreV2",
        "MergeV2Checkpoints",
        "ShardedFilename",
        "VarIsInitializedOp",
        "IsVariableInitialized",
        "HashTableV2",
        "LookupTableImportV2",
        "InitializeTableFromTextFileV2",
        "InitializeTableV2",
        "MergeSummary",
        "ScalarSummary",
        "HistogramSummary",
        "ImageSummary",
        "DisableCopyOnRead",
        "ReadVariableOp",
        "PlaceholderWithDefault",
        "TensorListReserve",
        "EmptyTensorList",
        "TensorArrayV3",
    )
)
"""Operators whose result is no score, though nobody may read it."""
_KEPT = re.compile(r"keep|retain")
_DROPPED = re.compile(r"drop|rate")


@dataclass(frozen=True)
class Entry:
    """A tensor that goes in: how the user may call it, the real tensor's name, its dtype number and its sizes."""

    key: str
    tensor: str
    dtype: int
    sizes: tuple[int | None, ...] | None

    @property
    def is_text(self) -> bool:
        """Whether it takes encoded images."""
        return DTYPES.get(self.dtype) == "string"


def inputs_of(file: GraphFile, signature: Signature | None) -> list[Entry]:
    """What a signature takes, or the placeholders of a graph without signatures."""
    if signature is not None:
        return [
            Entry(key, tensor, dtype, None if shape is None else sizes_of(shape))
            for key, (tensor, dtype, shape) in signature.inputs.items()
        ]
    return [
        Entry(
            node.name,
            f"{node.name}:0",
            node.attr["dtype"].type or 1,
            sizes_of(node.attr["shape"].shape) if "shape" in node.attr else None,
        )
        for node in file.nodes.values()
        if node.op in _PLACEHOLDERS
    ]


def outputs_of(file: GraphFile, signature: Signature | None) -> dict[str, str]:
    """By name the tensors that come out: of a signature its outputs, of a graph what depends on an input and nobody
    reads."""
    if signature is not None:
        return {key: tensor for key, (tensor, _, _) in signature.outputs.items()}
    read = {each.lstrip("^").partition(":")[0] for node in file.nodes.values() for each in node.input}
    depending = _behind_inputs(file)
    found = {
        name: f"{name}:0"
        for name, node in file.nodes.items()
        if name not in read and node.op not in _NO_RESULT and name in depending
    }
    if not found:
        raise SourceError(
            f"{file.path} has no tensor that depends on an input and that nobody reads, so it has no output; it "
            f"is no model, or it is damaged."
        )
    return found


def _behind_inputs(file: GraphFile) -> set[str]:
    """The nodes that depend on a placeholder."""
    readers: dict[str, list[str]] = {}
    for name, node in file.nodes.items():
        for each in node.input:
            if not each.startswith("^"):
                readers.setdefault(each.partition(":")[0], []).append(name)
    found: set[str] = set()
    waiting = [name for name, node in file.nodes.items() if node.op in _PLACEHOLDERS] or list(file.nodes)
    while waiting:
        name = waiting.pop()
        if name not in found:
            found.add(name)
            waiting += readers.get(name, [])
    return found


def image_entry(file: GraphFile, places: list[Entry], reading: Reading) -> Entry:
    """The input that takes the images. Raises SourceError listing all of them if it is not clear."""
    if reading.input is not None:
        for place in places:
            if reading.input in (place.key, place.tensor, place.tensor.partition(":")[0]):
                return place
        if reading.input.partition(":")[0] in file.nodes:
            # Any tensor of the graph can be fed.
            return _inner_entry(file, reading.input)
        raise SourceError(
            f"{file.path} has no input {reading.input}; it has {some_of([place.key for place in places], 8) or 'none'}."
        )
    if not places:
        raise SourceError(
            f"{file.path} takes no input: it has no placeholder. Name the tensor that takes the images with "
            f"--input NAME."
        )
    left = [place for place in places if constant_for(place) is None]
    images = [place for place in left if place.sizes is not None and len(place.sizes) == 4] or left
    if len(images) == 1:
        return images[0]
    listed = "; ".join(shown_entry(place) for place in places[:8])
    raise SourceError(
        f"{file.path} takes {len(places)} inputs ({listed}); name the one that takes the images with --input NAME."
    )


def _inner_entry(file: GraphFile, name: str) -> Entry:
    node = file.nodes[name.partition(":")[0]]
    shapes = node.attr["_output_shapes"].list.shape if "_output_shapes" in node.attr else ()
    dtype = next((node.attr[each].type for each in ("DstT", "dtype", "T") if each in node.attr), 1)
    return Entry(name, name if ":" in name else f"{name}:0", dtype or 1, sizes_of(shapes[0]) if len(shapes) else None)


def shown_entry(place: Entry) -> str:
    """An input in words."""
    sizes = (
        "any shape"
        if place.sizes is None
        else f"[{', '.join('?' if size is None else str(size) for size in place.sizes)}]"
    )
    return f"{place.key} {DTYPES.get(place.dtype, place.dtype)} {sizes}"


def constant_for(place: Entry) -> np.ndarray | None:
    """What an input that only training changes must be at inference; None for any other."""
    if place.sizes is not None and np.prod([size or 1 for size in place.sizes], dtype=np.int64) != 1:
        return None
    shape = () if place.sizes is None else tuple(size or 1 for size in place.sizes)
    name, dtype = place.key.lower(), DTYPES.get(place.dtype)
    if dtype == "bool":
        return np.zeros(shape, bool)
    if dtype in ("float32", "float64", "float16"):
        if _KEPT.search(name):
            return np.ones(shape, np.float32)
        if _DROPPED.search(name):
            return np.zeros(shape, np.float32)
    if dtype in ("int32", "int64") and "phase" in name:
        return np.zeros(shape, dtype)
    return None


def fed_constants(file: GraphFile, places: list[Entry], image: Entry) -> dict[str, np.ndarray]:
    """What the other inputs are taken for, by their tensors: those that a signature leaves out too. What is not known
    is left out: it may never be read."""
    made: dict[str, np.ndarray] = {}
    for place in (*places, *inputs_of(file, None)):
        value = constant_for(place) if place.tensor.partition(":")[0] != image.tensor.partition(":")[0] else None
        if value is not None:
            made.setdefault(place.tensor, value)
    return made


def image_type(file: GraphFile, place: Entry, reading: Reading) -> TensorType:
    """The type of the input that takes the images. Raises SourceError."""
    return declared_type(f"the input {place.key} of {file.path}", place.dtype, place.sizes, reading.image_shape)
