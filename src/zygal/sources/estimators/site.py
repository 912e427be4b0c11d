"""What the families of estimators write with, and the table of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NoReturn

import numpy as np

from zygal.errors import SourceError
from zygal.graph import GraphBuilder
from zygal.sources.emitter import Emitter

Transform = Callable[["EstimatorSite", Any, str], str]
"""(site, fitted estimator, features [N, F]) to the new features."""
Classify = Callable[["EstimatorSite", Any, str], str]
"""The same, of features in float64, to scores [N, classes], or [N, 1] for the one decision value of two classes."""

TRANSFORMS: dict[str, Transform] = {}
PROBABILITIES: dict[str, Classify] = {}
DECISIONS: dict[str, Classify] = {}
"""What is known, by class name: `predict_proba` and `decision_function` of classifiers."""


def entered(table: dict[str, Callable], *names: str):
    """Enters a function into a table under class names."""

    def enter(function):
        table.update(dict.fromkeys(names, function))
        return function

    return enter


class EstimatorSite(Emitter):
    """One estimator while it is translated. Numbers are of the width in which scikit-learn computes: transformers keep
    float32, classifiers but for trees widen it."""

    def __init__(self, builder: GraphBuilder, estimator: Any):
        name = type(estimator).__name__
        super().__init__(builder, f"estimator/{name}", f"estimator/{name}")
        self.name = name

    def refuse(self, why: str) -> NoReturn:
        """Raises SourceError with the estimator's name."""
        raise SourceError(f"the estimator {self.name} {why}.")

    def doubles(self, array: Any, hint: str) -> str:
        """A constant of float64."""
        return self.constant(np.asarray(array, np.float64), hint)

    def cast(self, value: str, dtype: str) -> str:
        """A value in another dtype, if it has another."""
        return value if self.type_of(value).dtype == dtype else self.step("Cast", value, to=dtype)

    def in_place(self, operator: str, x: str, array: Any, hint: str) -> str:
        """x (operator) array as NumPy does it in place: in float64, with a result as wide as x."""
        made = self.step(operator, self.cast(x, "float64"), self.doubles(array, hint))
        return self.cast(made, self.type_of(x).dtype.name)

    def two_columns(self, share: str) -> str:
        """The probability [N, 1] of the second class as those of both."""
        return self.step("Concat", self.step("Sub", self.number(1.0, share), share), share, axis=1)

    def shares(self, counts: str) -> str:
        """Each row divided by its sum."""
        return self.step("Div", counts, self.step("ReduceSum", counts, axes=[1], keepdims=1))
