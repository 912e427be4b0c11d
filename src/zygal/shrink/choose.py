"""Which layers stay in float: those that do the most damage for the least time, until the budget holds."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from zygal.shrink.network import Network
from zygal.shrink.trial import Point, Trials

FLOAT_WIDTH = 4
"""A number in float32 is so many times as wide as one in 8 bits, so an operator that only moves numbers takes so many times as long."""
NOTHING_LOST = 0.05
"""The last layer is in 8 bits if its part of the squared damage is no larger than this."""


@dataclass(frozen=True)
class Budget:
    """What must hold; None of what is not asked for. agree: least share of images with the same answer. lose: largest loss of accuracy, a
    share. speed: how many times as fast at least."""

    agree: float | None = None
    lose: float | None = None
    speed: float | None = None

    def quality_holds(self, point: Point) -> bool:
        return (self.agree is None or point.agreement.value >= self.agree) and (self.lose is None or point.lost <= self.lose + 1e-12)

    def speed_holds(self, point: Point) -> bool:
        return self.speed is None or point.speed is not None and point.speed.value >= self.speed


@dataclass(frozen=True)
class Layer:
    """What a unit does and costs. damage: the score error of it alone in 8 bits. seconds, float_seconds: of a run."""

    result: str
    damage: float
    seconds: float
    float_seconds: float

    @property
    def saved(self) -> float:
        """Seconds that 8 bits save, at least a little."""
        return max(self.float_seconds - self.seconds, 1e-7)


def layers_of(network: Network, damages: Mapping[str, float], seconds: Mapping[str, float], float_seconds: Mapping[str, float]) -> list[Layer]:
    """The units, the one that is best given back to float first: the most damage for the least time."""
    found = []
    for result, unit in network.units.items():
        alone = float_seconds.get(result, 0.0)
        if unit.weight is None:
            # The runtime joins these to a convolution in float; between stored values they stand alone.
            alone = max(alone, FLOAT_WIDTH * seconds.get(result, 0.0))
        found.append(Layer(result, damages[result], seconds.get(result, 0.0), alone))
    # Damages add up as squares.
    return sorted(found, key=lambda layer: layer.damage**2 / layer.saved, reverse=True)


@dataclass(frozen=True)
class Choice:
    """final: the candidate that was taken, or None if none holds the budget; nearest: the one that comes nearest then. points: all that
    were tried, in the order of how many layers they keep. ends: the candidate that keeps the first and the last layer."""

    final: Point | None
    nearest: Point
    points: tuple[Point, ...]
    ends: Point | None


class Chooser:
    """Looks for the candidate that keeps the fewest layers in float and holds the budget."""

    def __init__(self, trials: Trials, layers: list[Layer], budget: Budget, progress: Callable[[str], None]):
        self.trials, self.budget, self.progress = trials, budget, progress
        self.network = trials.calibration.network
        self.base = self._base(layers)
        self.order = [layer.result for layer in layers if layer.result not in self.base]

    def _base(self, layers: list[Layer]) -> tuple[str, ...]:
        """What stays in float whatever the budget: the last layer, unless that loses nothing."""
        last = self.network.last
        damages = {layer.result: layer.damage for layer in layers}
        whole = sum(damage**2 for damage in damages.values())
        return (last.result,) if last is not None and damages[last.result] ** 2 > NOTHING_LOST * whole else ()

    def kept(self, count: int) -> tuple[str, ...]:
        return (*self.base, *self.order[:count])

    def at(self, count: int) -> Point:
        """The candidate that keeps the first so many layers of the order."""
        kept = self.kept(count)
        self.progress(f"trying {len(kept)} layers in float")
        return self.trials.point(kept, f"{len(kept)} kept" if kept else "none kept")

    def run(self) -> Choice:
        final = self._fewest() if self.budget.agree is not None or self.budget.lose is not None else self._most()
        self._more_points()
        first, last = next(iter(self.network.units)), self.network.last
        ends = None
        if last is not None and first != last.result:
            self.progress("trying the first and the last layer in float")
            ends = self.trials.point((first, last.result), "first and last kept")
        ladder = [point for point in self.trials.points.values() if point is not ends or point.name != "first and last kept"]
        points = tuple(sorted(ladder, key=lambda point: len(point.kept)))
        return Choice(final, final or self._nearest(points), points, ends)

    def _fewest(self) -> Point | None:
        """The fewest layers with which the quality holds; None if the speed does not hold then."""
        low, high = -1, 0
        while not self.budget.quality_holds(self.at(high)):
            if high >= len(self.order) - 1:
                return None
            low, high = high, min(2 * high or 1, len(self.order) - 1)
        while high - low > 1:
            middle = (low + high) // 2
            low, high = (low, middle) if self.budget.quality_holds(self.at(middle)) else (middle, high)
        point = self.at(high)
        return point if self.budget.speed_holds(point) else None

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
        self.at(0)
        for part in (16, 8, 4, 2):
            self.at(max(1, len(self.order) // part))

    def _nearest(self, points: tuple[Point, ...]) -> Point:
        """Of the candidates the one that is fast enough and loses least, or else the fastest."""
        fast = [point for point in points if self.budget.speed_holds(point)]
        if fast:
            return max(fast, key=lambda point: (point.agreement.value, -point.error))
        return max(points, key=lambda point: point.speed.value if point.speed else 0.0)
