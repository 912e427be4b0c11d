"""Recurrent layers: a sequence through cells that remember. x [steps, N, inputs], weights [directions, gates * hidden,
...]."""

from __future__ import annotations

from abc import abstractmethod
from typing import ClassVar

import numpy as np

from zygal.graph.ops.base import Operator, Parameter, register
from zygal.graph.shapes import TensorType


def _sigmoid(x):
    return 1 / (1 + np.exp(-x))


class Recurrent(Operator):
    """Inputs x, input weights, recurrent weights, biases (of both, one after the other), lengths, first states.

    Results are all outputs [steps, directions, N, hidden], then the last states [directions, N, hidden].
    """

    gates: ClassVar[int]
    states: ClassVar[int] = 1
    apart = frozenset((4,))
    results = 2
    parameters = (Parameter("hidden_size"), Parameter("direction", "forward"))

    def infer(self, inputs, attributes):
        x, weight, recurrent, bias = (*inputs, None)[:4]
        hidden, directions = attributes["hidden_size"], 1 + (attributes["direction"] == "bidirectional")
        if len(inputs) > 4 and inputs[4] is not None:
            raise ValueError("it has sequences of several lengths")
        if any(each is not None for each in inputs[5 + self.states :]):
            raise ValueError("it has peepholes, or more inputs than are known")
        if attributes["direction"] not in ("forward", "reverse", "bidirectional"):
            raise ValueError(f"it runs in the direction {attributes['direction']!r}")
        rows = self.gates * hidden
        shapes = (directions, rows, x.shape[2]), (directions, rows, hidden), (directions, 2 * rows)
        for given, wanted in zip((weight, recurrent, bias), shapes):
            if given is not None and given.shape != wanted:
                raise ValueError(f"its weights are {given.shape} instead of {wanted}")
        last = TensorType(x.dtype, (directions, x.shape[1], hidden))
        return [TensorType(x.dtype, (x.shape[0], *last.shape))] + [last] * self.states

    def compute(self, inputs, attributes):
        x, weight, recurrent, bias = (*inputs, None)[:4]
        hidden, firsts = attributes["hidden_size"], [*inputs[5:], *(None,) * 2][: self.states]
        outputs, lasts = [], []
        for direction in range(len(weight)):
            both = np.zeros(2 * self.gates * hidden, x.dtype) if bias is None else bias[direction]
            state = [np.zeros((x.shape[1], hidden), x.dtype) if f is None else f[direction] for f in firsts]
            made = np.empty((*x.shape[:2], hidden), x.dtype)
            order = range(len(x))[:: -1 if direction or attributes["direction"] == "reverse" else 1]
            for step in order:
                given = x[step] @ weight[direction].T + both[: self.gates * hidden]
                state = self.cell(given, state, recurrent[direction].T, both[self.gates * hidden :], attributes)
                made[step] = state[0]
            outputs.append(made)
            lasts.append(state)
        return [np.stack(outputs, 1), *(np.stack(each).astype(x.dtype) for each in zip(*lasts))]

    @abstractmethod
    def cell(self, given, state, recurrent, bias, attributes):
        """The next states from what the input gives to the gates."""


@register
class LSTM(Recurrent):
    """Hochreiter and Schmidhuber, 1997; gates in the order input, output, forget, cell."""

    name = "LSTM"
    gates, states, results = 4, 2, 3

    def cell(self, given, state, recurrent, bias, attributes):
        into, out, forget, cell = np.split(given + state[0] @ recurrent + bias, 4, axis=1)
        memory = _sigmoid(forget) * state[1] + _sigmoid(into) * np.tanh(cell)
        return [_sigmoid(out) * np.tanh(memory), memory]


@register
class GRU(Recurrent):
    """Cho et al., 2014; gates in the order update, reset, hidden. Reset before or after the product."""

    name = "GRU"
    gates = 3
    parameters = (*Recurrent.parameters, Parameter("linear_before_reset", 0))

    def cell(self, given, state, recurrent, bias, attributes):
        (last,) = state
        size = last.shape[1]
        both = given[:, : 2 * size] + last @ recurrent[:, : 2 * size] + bias[: 2 * size]
        update, reset = np.split(_sigmoid(both), 2, axis=1)
        if attributes["linear_before_reset"]:
            inner = reset * (last @ recurrent[:, 2 * size :] + bias[2 * size :])
        else:
            inner = (reset * last) @ recurrent[:, 2 * size :] + bias[2 * size :]
        return [(1 - update) * np.tanh(given[:, 2 * size :] + inner) + update * last]


@register
class RNN(Recurrent):
    """Elman, 1990; the activation is Tanh or Relu."""

    name = "RNN"
    gates = 1
    parameters = (*Recurrent.parameters, Parameter("activations", None))

    def infer(self, inputs, attributes):
        self._activations(attributes)
        return super().infer(inputs, attributes)

    @staticmethod
    def _activations(attributes):
        names = {name.lower() for name in attributes["activations"] or ["Tanh"]}
        if names - {"tanh", "relu"} or len(names) > 1:
            raise ValueError(f"it is activated by {', '.join(sorted(names))}")
        return names

    def cell(self, given, state, recurrent, bias, attributes):
        names = self._activations(attributes)
        total = given + state[0] @ recurrent + bias
        return [np.tanh(total) if "tanh" in names else np.maximum(total, 0)]
