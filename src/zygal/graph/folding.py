"""What is computed before an artifact is written, within one budget: a small file must not ask for gigabytes or for
ever."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from math import prod
from typing import Any

import numpy as np

from zygal.errors import GraphError
from zygal.graph.ops import operator_named
from zygal.graph.shapes import TensorType, is_open

FREE_BYTES, BYTES_FOR_EACH = 128_000_000, 8
"""What may be made of nothing, and for each byte of constants that a file really holds."""
MOST_STEPS = 1_000_000


@dataclass
class Budget:
    """Bytes and steps that are left. Asked before memory is taken."""

    bytes_left: int = FREE_BYTES
    steps_left: int = MOST_STEPS

    def grant(self, array: np.ndarray) -> None:
        """Constants that lie in a file earn what is made of them; one number that is repeated earns nothing."""
        if array.size < 2 or 0 not in array.strides:
            self.bytes_left += BYTES_FOR_EACH * array.nbytes

    def take(self, size_bytes: int, steps: int = 1) -> None:
        """Raises GraphError where it is not there."""
        self.bytes_left -= size_bytes
        self.steps_left -= steps
        if self.bytes_left < 0 or self.steps_left < 0:
            raise GraphError(
                "what the file computes from constants alone is out of proportion to the file, so it is damaged "
                "or made to exhaust memory."
            )


def folded(
    operator: str, arrays: Sequence[np.ndarray | None], attributes: Mapping[str, Any], budget: Budget
) -> list[np.ndarray]:
    """The results of an operator on constants. Raises GraphError where they do not fit it, or where the budget does not
    reach."""
    known = operator_named(operator)
    types = [None if each is None else TensorType(each.dtype, each.shape) for each in arrays]
    complete = known.complete(attributes)
    try:
        known.check_dtypes(types)
        made = known.infer(types, complete)
        budget.take(sum(0 if is_open(each.shape) else prod(each.shape) * each.dtype.itemsize for each in made))
        return [np.asarray(each) for each in known.compute(arrays, complete)]
    except (ValueError, IndexError, TypeError, ArithmeticError, AttributeError) as fault:
        raise GraphError(f"{operator} cannot be computed on constants: {fault}.") from fault
