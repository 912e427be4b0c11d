"""Recurrent layers, with the standard's own gates and activations."""

from __future__ import annotations

from zygal.graph.ops import operator_named
from zygal.sources.onnx.site import Made, OnnxSite, operator

_ACTIVATIONS = {"LSTM": ("Sigmoid", "Tanh", "Tanh"), "GRU": ("Sigmoid", "Tanh"), "RNN": ("Tanh",)}


@operator("LSTM", "GRU", "RNN")
def recurrent(site: OnnxSite) -> Made:
    """Sequences of one length, the steps first."""
    site.without("layout", 0)
    site.without("input_forget", 0)
    if site.attribute("clip") is not None or site.attribute("activation_alpha") or site.attribute("activation_beta"):
        site.refuse("limits its activations, which is not supported")
    site.without("output_sequence", 0)
    directions = 1 + (site.attribute("direction", "forward") == "bidirectional")
    wanted = list(_ACTIVATIONS[site.kind]) * directions
    activations = site.attribute("activations") or wanted
    rectified = site.kind == "RNN" and activations == ["Relu"] * directions
    if activations != wanted and not rectified:
        site.refuse(f"has the activations {', '.join(activations)}, which is not supported")
    more = {"activations": activations} if rectified else {}
    inputs = list(site.inputs)
    if site.given(4):
        steps = site.type_of(site.value(0)).shape[0]
        if set(site.known(4, "lengths").reshape(-1).tolist()) != {steps}:
            site.refuse("has sequences of several lengths")
        inputs[4] = ""
    hidden = site.attribute("hidden_size", site.type_of(site.value(2)).shape[-1])
    known = operator_named(site.kind)
    given = {"hidden_size": hidden, "direction": site.attribute("direction", "forward"), **more}
    if site.kind == "GRU":
        given["linear_before_reset"] = site.attribute("linear_before_reset", 0)
    while inputs and not inputs[-1]:
        inputs.pop()
    return site.several(site.kind, *inputs, count=known.results, **given)
