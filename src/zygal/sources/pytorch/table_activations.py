"""ATen activations, element by element, and the operators that do nothing at inference."""

from __future__ import annotations

import numpy as np

from zygal.sources.pytorch.calls import IN_TRAINING, Site, aten
from zygal.sources.pytorch.table_creation import in_dtype


def _unary(operator: str, *names: str) -> None:
    aten(*names)(lambda call: call.result(operator, call.tensor("self")))


_unary("Relu", "relu.default")
_unary("Sigmoid", "sigmoid.default")
_unary("Tanh", "tanh.default")
_unary("HardSwish", "hardswish.default")
_unary("Exp", "exp.default")
_unary("Sqrt", "sqrt.default")
_unary("Abs", "abs.default")
_unary("Neg", "neg.default")
_unary("Erf", "erf.default")
_unary("Reciprocal", "reciprocal.default")
for _name in ("Ceil", "Floor", "Round", "Sin", "Cos", "Log"):
    _unary(_name, f"{_name.lower()}.default")
_unary("Not", "logical_not.default", "bitwise_not.default")
_unary("Identity", "contiguous.default", "clone.default", "detach.default", "detach_.default", "alias.default",
       "lift_fresh_copy.default", "positive.default")  # fmt: skip


@aten("sign.default")
def sign(call: Site):
    """0 of what is not a number, as in the framework."""
    x = call.tensor("self")
    made = call.step("Sign", x)
    if call.type_of(x).dtype.kind != "f":
        return made
    return call.result("Where", call.step("IsNaN", x), call.number(0.0, x), made)


@aten("dropout.default", "feature_dropout.default", "alpha_dropout.default", "feature_alpha_dropout.default")
def dropout(call: Site):
    if call.plain("train") and call.plain("p"):
        call.note(IN_TRAINING)
    # What writes in place calls its tensor by another name.
    return call.result("Identity", call.tensor("self" if call.has("self") else "input"))


@aten("bernoulli.p", "bernoulli.float")
def bernoulli(call: Site):
    """Random choices stand for their probability at inference, so that what was divided by it is whole again."""
    call.note(IN_TRAINING)
    x = call.tensor("self")
    sizes = call.type_of(x).shape
    chance = call.constant(np.full((1,) * len(sizes), call.plain("p", 0.5), call.type_of(x).dtype), "chance")
    return call.expanded(chance, sizes)


@aten("hardsigmoid.default")
def hardsigmoid(call: Site):
    return call.result("HardSigmoid", call.tensor("self"), alpha=1 / 6, beta=0.5)


@aten("silu.default")
def silu(call: Site):
    x = call.tensor("self")
    return call.result("Mul", x, call.step("Sigmoid", x))


@aten("mish.default")
def mish(call: Site):
    x = call.tensor("self")
    return call.result("Mul", x, call.step("Tanh", call.step("Softplus", x)))


@aten("gelu.default")
def gelu(call: Site):
    return call.gelu(call.tensor("self"), call.plain("approximate", "none") == "tanh")


@aten("leaky_relu.default")
def leaky_relu(call: Site):
    return call.result("LeakyRelu", call.tensor("self"), alpha=float(call.plain("negative_slope", 0.01)))


@aten("rrelu.default")
def randomized_leaky_relu(call: Site):
    """At inference the slope is the middle of its range; Xu et al., 2015."""
    slope = (call.plain("lower", 1 / 8) + call.plain("upper", 1 / 3)) / 2
    return call.result("LeakyRelu", call.tensor("self"), alpha=float(slope))


@aten("elu.default")
def elu(call: Site):
    x, scale = call.tensor("self"), call.plain("scale", 1)
    if call.plain("input_scale", 1) != 1:
        call.refuse("scales what enters its exponential unit, which is not supported")
    made = call.result("Elu", x, alpha=float(call.plain("alpha", 1)))
    return made if scale == 1 else call.step("Mul", made, call.number(float(scale), x))


