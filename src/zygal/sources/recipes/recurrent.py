"""Weights of recurrent layers in the order of gates that the standard has."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

INPUT_FORGET_CELL_OUTPUT = (0, 3, 1, 2)
"""Gates in this order, as those of the standard's LSTM: input, output, forget, cell."""
RESET_UPDATE_HIDDEN = (1, 0, 2)
"""Gates in this order, as those of the standard's GRU: update, reset, hidden."""


def sorted_gates(array: np.ndarray, order: Sequence[int], axis: int) -> np.ndarray:
    """The parts of an array, one for each gate along an axis, in another order."""
    parts = np.split(array, len(order), axis=axis)
    return np.concatenate([parts[gate] for gate in order], axis=axis)
