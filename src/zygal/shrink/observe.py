"""What the activations of a float graph are on images: histograms, means of channels, and what is not a number."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field

import numpy as np

from zygal.engines.graph import GraphEngine
from zygal.errors import EngineError
from zygal.graph import Graph
from zygal.shrink.network import Network, Unit
from zygal.shrink.quantization import Histogram, Quantization, quantized_and_back

SAMPLED = 20_000
"""So many numbers of each activation of an image are counted, at even places; the extremes are those of all."""
BATCH = 4
MEANS_FROM = 32
"""Images from which the means of channels are taken."""


@dataclass
class Observed:
    """halves: for each value two histograms, each of half of the images. largest: of each input channel of a unit's
    first activation, the largest magnitude."""

    halves: dict[str, tuple[Histogram, Histogram]] = field(default_factory=dict)
    channels: dict[str, np.ndarray] = field(default_factory=dict)
    images: int = 0


def batches(tensors: np.ndarray, graph: Graph) -> Iterator[np.ndarray]:
    """The tensors [N, ...] as a graph takes them. Where its batch is fixed, the last one is filled up with the first
    images."""
    fixed = graph.types[graph.inputs[0]].shape[0]
    size = fixed if isinstance(fixed, int) else BATCH
    if isinstance(fixed, int):
        whole = -(-len(tensors) // size) * size
        tensors = np.take(tensors, range(whole), axis=0, mode="wrap")
    for start in range(0, len(tensors), size):
        yield tensors[start : start + size]


def observe(
    network: Network, tensors: np.ndarray, names: list[str], threads: int | None, progress: Callable[[int], None]
) -> Observed:
    """Runs the float graph on tensors [N, ...] and counts what those values are. Raises EngineError naming the layer
    that gives what is not a finite number."""
    values = list(network.quantizable)
    engine = GraphEngine(
        network.graph, [*values, *(name for name in network.graph.outputs if name not in values)], threads
    )
    found = Observed({name: (Histogram(), Histogram()) for name in values})
    by_channel = {unit.reads[0]: channel_axis(unit) for unit in network.units.values() if unit.weight}
    start = 0
    # At random: images often come class by class.
    halves = np.random.default_rng(0).permutation(len(tensors)) % 2
    for batch in batches(tensors, network.graph):
        named = [names[(start + index) % len(names)] for index in range(len(batch))]
        given = engine.values(batch)
        for name in values:
            array = given[name]
            low, high = float(array.min()), float(array.max())
            if not (np.isfinite(low) and np.isfinite(high)):
                raise _not_finite(network, batch, named)
            for index, one in enumerate(array if len(array) == len(batch) else [array]):
                stride = max(1, one.size // SAMPLED) | 1
                found.halves[name][halves[(start + index) % len(halves)]].add(one.ravel()[::stride], low, high)
            if name in by_channel:
                axes = tuple(axis for axis in range(array.ndim) if axis != by_channel[name] % array.ndim)
                largest = np.maximum(array.max(axis=axes), -array.min(axis=axes))
                found.channels[name] = np.maximum(found.channels.get(name, largest), largest)
        start += len(batch)
        found.images = min(start, len(tensors))
        progress(found.images)
        if not all(np.isfinite(given[name]).all() for name in network.graph.outputs):
            raise _not_finite(network, batch, named)
    return found


def channel_axis(unit: Unit) -> int:
    """The axis of the input channels in what a unit with a weight reads."""
    return 1 if unit.node.operator == "Conv" else -1


def channel_means(
    network: Network,
    units: Iterable[Unit],
    quantizations: dict[str, Quantization],
    tensors: np.ndarray,
    threads: int | None,
) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    """For each activation that the units with weights read: the mean of each channel, and that of what is quantized of
    it; float64."""
    axes = {unit.reads[0]: channel_axis(unit) for unit in units if unit.weight}
    engine = GraphEngine(network.graph, list(axes), threads)
    sums = {name: [0.0, 0.0] for name in axes}
    count = 0
    for batch in batches(tensors[:MEANS_FROM], network.graph):
        for name, array in engine.values(batch).items():
            others = tuple(axis for axis in range(array.ndim) if axis != axes[name] % array.ndim)
            back = quantized_and_back(array, quantizations[network.alike.get(name, name)], network.form)
            for place, each in enumerate((array, back)):
                sums[name][place] = sums[name][place] + each.mean(axis=others, dtype=np.float64) * len(batch)
        count += len(batch)
    return {name: (both[0] / count, both[1] / count) for name, both in sums.items()}


def _not_finite(network: Network, batch: np.ndarray, names: list[str]) -> EngineError:
    """Names the first layer and the first image: the graph is run once more with all its values, image by image."""
    order = [
        name for node in network.graph.nodes for name in node.outputs if network.graph.types[name].dtype == np.float32
    ]
    engine = GraphEngine(network.graph, order)
    for index, name in enumerate(names):
        if not np.isfinite(batch[index]).all():
            return EngineError(
                f"the tensor of {name} holds numbers that are not finite; check the inlet or the recording."
            )
        values = engine.values(next(batches(batch[index : index + 1], network.graph)))
        for node in network.graph.nodes:
            bad = next((each for each in node.outputs if each in values and not np.isfinite(values[each]).all()), None)
            if bad is not None:
                what = "not-a-number" if np.isnan(values[bad]).any() else "infinity"
                return EngineError(
                    f"layer {node.layer or bad} ({node.operator}) gives {what} on {name}; 8-bit scales cannot be "
                    f"found. Mend the model, or leave the image out."
                )
    return EngineError(
        f"the model gives numbers that are not finite on one of {', '.join(names)}; 8-bit scales cannot be found."
    )
