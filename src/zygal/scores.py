"""What the scores of a classifier are: by the operator that makes them, or by their values."""

from __future__ import annotations

import numpy as np

_BY_OPERATOR = {"softmax": "probabilities", "sigmoid": "independent probabilities", "logsoftmax": "log-probabilities"}


def scores_by_operator(name: str) -> str:
    """What the operator of that name, in whatever spelling, makes of logits; "logits" if it is none of these."""
    return _BY_OPERATOR.get(name.lower().replace("_", ""), "logits")


def recorded_scores_kind(scores: np.ndarray) -> str:
    """What recorded scores [N, classes] look like, by their values."""
    if scores.min() >= 0 and scores.max() <= 1 + 1e-5:
        sums = scores.sum(axis=1)
        return "probabilities" if np.allclose(sums, 1, atol=1e-3) else "independent probabilities"
    if scores.max() <= 1e-5 and np.allclose(np.exp(scores.astype(np.float64)).sum(axis=1), 1, atol=1e-3):
        return "log-probabilities"
    return "logits"