@aten("celu.default")
def celu(call: Site):
    """alpha * elu(x / alpha) for negative x, which is what elu with that alpha makes of x / alpha; Barron, 2017."""
    x, alpha = call.tensor("self"), float(call.plain("alpha", 1))
    if alpha <= 0:
        call.refuse(f"has the slope {alpha}, which must be above zero")
    scaled = call.step("Elu", call.step("Div", x, call.number(alpha, x)), alpha=1.0)
    return call.result("Mul", scaled, call.number(alpha, x))


@aten("selu.default")
def selu(call: Site):
    return call.result("Selu", call.tensor("self"))


@aten("prelu.default")
def prelu(call: Site):
    x, slope = call.tensor("self"), call.tensor("weight")
    rank = call.type_of(x).rank
    if call.type_of(slope).rank == 1 and rank > 2:
        slope = call.step("Reshape", slope, shape=[-1, *(1,) * (rank - 2)])
    return call.result("PRelu", x, slope)


@aten("softplus.default")
def softplus(call: Site):
    """log(1 + exp(beta x)) / beta; from the threshold on the framework takes x itself, which is the same in float32."""
    x, beta = call.tensor("self"), float(call.plain("beta", 1))
    if beta * call.plain("threshold", 20) < 15:
        scaled = call.step("Mul", x, call.number(beta, x))
        bent = call.step("Div", call.step("Softplus", scaled), call.number(beta, x))
        straight = call.step("Greater", scaled, call.number(float(call.plain("threshold")), x))
        return call.result("Where", straight, x, bent)
    if beta == 1:
        return call.result("Softplus", x)
    return call.result("Div", call.step("Softplus", call.step("Mul", x, call.number(beta, x))), call.number(beta, x))


@aten("log_sigmoid.default")
def log_sigmoid(call: Site):
    return call.result("Neg", call.step("Softplus", call.step("Neg", call.tensor("self"))))


@aten("softsign.default")
def softsign(call: Site):
    return call.result("Softsign", call.tensor("self"))


@aten("hardshrink.default")
def hardshrink(call: Site):
    x = call.tensor("self")
    inside = call.step("LessOrEqual", call.step("Abs", x), call.number(float(call.plain("lambd", 0.5)), x))
    return call.result("Where", inside, call.number(0.0, x), x)


@aten("softshrink.default")
def softshrink(call: Site):
    """x less its part within -lambda to lambda."""
    x, reach = call.tensor("self"), float(call.plain("lambd", 0.5))
    return call.result("Sub", x, call.step("Clip", x, min=-reach, max=reach))


@aten("threshold.default")
def threshold(call: Site):
    x = call.tensor("self")
    below = call.step("LessOrEqual", x, call.number(call.plain("threshold"), x))
    return call.result("Where", below, call.number(call.plain("value"), x), x)


@aten("glu.default")
def glu(call: Site):
    """The first half along an axis, times the sigmoid of the second; Dauphin et al., 2016."""
    x = call.tensor("self")
    axis = call.plain("dim", -1) % call.type_of(x).rank
    half = call.type_of(x).shape[axis] // 2
    first = call.step("Slice", x, starts=[0], ends=[half], axes=[axis])
    second = call.step("Slice", x, starts=[half], ends=[2 * half], axes=[axis])
    return call.result("Mul", first, call.step("Sigmoid", second))


@aten("relu6.default")
def relu6(call: Site):
    return call.result("Clip", call.tensor("self"), min=0.0, max=6.0)


@aten("hardtanh.default")
def hardtanh(call: Site):
    lower, upper = call.plain("min_val", -1), call.plain("max_val", 1)
    return call.result("Clip", call.tensor("self"), min=float(lower), max=float(upper))


@aten("softmax.int", "_softmax.default")
def softmax(call: Site):
    return call.result("Softmax", in_dtype(call, call.tensor("self")), axis=call.plain("dim"))


@aten("log_softmax.int", "_log_softmax.default")
def log_softmax(call: Site):
    return call.result("LogSoftmax", in_dtype(call, call.tensor("self")), axis=call.plain("dim"))
