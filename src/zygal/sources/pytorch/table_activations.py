"""ATen activations, element by element, and the operators that do nothing at inference."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import IN_TRAINING, Site, aten
from zygal.sources.pytorch.table_creation import in_dtype
from zygal.sources.recipes import activations
from zygal.sources.recipes.elementary import ELEMENTARY

for _row in ELEMENTARY:
    for _name in _row.pytorch.split():
        aten(f"{_name}.default")(lambda site, row=_row: row.apply(site, site.tensor("self")))


@aten(
    "contiguous.default",
    "clone.default",
    "detach.default",
    "detach_.default",
    "alias.default",
    "lift_fresh_copy.default",
    "positive.default",
)
def same(site: Site):
    return site.step("Identity", site.tensor("self"))


@aten("sign.default")
def sign(site: Site):
    """0 of what is not a number, as in the framework."""
    x = site.tensor("self")
    made = site.step("Sign", x)
    if site.type_of(x).dtype.kind != "f":
        return made
    return site.step("Where", site.step("IsNaN", x), site.number(0.0, x), made)


@aten("dropout.default", "feature_dropout.default", "alpha_dropout.default", "feature_alpha_dropout.default")
def dropout(site: Site):
    if site.plain("train") and site.plain("p"):
        site.note(IN_TRAINING)
    # What writes in place calls its tensor by another name.
    return site.step("Identity", site.tensor("self" if site.has("self") else "input"))


@aten("bernoulli.p", "bernoulli.float")
def bernoulli(site: Site):
    """Random choices stand for their probability at inference, so that what was divided by it is whole again."""
    site.note(IN_TRAINING)
    x = site.tensor("self")
    sizes = site.type_of(x).shape
    rng = site.constant(np.full((1,) * len(sizes), site.plain("p", 0.5), site.type_of(x).dtype), "chance")
    return site.expanded(rng, sizes)


@aten("hardsigmoid.default")
def hardsigmoid(site: Site):
    return activations.hard_sigmoid(site, site.tensor("self"))


@aten("silu.default")
def silu(site: Site):
    return activations.silu(site, site.tensor("self"))


@aten("mish.default")
def mish(site: Site):
    return activations.mish(site, site.tensor("self"))


@aten("gelu.default")
def gelu(site: Site):
    return activations.gelu(site, site.tensor("self"), site.plain("approximate", "none") == "tanh")


@aten("leaky_relu.default")
def leaky_relu(site: Site):
    return site.step("LeakyRelu", site.tensor("self"), alpha=float(site.plain("negative_slope", 0.01)))


@aten("rrelu.default")
def randomized_leaky_relu(site: Site):
    """At inference the slope is the middle of its range; Xu et al., 2015."""
    slope = (site.plain("lower", 1 / 8) + site.plain("upper", 1 / 3)) / 2
    return site.step("LeakyRelu", site.tensor("self"), alpha=float(slope))


@aten("elu.default")
def elu(site: Site):
    if site.plain("input_scale", 1) != 1:
        site.refuse("scales what enters its exponential unit, which is not supported")
    return activations.elu(site, site.tensor("self"), site.plain("alpha", 1), site.plain("scale", 1))


@aten("celu.default")
def celu(site: Site):
    return activations.celu(site, site.tensor("self"), float(site.plain("alpha", 1)))


@aten("selu.default")
def selu(site: Site):
    return site.step("Selu", site.tensor("self"))


@aten("prelu.default")
def prelu(site: Site):
    x, slope = site.tensor("self"), site.tensor("weight")
    rank = site.type_of(x).rank
    if site.type_of(slope).rank == 1 and rank > 2:
        slope = site.step("Reshape", slope, shape=[-1, *(1,) * (rank - 2)])
    return site.step("PRelu", x, slope)


@aten("softplus.default")
def softplus(site: Site):
    """From the threshold on the framework takes x itself, which is the same in float32 unless the threshold is low."""
    x, beta = site.tensor("self"), float(site.plain("beta", 1))
    made = activations.softplus(site, x, beta)
    if beta * site.plain("threshold", 20) >= 15:
        return made
    scaled = site.step("Mul", x, site.number(beta, x))
    straight = site.step("Greater", scaled, site.number(float(site.plain("threshold")), x))
    return site.step("Where", straight, x, made)


@aten("log_sigmoid.default")
def log_sigmoid(site: Site):
    return activations.log_sigmoid(site, site.tensor("self"))


@aten("hardshrink.default")
def hardshrink(site: Site):
    return activations.hard_shrink(site, site.tensor("self"), float(site.plain("lambd", 0.5)), keeps_nan=True)


@aten("softshrink.default")
def softshrink(site: Site):
    return activations.soft_shrink(site, site.tensor("self"), float(site.plain("lambd", 0.5)), keeps_nan=True)


@aten("threshold.default")
def threshold(site: Site):
    x = site.tensor("self")
    below = site.step("LessOrEqual", x, site.number(site.plain("threshold"), x))
    return site.step("Where", below, site.number(site.plain("value"), x), x)


@aten("glu.default")
def glu(site: Site):
    x = site.tensor("self")
    return activations.gated(site, x, site.plain("dim", -1) % site.type_of(x).rank)


@aten("relu6.default")
def relu6(site: Site):
    return site.step("Clip", site.tensor("self"), min=0.0, max=6.0)


@aten("hardtanh.default")
def hardtanh(site: Site):
    lower, upper = site.plain("min_val", -1), site.plain("max_val", 1)
    return site.step("Clip", site.tensor("self"), min=float(lower), max=float(upper))


@aten("softmax.int", "_softmax.default")
def softmax(site: Site):
    return site.step("Softmax", in_dtype(site, site.tensor("self")), axis=site.plain("dim"))


@aten("log_softmax.int", "_log_softmax.default")
def log_softmax(site: Site):
    return site.step("LogSoftmax", in_dtype(site, site.tensor("self")), axis=site.plain("dim"))
