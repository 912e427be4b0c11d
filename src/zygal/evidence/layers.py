"""Outputs of layers, recorded where the framework lives and compared where the artifact runs.

What is kept of an output is some numbers at even ranks, from its smallest to its largest. They do not
depend on the order of the axes, so frameworks and layouts can differ, and are small.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

import numpy as np

from zygal.evidence.witness import QUANTILES, LayerRecord, Witness

IMAGES = 4
"""How many images' layers are recorded: enough to tell a departure."""
DEPARTED = 1e-3
"""A layer departs if a quantile is further off than this part of the layer's recorded range."""
DEPARTED_SHRUNK = 0.05
"""The same of an artifact in 8 bits, whose steps are a 255th of a range; the extremes, which storing clips, are left
out."""


class LayeredEngine(Protocol):
    """An engine that can tell what its layers give."""

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """For each layer, in the order in which they end: its name, its output's name in the program, its output [N,
        ...]."""
        ...


class ValuesEngine(Protocol):
    """An engine that can tell what values inside its graph are."""

    def values(self, batch: np.ndarray, names: list[str]) -> dict[str, np.ndarray]:
        """The values [N, ...] of those names that the graph has."""
        ...


@dataclass(frozen=True)
class Departure:
    """The first layer whose output differs from the recording. difference: part of the layer's recorded range.

    layer, difference: None if all layers that could be compared agree, so that the difference arises behind them.
    before: the last layer that agrees, if any. compared: how many layers could be compared.
    """

    layer: str | None
    difference: float | None
    before: str | None
    compared: int


def record_layers(engine: LayeredEngine, tensors: np.ndarray) -> LayerRecord:
    """The layers' outputs on the first few tensors [N, ...]."""
    by_image = [engine.layer_outputs(tensors[index : index + 1]) for index in range(min(IMAGES, len(tensors)))]
    names, values, outputs = zip(*by_image[0])
    quantiles = np.stack([np.stack([quantiles_of(output) for _, _, output in layers]) for layers in by_image])
    return LayerRecord(names, values, tuple(int(output.size) for output in outputs), quantiles)


def quantiles_of(output: np.ndarray) -> np.ndarray:
    """Numbers of an array at even ranks, smallest and largest included, [QUANTILES] float32."""
    ordered = np.sort(output, axis=None)
    return ordered[np.linspace(0, ordered.size - 1, QUANTILES).round().astype(int)].astype(np.float32)


def first_departure(
    engine: ValuesEngine, witness: Witness, scores: np.ndarray, shrunk: bool = False
) -> Departure | None:
    """The first recorded layer that the artifact has too and that departs; None if no layer can be compared.

    scores: the artifact's on the recorded tensors: what its last layer gives has another name than in the training
    code. shrunk: it is in lower precision.
    """
    recorded = witness.layers
    images = len(recorded.quantiles)
    values = engine.values(witness.tensors[:images], list(recorded.values))
    before, compared = None, 0
    last = len(recorded.names) - 1
    for index, (name, value, count) in enumerate(zip(recorded.names, recorded.values, recorded.counts)):
        ours = values.get(value)
        if ours is None and index == last and count == scores.shape[1]:
            ours = scores[:images]
        if ours is None or ours[0].size != count:
            continue
        compared += 1
        wanted = recorded.quantiles[:, index].astype(np.float64)
        our_quantiles = np.stack([quantiles_of(each) for each in ours])
        span = max(float(np.ptp(wanted)), 1e-12)
        differences = np.abs(our_quantiles - wanted)
        difference = float((differences[:, 1:-1] if shrunk else differences).max() / span)
        if not difference <= (DEPARTED_SHRUNK if shrunk else DEPARTED):
            return Departure(name, difference, before, compared)
        before = name
    return Departure(None, None, before, compared) if compared else None
