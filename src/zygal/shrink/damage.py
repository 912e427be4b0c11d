"""What 8 bits in one place do to the scores."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

import numpy as np

from zygal.classifier.scores import INDEPENDENT, LOG_PROBABILITIES, LOGITS, PROBABILITIES
from zygal.engines.graph import GraphEngine
from zygal.graph import Graph
from zygal.graph.build import rebuilt
from zygal.shrink.calibrate import Calibration
from zygal.shrink.observe import batches

LEAST_PROBABILITY = 1e-4
MOST_IMAGES = 32
MOST_BYTES = 400_000_000
"""What the float values between the layers may take in memory."""


def score_error(scores: np.ndarray, float_scores: np.ndarray, kind: str = LOGITS) -> float:
    """The root of the mean squared difference, as a part of the spread of the float scores. Of probabilities, the
    logarithms are compared, held at LEAST_PROBABILITY: else a few unsure images would decide alone."""
    ours, usual = (on_even_scale(each, kind) for each in (scores, float_scores))
    spread = max(float(np.ptp(usual)), 1e-30)
    return float(np.sqrt(np.mean(np.square(ours - usual)))) / spread


def on_even_scale(scores: np.ndarray, kind: str) -> np.ndarray:
    """Scores whose differences mean about the same for sure and for unsure images, float64."""
    scores = scores.astype(np.float64)
    if kind == PROBABILITIES:
        return np.log(np.maximum(scores, LEAST_PROBABILITY))
    if kind == LOG_PROBABILITIES:
        return np.maximum(scores, np.log(LEAST_PROBABILITY))
    if kind == INDEPENDENT:
        held = np.clip(scores, LEAST_PROBABILITY, 1 - LEAST_PROBABILITY)
        return np.log(held / (1 - held))
    return scores


def damages(
    calibration: Calibration,
    tensors: np.ndarray,
    float_scores: np.ndarray,
    kind: str,
    threads: int | None,
    progress: Callable[[float], None],
) -> dict[str, float]:
    """The score error that quantizing each value alone makes, together with the weights that make it, on as many of the
    tensors as memory allows for. Everything else is computed in float.

    What lies before a value is computed once; only what lies behind it is run again for each.
    """
    network = calibration.network
    graph = network.graph
    places = {name: place for place, node in enumerate(graph.nodes) for name in node.outputs}
    # The weights of what makes a value lie before it, where a rectifier or a clip stands between.
    first = {unit.home: places[unit.result] for unit in network.units.values()}
    cuts = {
        value: first.get(value, places.get(value, 0))
        for value in network.quantizable
        if not network.quantized_before(value)
    }
    live = {place: _live(graph, place) for place in set(cuts.values())}
    between = list(dict.fromkeys(name for cut in live.values() for name in cut))
    engine = GraphEngine(graph, between, threads)
    count = _affordable(engine, graph, tensors)
    chosen = np.linspace(0, len(tensors) - 1, count).round().astype(int)
    parts = [engine.values(batch) for batch in batches(tensors[chosen], graph)]
    found = dict.fromkeys(network.quantizable, 0.0)
    for number, (value, place) in enumerate(cuts.items()):
        behind = GraphEngine(_tail(calibration.graph_with(value), graph, place, live[place]), None, threads)
        scores = np.concatenate([behind.run(*(part[name] for name in live[place])) for part in parts])[:count]
        found[value] = score_error(scores, float_scores[chosen], kind)
        progress((number + 1) / len(cuts))
    return found


def _live(graph: Graph, place: int) -> tuple[str, ...]:
    """The values that are made before a place in the graph and read there or behind it."""
    made = [*graph.inputs, *(name for node in graph.nodes[:place] for name in node.outputs)]
    read = {name for node in graph.nodes[place:] for name in node.inputs} | set(graph.outputs)
    return tuple(name for name in made if name in read)


def _affordable(engine: GraphEngine, graph: Graph, tensors: np.ndarray) -> int:
    """How many images' values can be held."""
    one = engine.values(next(batches(tensors[:1], graph)))
    return int(
        np.clip(
            MOST_BYTES // max(sum(array.nbytes for array in one.values()), 1),
            min(4, len(tensors)),
            min(MOST_IMAGES, len(tensors)),
        )
    )


def _tail(changed: Graph, graph: Graph, place: int, cut: tuple[str, ...]) -> Graph:
    """What of a changed graph lies behind a cut through the unchanged one."""
    before = {name for node in graph.nodes[:place] for name in node.outputs}
    nodes = [node for node in changed.nodes if node.outputs[0] not in before]
    return rebuilt(replace(changed, inputs=cut), nodes, dict(changed.constants), changed.outputs)
