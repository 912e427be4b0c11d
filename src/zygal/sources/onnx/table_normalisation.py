"""Normalisations. What training updates is not computed."""

from __future__ import annotations

from zygal.graph import Batch
from zygal.sources.onnx.site import Made, OnnxSite, operator
from zygal.sources.onnx.table_windows import length


@operator("BatchNormalization")
def batch_normalisation(site: OnnxSite) -> Made:
    """By stored statistics; of each element by its own where `spatial` is 0 (before opset 9)."""
    site.attribute("momentum")
    if site.attribute("training_mode", 0):
        site.refuse("takes statistics over the batch (training_mode); export the model in evaluation mode")
    inputs = [site.value(place) for place in range(5)]
    if site.attribute("spatial", 1):
        return site.alike(*inputs)
    x, scale, shift, mean, variance = inputs
    spread = site.step("Sqrt", site.step("Add", variance, site.number(site.attribute("epsilon", 1e-5), variance)))
    return site.step("Add", site.step("Mul", site.step("Div", site.step("Sub", x, mean), spread), scale), shift)


@operator("LayerNormalization")
def layer_normalisation(site: OnnxSite) -> Made:
    """Statistics in float32."""
    site.without("stash_type", 1)
    return site.alike(*site.inputs)


@operator("InstanceNormalization")
def instance_normalisation(site: OnnxSite) -> Made:
    """Over each channel of each image."""
    return site.alike(*site.inputs)


@operator("LpNormalization")
def unit_length(site: OnnxSite) -> Made:
    """Divided by the length along one axis."""
    x, axis = site.value(0), site.axis(-1)
    if isinstance(site.type_of(x).shape[axis], Batch):
        site.refuse("takes the images of a batch together")
    divisor = length(site, x, site.attribute("p", 2), [axis])
    # What has no length stays as it is.
    nothing = site.step("Equal", divisor, site.number(0.0, x))
    return site.step("Div", x, site.step("Where", nothing, site.number(1.0, x), divisor))
