"""Operators that write elements into a copy of a tensor."""

from __future__ import annotations

import numpy as np

from zygal.graph.ops.base import ANYTHING, WIDE, Operator, Parameter, normal_axis, register

_REDUCTIONS = {"add": np.add, "mul": np.multiply, "max": np.maximum, "min": np.minimum}


@register
class ScatterElements(Operator):
    """A copy of the first operand; each update goes to the place along one axis that its index says.

    With a `reduction` the updates are added, multiplied, or compared with what is there.
    """

    name = "ScatterElements"
    apart = frozenset((1,))
    accepts = (ANYTHING, WIDE, ANYTHING)
    parameters = (Parameter("axis", 0), Parameter("reduction", "none"))

    def infer(self, inputs, attributes):
        x, indices, updates = inputs
        normal_axis(attributes["axis"], x.rank)
        if indices.shape != updates.shape or x.rank != indices.rank or x.dtype != updates.dtype:
            raise ValueError("the updates do not fit the indices")
        if attributes["reduction"] not in ("none", *_REDUCTIONS):
            raise ValueError(f"it reduces by {attributes['reduction']}")
        return [x]

    def compute(self, inputs, attributes):
        x, indices, updates = inputs
        made, axis = x.copy(), attributes["axis"] % x.ndim
        places = list(np.indices(indices.shape, sparse=True))
        places[axis] = np.where(indices < 0, indices + x.shape[axis], indices)
        if attributes["reduction"] == "none":
            made[tuple(places)] = updates
        else:
            _REDUCTIONS[attributes["reduction"]].at(made, tuple(places), updates)
        return [made]
