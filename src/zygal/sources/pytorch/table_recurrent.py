"""ATen's recurrent layers: one operator a layer of the stack."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import Site, aten

GATES = {"LSTM": (0, 3, 1, 2), "GRU": (1, 0, 2), "RNN": (0,)}
"""The framework's gates in the order in which the standard has them."""


@aten("lstm.input", "gru.input", "rnn_tanh.input", "rnn_relu.input")
def recurrent(call: Site):
    kind = call.call.target.split(".")[-2]
    operator = {"lstm": "LSTM", "gru": "GRU"}.get(kind, "RNN")
    attributes = {"LSTM": {}, "GRU": {"linear_before_reset": 1}}.get(operator)
    directions = 2 if call.plain("bidirectional") else 1
    if attributes is None:
        attributes = {"activations": ["Relu" if "relu" in kind else "Tanh"] * directions}
    if directions == 2:
        attributes["direction"] = "bidirectional"
    x, firsts = call.tensor("input"), call.tensors("hx") if operator == "LSTM" else [call.tensor("hx")]
    if call.plain("batch_first"):
        x = call.step("Transpose", x, perm=[1, 0, 2])
    weights = [call.array(each) for each in call.tensors("params")]
    each = 4 if call.plain("has_biases") else 2
    if len(weights) != each * directions * call.plain("num_layers") or any(w is None for w in weights):
        call.refuse("projects its states, or has weights that depend on the image, which is not supported")
    lasts: list[list[str]] = [[] for _ in firsts]
    for layer in range(call.plain("num_layers")):
        own = [weights[each * (layer * directions + d) :][:each] for d in range(directions)]
        constants = _constants(call, operator, own, layer)
        span = {"starts": [layer * directions], "ends": [(layer + 1) * directions], "axes": [0]}
        starts = [call.step("Slice", first, **span) for first in firsts]
        hidden = own[0][1].shape[1]
        x, *states = call.results(operator, x, *constants, "", *starts, count=1 + len(firsts), hidden_size=hidden,
                                  **attributes)  # fmt: skip
        # [steps, directions, N, hidden] -> [steps, N, directions * hidden]
        turned = call.step("Transpose", x, perm=[0, 2, 1, 3])
        shape = call.type_of(turned).shape
        x = call.reshaped(turned, [shape[0], shape[1], directions * hidden], final=False)
        for place, state in enumerate(states):
            lasts[place].append(state)
    if call.plain("batch_first"):
        x = call.step("Transpose", x, perm=[1, 0, 2])
    return x, *(call.step("Concat", *states, axis=0) for states in lasts)


def _constants(call: Site, operator: str, own: list[list[np.ndarray]], layer: int) -> list[str]:
    """The weights of one layer in the standard's form: input, recurrent, and both biases in one."""
    order = GATES[operator]

    def sorted_gates(array: np.ndarray) -> np.ndarray:
        return np.concatenate([np.split(array, len(order))[gate] for gate in order])

    made = [np.stack([sorted_gates(direction[place]) for direction in own]) for place in (0, 1)]
    constants = [call.constant(array, f"{name}{layer}") for name, array in zip(("input", "recurrent"), made)]
    if len(own[0]) < 4:
        return [*constants, ""]
    biases = np.stack([np.concatenate([sorted_gates(d[2]), sorted_gates(d[3])]) for d in own])
    return [*constants, call.constant(biases, f"bias{layer}")]
