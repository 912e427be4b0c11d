"""ATen's recurrent layers: one operator a layer of the stack."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import Site, aten
from zygal.sources.recipes.recurrent import INPUT_FORGET_CELL_OUTPUT, RESET_UPDATE_HIDDEN, sorted_gates

GATES = {"LSTM": INPUT_FORGET_CELL_OUTPUT, "GRU": RESET_UPDATE_HIDDEN, "RNN": (0,)}


@aten("lstm.input", "gru.input", "rnn_tanh.input", "rnn_relu.input")
def recurrent(site: Site):
    kind = site.target.split(".")[-2]
    operator = {"lstm": "LSTM", "gru": "GRU"}.get(kind, "RNN")
    attributes = {"LSTM": {}, "GRU": {"linear_before_reset": 1}}.get(operator)
    directions = 2 if site.plain("bidirectional") else 1
    if attributes is None:
        attributes = {"activations": ["Relu" if "relu" in kind else "Tanh"] * directions}
    if directions == 2:
        attributes["direction"] = "bidirectional"
    x, firsts = site.tensor("input"), site.tensors("hx") if operator == "LSTM" else [site.tensor("hx")]
    if site.plain("batch_first"):
        x = site.step("Transpose", x, perm=[1, 0, 2])
    weights = [site.array(each) for each in site.tensors("params")]
    each = 4 if site.plain("has_biases") else 2
    if len(weights) != each * directions * site.plain("num_layers") or any(w is None for w in weights):
        site.refuse("projects its states, or has weights that depend on the image, which is not supported")
    lasts: list[list[str]] = [[] for _ in firsts]
    for layer in range(site.plain("num_layers")):
        own = [weights[each * (layer * directions + d) :][:each] for d in range(directions)]
        constants = _constants(site, operator, own, layer)
        span = {"starts": [layer * directions], "ends": [(layer + 1) * directions], "axes": [0]}
        starts = [site.step("Slice", first, **span) for first in firsts]
        hidden = own[0][1].shape[1]
        x, *states = site.several(
            operator, x, *constants, "", *starts, count=1 + len(firsts), hidden_size=hidden, **attributes
        )
        # [steps, directions, N, hidden] -> [steps, N, directions * hidden]
        turned = site.step("Transpose", x, perm=[0, 2, 1, 3])
        shape = site.type_of(turned).shape
        x = site.reshaped(turned, [shape[0], shape[1], directions * hidden])
        for index, state in enumerate(states):
            lasts[index].append(state)
    if site.plain("batch_first"):
        x = site.step("Transpose", x, perm=[1, 0, 2])
    return x, *(site.step("Concat", *states, axis=0) for states in lasts)


def _constants(site: Site, operator: str, own: list[list[np.ndarray]], layer: int) -> list[str]:
    """The weights of one layer in the standard's form: input, recurrent, and both biases in one."""
    order = GATES[operator]

    made = [np.stack([sorted_gates(direction[index], order, 0) for direction in own]) for index in (0, 1)]
    constants = [site.constant(array, f"{name}{layer}") for name, array in zip(("input", "recurrent"), made)]
    if len(own[0]) < 4:
        return [*constants, ""]
    biases = np.stack([np.concatenate([sorted_gates(d[2], order, 0), sorted_gates(d[3], order, 0)]) for d in own])
    return [*constants, site.constant(biases, f"bias{layer}")]
