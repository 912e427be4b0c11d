"""What 8 bits in one place do to the scores."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from zygal.engines.graph import GraphEngine
from zygal.graph import Graph
from zygal.graph.build import rebuilt
from zygal.shrink.calibrate import Calibration
from zygal.shrink.observe import batches

MOST_IMAGES = 32
MOST_BYTES = 600_000_000
"""What the float values between the layers may take in memory."""


def score_error(scores: np.ndarray, float_scores: np.ndarray) -> float:
    """The root of the mean squared difference, as a part of the spread of the float scores."""
    spread = max(float(np.ptp(float_scores)), 1e-30)
    return float(np.sqrt(np.mean(np.square(scores.astype(np.float64) - float_scores)))) / spread


def damages(
    calibration: Calibration, tensors: np.ndarray, float_scores: np.ndarray, threads: int | None, progress: Callable[[float], None]
) -> dict[str, float]:
    """The score error that storing each value alone makes, together with the weights that make it, on as many of the tensors as memory
    allows for. Everything else is computed in float.

    What lies before a value is computed once; only what lies behind it is run again for each.
    """
    network = calibration.network
    graph = network.graph
    places = {name: place for place, node in enumerate(graph.nodes) for name in node.outputs}
    # The weights of what makes a value lie before it, where a rectifier or a clip stands between.
    first = {unit.home: places[unit.result] for unit in network.units.values()}
    cuts = {value: first.get(value, places.get(value, 0)) for value in network.storable}
    live = {place: _live(graph, place) for place in set(cuts.values())}
    between = list(dict.fromkeys(name for cut in live.values() for name in cut))
    count = _affordable(graph, tensors, between, threads)
    chosen = np.linspace(0, len(tensors) - 1, count).round().astype(int)
    engine = GraphEngine(graph, between, threads)
    parts = [engine.values(batch) for batch in batches(tensors[chosen])]
    found = {}
    for number, (value, place) in enumerate(cuts.items()):
        behind = GraphEngine(_tail(calibration.graph_with(value), graph, place, live[place]), None, threads)
        scores = np.concatenate([behind.run(*(part[name] for name in live[place])) for part in parts])
        found[value] = score_error(scores, float_scores[chosen])
        progress((number + 1) / len(cuts))
    return found


def _live(graph: Graph, place: int) -> tuple[str, ...]:
    """The values that are made before a place in the graph and read there or behind it."""
    made = [*graph.inputs, *(name for node in graph.nodes[:place] for name in node.outputs)]
    read = {name for node in graph.nodes[place:] for name in node.inputs} | set(graph.outputs)
    return tuple(name for name in made if name in read)


def _affordable(graph: Graph, tensors: np.ndarray, between: list[str], threads: int | None) -> int:
    """How many images' values can be held."""
    one = GraphEngine(graph, between, threads).values(tensors[:1])
    return int(np.clip(MOST_BYTES // max(sum(array.nbytes for array in one.values()), 1), min(4, len(tensors)), min(MOST_IMAGES, len(tensors))))


def _tail(changed: Graph, graph: Graph, place: int, cut: tuple[str, ...]) -> Graph:
    """What of a changed graph lies behind a cut through the unchanged one."""
    before = {name for node in graph.nodes[:place] for name in node.outputs}
    nodes = [node for node in changed.nodes if node.outputs[0] not in before]
    return rebuilt(replace(changed, inputs=cut), nodes, dict(changed.constants), changed.outputs)
