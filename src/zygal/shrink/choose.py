"""Which layers stay in float: those that do the most damage for the least time, until the budget holds."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping
from dataclasses import dataclass

from zygal.shrink.network import Network, Unit
from zygal.shrink.trial import Point, Trials

FLOAT_WIDTH = 4
"""A number in float32 is so many times as wide as one in 8 bits, so an operator that only moves numbers takes so many
times as long."""
MUCH_FASTER = 0.6
"""The first layer is faster in float if it takes this part of the time: its result is larger than the image, so
quantizing it takes longer."""
LEAST_SAVED = 0.25
"""What 8 bits save of a unit's time is taken for no less than this part of the mean unit's: it is not known more
precisely, and where nothing is saved, the damage alone decides."""
MOST_SIZE = 0.9
"""A candidate whose file is larger than this part of the float artifact's is one in float for the most part, and is not
taken."""
FEW_POINTS = 6
"""So many candidates show the trade-off; where the search needed fewer, more are tried."""
MOST_EXPECTED = 0.999
"""No change at all can be counted, but is never to be expected."""
LONGEST, USUAL_CANDIDATES = 12, 9
NOTHING_LOST = 0.05
"""The last layer is in 8 bits if its part of the squared damage is no larger than this."""


@dataclass(frozen=True)
class Budget:
    """What must hold; None of what is not asked for. agree: least share of images with the same answer. lose: largest
    loss of accuracy, a share. speed: how many times as fast at least."""

    agree: float | None = None
    lose: float | None = None
    speed: float | None = None

    def quality_holds(self, point: Point) -> bool:
        """Whether it loses no more than is allowed."""
        # Counted, and expected with some certainty: a count of few changes says little, and so do the margins of few
        # images.
        agrees = (
            self.agree is None
            or point.agreement.value >= self.agree
            and point.expected_at_least >= min(self.agree, MOST_EXPECTED)
        )
        return agrees and (self.lose is None or point.lost <= self.lose + 1e-12)

    def speed_holds(self, point: Point) -> bool:
        """Whether a choice is fast enough."""
        return self.speed is None or point.speed is not None and point.speed.value >= self.speed


@dataclass(frozen=True)
class Layer:
    """A value that can be quantized, and the unit that makes it, if one does. name, operator: of what makes it. damage:
    the score error that quantizing it alone makes. seconds, float_seconds: of the unit, for a run; 0 where the runtime
    joins it to another."""

    value: str
    result: str | None
    name: str
    operator: str
    damage: float
    seconds: float
    float_seconds: float


def layers_of(
    network: Network, damages: Mapping[str, float], seconds: Mapping[str, float], float_seconds: Mapping[str, float]
) -> list[Layer]:
    """All values that can be quantized, in the order in which they are made."""
    makers = {unit.home: unit for unit in network.units.values() if network.must_store(unit)}
    found = []
    for value in network.quantizable:
        unit, node = makers.get(value), network.made_by.get(value)
        name = unit.layer if unit else (node.layer or value) if node else "the input"
        operator = unit.node.operator if unit else node.operator if node else "-"
        result = unit.result if unit else None
        found.append(
            Layer(
                value, result, name, operator, damages[value], seconds.get(result, 0.0), float_seconds.get(result, 0.0)
            )
        )
    return found


def _alone(unit: Unit, seconds: Mapping[str, float], float_seconds: Mapping[str, float]) -> float:
    """What a unit takes in float between others in 8 bits."""
    alone = float_seconds.get(unit.result, 0.0)
    # The runtime joins what has no weight to a convolution in float; between quantized values it stands alone.
    return max(alone, FLOAT_WIDTH * seconds.get(unit.result, 0.0)) if unit.weight is None else alone


def best_returned(
    network: Network,
    layers: list[Layer],
    seconds: Mapping[str, float],
    float_seconds: Mapping[str, float],
    base: Collection[str],
) -> list[tuple[str, ...]]:
    """Groups of units in the order in which they are best given back to float: the most damage for the least time
    first.

    A value is quantized as long as what makes it, or one that reads it, computes in 8 bits; so operators that follow
    each other go back together, up to LONGEST of them. The squared errors of values add up, as independent ones do;
    times add up too.
    """
    squared = {layer.value: layer.damage**2 for layer in layers}
    least = max(LEAST_SAVED * sum(seconds.values()) / max(len(network.units), 1), 1e-9)
    saved = {
        result: max(_alone(unit, seconds, float_seconds) - seconds.get(result, 0.0), least)
        for result, unit in network.units.items()
    }
    left = network.possible(set(network.units) - set(base))
    quantized = {result: network.quantized((result,)) for result in network.units}
    groups = []
    while left:
        order, needs = [result for result in network.units if result in left], _needs(quantized, left)
        best, most = (), -1.0
        for start in range(len(order)):
            group, freed, time = set(), 0.0, 0.0
            for result in order[start : start + LONGEST]:
                group.add(result)
                time += saved[result]
                freed += sum(squared[value] for value in quantized[result] if needs[value] <= group)
                if freed / time > most:
                    best, most = frozenset(group), freed / time
        rest = network.possible(left - best)
        groups.append(tuple(result for result in order if result not in rest))
        left = rest
    return groups


def _needs(quantized: Mapping[str, set[str]], chosen: Collection[str]) -> dict[str, set[str]]:
    """For each quantized value the units that need it so: what makes it and what reads it. quantized: what each unit
    needs."""
    needs: dict[str, set[str]] = {}
    for result in chosen:
        for value in quantized[result]:
            needs.setdefault(value, set()).add(result)
    return needs


@dataclass(frozen=True)
class Choice:
    """final: the candidate that was taken, or None if none holds the budget; nearest: the one that comes nearest then.
    points: all that were tried, in the order of how many layers they keep. ends: the candidate that keeps the first and
    the last layer. kept: the units of the final one that stay in float, by their results."""

    final: Point | None
    nearest: Point
    points: tuple[Point, ...]
    ends: Point | None
    kept: tuple[str, ...] = ()


class Chooser:
    """Looks for the candidate that keeps the fewest layers in float and holds the budget."""

    def __init__(
        self,
        trials: Trials,
        layers: list[Layer],
        seconds: Mapping[str, float],
        float_seconds: Mapping[str, float],
        budget: Budget,
        progress: Callable[[float], None],
    ):
        self.trials, self.budget, self.progress = trials, budget, progress
        self.network = trials.calibration.network
        self.base = (*self._first(seconds, float_seconds), *self._base(layers))
        self.order = best_returned(self.network, layers, seconds, float_seconds, self.base)

    def _base(self, layers: list[Layer]) -> tuple[str, ...]:
        """What stays in float whatever the budget: the last layer, unless that loses nothing."""
        last = self.network.last
        if last is None:
            return ()
        lost = sum(
            layer.damage**2
            for layer in layers
            if layer.value in self.network.quantized((last.result,)) and self._only(last, layer.value)
        )
        return (last.result,) if lost > NOTHING_LOST * sum(layer.damage**2 for layer in layers) else ()

    def _first(self, seconds: Mapping[str, float], float_seconds: Mapping[str, float]) -> tuple[str, ...]:
        """The first layer, if it is faster in float: images have few channels, and its result is quantized instead of
        the image."""
        first = next(iter(self.network.units))
        alone = self.network.must_store(self.network.units[first]) and 0 < float_seconds.get(
            first, 0.0
        ) < MUCH_FASTER * seconds.get(first, 0.0)
        return (first,) if alone and first != self.network.last.result else ()

    def _only(self, last: Unit, value: str) -> bool:
        """Whether a value would not be quantized but for the last layer."""
        return value not in self.network.quantized(set(self.network.units) - {last.result})

    def kept(self, count: int) -> tuple[str, ...]:
        """The units in float after the first so many groups went back."""
        return (*self.base, *(result for group in self.order[:count] for result in group))

    def _tell(self) -> None:
        """How far it is, by the number of candidates that are usually needed."""
        self.progress(min(len(self.trials.points) / USUAL_CANDIDATES, 0.99))

    def at(self, count: int) -> Point:
        """The candidate that gives the first so many groups back to float."""
        kept = self.kept(count)
        self._tell()
        return self.trials.point(kept, f"{len(kept)} kept" if kept else "none kept")

    def run(self) -> Choice:
        """Tries choices until the budget is met, or nothing is left."""
        final = self._fewest() if self.budget.agree is not None or self.budget.lose is not None else self._most()
        self._more_points()
        first, last = next(iter(self.network.units)), self.network.last
        ends = None
        if last is not None and first != last.result:
            self._tell()
            ends = self.trials.point((first, last.result), "first and last kept")
        ladder = [
            point for point in self.trials.points.values() if point is not ends or point.name != "first and last kept"
        ]
        points = tuple(sorted(ladder, key=lambda point: len(point.kept)))
        kept = next(
            (
                self.kept(count)
                for count in range(len(self.order) + 1)
                if final is not None and self.trials.tried(self.kept(count)) is final
            ),
            (),
        )
        return Choice(final, final or self._nearest(points), points, ends, kept)

    def _is_small(self, point: Point) -> bool:
        return point.size_bytes <= MOST_SIZE * self.trials.float_bytes

    def _fewest(self) -> Point | None:
        """The fewest layers with which the quality holds; None if the speed does not hold then, or nearly all would be
        in float."""
        low, high = -1, 0
        while not self.budget.quality_holds(self.at(high)):
            if high >= len(self.order) - 1 or not self._is_small(self.at(high)):
                return None
            low, high = high, min(2 * high or 1, len(self.order) - 1)
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (low, middle) if self.budget.quality_holds(self.at(middle)) else (middle, high)
        point = self.at(high)
        return point if self.budget.speed_holds(point) and self._is_small(point) else None

    def _most(self) -> Point | None:
        """The most layers with which it is still fast enough."""
        if not self.budget.speed_holds(self.at(0)):
            return None
        low, high = 0, 1
        while high < len(self.order) and self.budget.speed_holds(self.at(high)):
            low, high = high, 2 * high
        high = min(high, len(self.order))
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (middle, high) if self.budget.speed_holds(self.at(middle)) else (low, middle)
        return self.at(low)

    def _more_points(self) -> None:
        """Points that show the trade-off, besides those that were needed."""
        self.trials.point((), "none kept")
        self.at(0)
        for part in (8, 4, 2):
            if len(self.trials.points) < FEW_POINTS:
                self.at(max(1, len(self.order) // part))

    def _nearest(self, points: tuple[Point, ...]) -> Point:
        """Of the candidates that are not float for the most part the one that is fast enough and loses least, or else
        the fastest."""
        points = tuple(filter(self._is_small, points)) or points
        fast = [point for point in points if self.budget.speed_holds(point)]
        if fast:
            return max(fast, key=lambda point: (point.agreement.value, -point.error))
        return max(points, key=lambda point: point.speed.value if point.speed else 0.0)
