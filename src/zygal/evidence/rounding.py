"""Whether scores differ because a conversion is wrong, or because float32 cannot hold this model: its graph computed in
float64 tells."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from zygal.errors import GraphError
from zygal.graph import Graph
from zygal.graph.reference import run_graph

BY_ROUNDING, BY_CONVERSION, BY_RUNTIME = "rounding", "conversion", "runtime"
MOST_IMAGES = 4
NUDGES = 2
FARTHEST, TYPICALLY = 10.0, 4.0
"""A side that is so many times as far from float64 as rounding puts this model, at most or in the geometric mean over
images and classes, is there for another reason. Of 40 networks that amplify rounding on purpose the maxima of two
float32 computations were up to 1.9 times apart, the means 1.5 times; of 40 faulty conversions of such networks the
smallest mean was 64 times as far, the smallest maximum 4 times."""
LAST_PLACES = 8
"""Of float32: nothing is told from rounding that is smaller, whatever the few computations here give."""
SECONDS_FOR_EACH = 0.5
"""For 10^9 multiply-adds of one image, by NumPy on two cores: once in float64 and three times in float32."""


@dataclass(frozen=True)
class OwnRounding:
    """All as parts of the spread of the recorded scores, the largest over `images` recorded tensors.

    own: float32 against float64, both by the operators' plain meanings, also with every weight moved by at most one
    unit in the last place, as folding does it. framework, runtime: the recorded scores, and those of the artifact on
    its runtime, against float64. margin: of two scores of an image, in their own unit, below which their order may be
    another one on any machine. conclusion: BY_ROUNDING, BY_CONVERSION or BY_RUNTIME.
    """

    images: int
    own: float
    framework: float
    runtime: float
    margin: float
    conclusion: str

    @property
    def by_conversion(self) -> bool:
        """Whether the conversion is wrong."""
        return self.conclusion == BY_CONVERSION

    @property
    def by_runtime(self) -> bool:
        """Whether the runtime is less exact than the framework."""
        return self.conclusion == BY_RUNTIME


def own_rounding(
    graph: Graph, tensors: np.ndarray, recorded: np.ndarray, ours: np.ndarray, spread: float
) -> OwnRounding:
    """tensors [n, ...], recorded and ours [n, classes], of the images to look at. Raises GraphError."""
    exact = _scores(in_float64(graph), tensors.astype(np.float64))
    spreads = [_scores(graph, tensors), *(_scores(_nudged(graph, seed), tensors) for seed in range(NUDGES))]
    off = [_farthest(each, exact, spread) for each in spreads]
    if not np.isfinite(off).all():
        raise GraphError(
            "by the operators' plain meanings, this model's scores are not finite in float32 or in float64"
        )
    own = max(off)
    framework, runtime = (_farthest(each, exact, spread) for each in (recorded, ours))
    least = LAST_PLACES * 2.0**-24 * float(np.abs(exact).max()) / spread
    usual = max(_typically(each, exact, spread, least) for each in spreads)

    def by_rounding(scores: np.ndarray) -> bool:
        return (
            _farthest(scores, exact, spread) <= FARTHEST * max(own, least)
            and _typically(scores, exact, spread, least) <= TYPICALLY * usual
        )

    conclusion = BY_CONVERSION if not by_rounding(recorded) else BY_RUNTIME if not by_rounding(ours) else BY_ROUNDING
    return OwnRounding(len(tensors), own, framework, runtime, 2 * spread * max(own, framework, runtime), conclusion)


def images_to_look_at(differences: Sequence[float], multiply_adds: int, seconds: float) -> tuple[list[int], float]:
    """The images that differ most, as many as the time allows, and how long they take."""
    each = SECONDS_FOR_EACH * multiply_adds / 1e9
    count = max(1, min(MOST_IMAGES, len(differences), int(seconds / max(each, 1e-3))))
    order = np.argsort(-np.asarray(differences), kind="stable")
    return sorted(order[:count].tolist()), count * each


def in_float64(graph: Graph) -> Graph:
    """The same graph with its float32 constants and conversions in float64; for the reference engine, which takes
    dtypes as they come."""
    constants = {
        name: array.astype(np.float64) if array.dtype == np.float32 else array
        for name, array in graph.constants.items()
    }
    nodes = tuple(
        replace(node, attributes={**node.attributes, "to": "float64"})
        if node.operator == "Cast" and np.dtype(node.attributes["to"]) == np.float32
        else node
        for node in graph.nodes
    )
    return replace(graph, constants=constants, nodes=nodes)


def _nudged(graph: Graph, seed: int) -> Graph:
    """Every weight in float32 at itself or at one of its neighbours."""
    random = np.random.default_rng(seed)
    constants = {}
    for name, array in graph.constants.items():
        if array.dtype == np.float32 and array.size > 1:
            towards = random.choice(np.array([-np.inf, np.inf], np.float32), array.shape)
            array = np.where(random.random(array.shape) < 0.5, array, np.nextafter(array, towards))
        constants[name] = array
    return replace(graph, constants=constants)


def _scores(graph: Graph, tensors: np.ndarray) -> np.ndarray:
    with np.errstate(all="ignore"):
        return run_graph(graph, {graph.inputs[0]: tensors})[graph.outputs[0]].astype(np.float64)


def _farthest(scores: np.ndarray, exact: np.ndarray, spread: float) -> float:
    return float(np.abs(scores.astype(np.float64) - exact).max()) / spread


def _typically(scores: np.ndarray, exact: np.ndarray, spread: float, least: float) -> float:
    """The geometric mean of the differences; what is below `least` counts as that."""
    return float(np.exp(np.log(np.maximum(np.abs(scores.astype(np.float64) - exact) / spread, least)).mean()))
