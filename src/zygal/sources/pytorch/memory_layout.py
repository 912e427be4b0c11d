"""Where the elements of a captured tensor lie in memory."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Layout:
    """Where a tensor's elements lay in memory when the program was captured, in elements. offset: None if it is not
    known."""

    sizes: tuple[int, ...]
    strides: tuple[int, ...]
    offset: int | None = 0

    def lies_like(self, other: Layout) -> bool:
        """Whether both have the same steps along every axis that has any."""
        return self.sizes == other.sizes and all(
            own_stride == other_stride
            for size, own_stride, other_stride in zip(self.sizes, self.strides, other.strides)
            if size > 1
        )

    def is_dense(self) -> bool:
        """Whether the elements lie one after the other in the order of the axes."""
        runs = self._runs()
        return len(runs) <= 1 and all(stride == 1 for _, stride in runs)

    def keeps_memory_as(self, sizes: tuple[int, ...]) -> bool:
        """Whether a reshape to `sizes` needs no copy: each run of axes that lie together is only split or merged."""
        left = [size for size, _ in self._runs()]
        for size in (size for size in sizes if size != 1):
            if not left or left[0] % size:
                return False
            left[0] //= size
            if left[0] == 1:
                left.pop(0)
        return not left

    def _runs(self) -> list[tuple[int, int]]:
        """Neighbouring axes that could be merged into one, merged: pairs of size and stride."""
        runs: list[tuple[int, int]] = []
        for size, stride in zip(self.sizes, self.strides):
            if size != 1:
                merged = bool(runs) and runs[-1][1] == size * stride
                runs[-1:] = [(runs[-1][0] * size, stride)] if merged else [*runs[-1:], (size, stride)]
        return runs
