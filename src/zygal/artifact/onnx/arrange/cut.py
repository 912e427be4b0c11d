"""The cheapest way to give each of many items one of two labels: a minimum cut. Dinic, 1970; Kolmogorov and Zabih,
2004, for the costs that it fits."""

from __future__ import annotations

from collections import deque

LEFT, RIGHT = 0, 1
"""The two fixed items, which keep their labels 0 and 1."""


class Cut:
    """Items are numbers from `item()`, or LEFT and RIGHT. Costs are whole numbers."""

    def __init__(self) -> None:
        self._edges: list[list[int]] = [[], []]  # For each item the numbers of the arcs that leave it.
        self._ends: list[int] = []
        self._room: list[int] = []

    def item(self) -> int:
        """Adds a vertex and gives its number."""
        self._edges.append([])
        return len(self._edges) - 1

    def prefer(self, item: int, costs: tuple[int, int]) -> None:
        """What each of the two labels costs for one item."""
        self._arc(LEFT, item, costs[1])
        self._arc(item, RIGHT, costs[0])

    def together(self, items: list[int], cost: int) -> None:
        """What it costs, once, if not all of these items have the same label."""
        items = list(dict.fromkeys(items))
        if len(items) < 2 or not cost:
            return
        if len(items) == 2:
            self._arc(items[0], items[1], cost)
            self._arc(items[1], items[0], cost)
            return
        # One helper is on the left if any item is, the other on the right if any is; the cost is between the two.
        first, second = self.item(), self.item()
        for each in items:
            self._arc(each, first, _ENDLESS)
            self._arc(second, each, _ENDLESS)
        self._arc(first, second, cost)

    def labels(self) -> list[int]:
        """The label of every item, of least total cost."""
        while (depth := self._depths())[RIGHT] >= 0:
            following = [0] * len(self._edges)
            while self._push(depth, following):
                pass
        return [LEFT if each >= 0 else RIGHT for each in depth]

    def _arc(self, start: int, end: int, room: int) -> None:
        for item, other, most in ((start, end, room), (end, start, 0)):
            self._edges[item].append(len(self._ends))
            self._ends.append(other)
            self._room.append(most)

    def _depths(self) -> list[int]:
        """How many arcs with room lead from LEFT to each item; -1 where none do."""
        depth = [-1] * len(self._edges)
        depth[LEFT], waiting = 0, deque([LEFT])
        while waiting:
            item = waiting.popleft()
            for arc in self._edges[item]:
                if self._room[arc] and depth[self._ends[arc]] < 0:
                    depth[self._ends[arc]] = depth[item] + 1
                    waiting.append(self._ends[arc])
        return depth

    def _push(self, depth: list[int], following: list[int]) -> int:
        """Sends as much as one shortest path from LEFT to RIGHT takes, and says how much that was."""
        path, item = [], LEFT
        while item != RIGHT:
            while following[item] < len(self._edges[item]):
                arc = self._edges[item][following[item]]
                if self._room[arc] and depth[self._ends[arc]] == depth[item] + 1:
                    break
                following[item] += 1
            else:
                if not path:
                    return 0
                item = self._ends[path.pop() ^ 1]
                following[item] += 1
                continue
            path.append(arc)
            item = self._ends[arc]
        least = min(self._room[arc] for arc in path)
        for arc in path:
            self._room[arc] -= least
            self._room[arc ^ 1] += least
        return least


_ENDLESS = 1 << 60
