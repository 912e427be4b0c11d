"""A network in its framework, and a fitted estimator of scikit-learn behind it, live."""

from __future__ import annotations

import warnings
from collections.abc import Callable
from typing import Any

import numpy as np

from zygal.engines.engine import LiveEngine
from zygal.errors import EngineError, first_line
from zygal.sources.estimators import score_method


class EstimatorEngine:
    """Scores [N, classes] by the estimator's own method; of a single decision value for two classes, [0, value]."""

    def __init__(self, network: LiveEngine, estimator: Any):
        import sklearn

        self._network, self._estimator = network, estimator
        self._method = getattr(estimator, score_method(estimator))
        self.name, self.version = f"{network.name} {network.version} and scikit-learn", sklearn.__version__
        self.path = network.path
        self.input_type, self.batch_size = network.input_type, network.batch_size
        self.chosen, self.output_names, self.ways = network.chosen, network.output_names, network.ways
        self.captured_in_training = network.captured_in_training

    def run(self, batch: np.ndarray) -> np.ndarray:
        """See `engine.Engine.run`."""
        features = self._network.run(batch)
        try:
            with warnings.catch_warnings():
                # Feature names that the fitted data had say nothing about the numbers.
                warnings.simplefilter("ignore", UserWarning)
                scores = np.asarray(self._method(features))
        except Exception as fault:  # Whatever the library raises, these features are not what it takes.
            raise EngineError(
                f"the estimator {type(self._estimator).__name__} does not take features {list(features.shape)} "
                f"({first_line(fault)})."
            ) from fault
        if scores.ndim == 1:
            scores = np.stack([np.zeros_like(scores), scores], axis=1)
        return scores.astype(np.float32)

    def prepared(self, batch: np.ndarray, way: str | None = None) -> Callable[[], object]:
        """The bare calls of both for a batch, for timing."""
        return lambda: self._method(self._network.run(batch))

    def use_threads(self, count: int) -> bool:
        """See `engine.LiveEngine.use_threads`."""
        return self._network.use_threads(count)

    def layer_outputs(self, batch: np.ndarray) -> list[tuple[str, str, np.ndarray]]:
        """The outputs of the layers of the network before the estimator."""
        return self._network.layer_outputs(batch)
