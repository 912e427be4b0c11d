"""ATen operators that work element by element, and those that do nothing at inference."""

from __future__ import annotations

from math import inf, log, pi, sqrt

import numpy as np

from zygal.sources.pytorch.calls import Site, aten


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
for _name in ("Ceil", "Floor", "Round", "Sign", "Sin", "Cos", "Log"):
    _unary(_name, f"{_name.lower()}.default")
_unary("Not", "logical_not.default", "bitwise_not.default")
_unary("Identity", "contiguous.default", "clone.default", "detach.default", "detach_.default", "alias.default",
       "lift_fresh_copy.default", "positive.default")  # fmt: skip


@aten("dropout.default", "feature_dropout.default", "alpha_dropout.default", "feature_alpha_dropout.default")
def dropout(call: Site):
    if call.plain("train") and call.plain("p"):
        call.note("the model was captured in training mode; it was converted to what it does at inference")
    return call.result("Identity", call.tensor("input"))


@aten("bernoulli.p", "bernoulli.float")
def bernoulli(call: Site):
    """Random choices stand for their probability at inference, so that what was divided by it is whole again."""
    call.note("the model was captured in training mode; it was converted to what it does at inference")
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
    """x * Phi(x), Hendrycks and Gimpel 2016; "tanh" is the paper's approximation of it."""
    x = call.tensor("self")
    if call.plain("approximate", "none") == "tanh":
        cube = call.step("Mul", call.step("Mul", x, x), x)
        inner = call.step("Add", x, call.step("Mul", cube, call.number(0.044715, x)))
        bent = call.step("Tanh", call.step("Mul", inner, call.number(sqrt(2 / pi), x)))
    else:
        bent = call.step("Erf", call.step("Div", x, call.number(sqrt(2), x)))
    half = call.step("Mul", x, call.number(0.5, x))
    return call.result("Mul", half, call.step("Add", bent, call.number(1.0, x)))


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
    if call.plain("scale", 1) != 1 or call.plain("input_scale", 1) != 1:
        call.refuse("scales its exponential unit, which is not supported")
    return call.result("Elu", call.tensor("self"), alpha=float(call.plain("alpha", 1)))


@aten("celu.default")
def celu(call: Site):
    """alpha * elu(x / alpha) for negative x, which is what elu with that alpha makes of x / alpha; Barron, 2017."""
    x, alpha = call.tensor("self"), float(call.plain("alpha", 1))
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
        call.refuse("turns into a line so early that its bend is cut off, which is not supported")
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
    above = call.step("Greater", x, call.number(call.plain("threshold"), x))
    return call.result("Where", above, x, call.number(call.plain("value"), x))


@aten("glu.default")
def glu(call: Site):
    """The first half along an axis, times the sigmoid of the second; Dauphin et al., 2016."""
    x = call.tensor("self")
    axis = call.plain("dim", -1) % call.type_of(x).rank
    half = call.type_of(x).shape[axis] // 2
    first = call.step("Slice", x, starts=[0], ends=[half], axes=[axis])
    second = call.step("Slice", x, starts=[half], ends=[2 * half], axes=[axis])
    return call.result("Mul", first, call.step("Sigmoid", second))


@aten("rsqrt.default")
def reciprocal_root(call: Site):
    return call.result("Reciprocal", call.step("Sqrt", call.tensor("self")))


@aten("tan.default")
def tangent(call: Site):
    x = call.tensor("self")
    return call.result("Div", call.step("Sin", x), call.step("Cos", x))


def _logarithm(name: str, base: float) -> None:
    def logarithm(call: Site):
        x = call.tensor("self")
        return call.result("Mul", call.step("Log", x), call.number(1 / log(base), x))

    aten(name)(logarithm)


_logarithm("log2.default", 2)
_logarithm("log10.default", 10)


@aten("trunc.default", "fix.default")
def truncate(call: Site):
    x = call.tensor("self")
    return call.result("Mul", call.step("Sign", x), call.step("Floor", call.step("Abs", x)))


@aten("frac.default")
def fraction(call: Site):
    return call.result("Sub", call.tensor("self"), truncate(call))


@aten("logit.default")
def logit(call: Site):
    x, margin = call.tensor("self"), call.plain("eps")
    if margin is not None:
        x = call.step("Clip", x, min=float(margin), max=1 - float(margin))
    return call.result("Log", call.step("Div", x, call.step("Sub", call.number(1, x), x)))


@aten("fmod.Scalar", "fmod.Tensor")
def remainder_of_dividend(call: Site):
    return call.result("Mod", *operands(call), fmod=1)


@aten("square.default")
def square(call: Site):
    x = call.tensor("self")
    return call.result("Mul", x, x)


@aten("expm1.default")
def exponential_minus_one(call: Site):
    x = call.tensor("self")
    return call.result("Sub", call.step("Exp", x), call.number(1, x))


@aten("log1p.default")
def log_one_plus(call: Site):
    x = call.tensor("self")
    return call.result("Log", call.step("Add", x, call.number(1, x)))


@aten("relu6.default")
def relu6(call: Site):
    return call.result("Clip", call.tensor("self"), min=0.0, max=6.0)


@aten("hardtanh.default")
def hardtanh(call: Site):
    lower, upper = call.plain("min_val", -1), call.plain("max_val", 1)
    return call.result("Clip", call.tensor("self"), min=float(lower), max=float(upper))


@aten("clamp.default", "clamp_min.default", "clamp_max.default", "clip.default")
def clamp(call: Site):
    limits = {name: call.plain(name) for name in ("min", "max")}
    given = {name: float(value) for name, value in limits.items() if value is not None and abs(value) != inf}
    return call.result("Clip", call.tensor("self"), **given)


@aten("clamp.Tensor", "clamp_min.Tensor", "clamp_max.Tensor")
def clamp_by_tensors(call: Site):
    x = call.tensor("self")
    if call.has("min"):
        x = (call.step if call.has("max") else call.result)("Max", x, call.tensor("min"))
    return call.result("Min", x, call.tensor("max")) if call.has("max") else x


@aten("softmax.int", "_softmax.default")
def softmax(call: Site):
    return call.result("Softmax", call.tensor("self"), axis=call.plain("dim"))


@aten("log_softmax.int", "_log_softmax.default")
def log_softmax(call: Site):
    return call.result("LogSoftmax", call.tensor("self"), axis=call.plain("dim"))


def together(call: Site, left: str, right: str) -> tuple[str, str]:
    """Both operands in the dtype that the framework computes in: truth < integers < fractions."""
    types = [call.type_of(value).dtype for value in (left, right)]
    if types[0] == types[1]:
        return left, right
    target = np.dtype(np.float32) if "f" in (types[0].kind, types[1].kind) else np.promote_types(*types)
    left, right = (
        value if dtype == target else call.step("Cast", value, to=target.name)
        for value, dtype in zip((left, right), types)
    )
    return left, right


def operands(call: Site) -> tuple[str, str]:
    """The arguments self and other, of which either may be a plain number, in one dtype."""
    if call.is_tensor("self"):
        left = call.tensor("self")
        if not call.is_tensor("other"):
            left = _wide_enough(call, left, call.plain("other"))
            return left, call.number(call.plain("other"), left)
        return together(call, left, call.tensor("other"))
    right = _wide_enough(call, call.tensor("other"), call.plain("self"))
    return call.number(call.plain("self"), right), right


def _wide_enough(call: Site, value: str, number: float) -> str:
    """The value in a dtype that can hold the plain number it meets: truth meets integers, integers meet fractions."""
    kind = call.type_of(value).dtype.kind
    if isinstance(number, float) and kind != "f":
        return call.step("Cast", value, to="float32")
    if not isinstance(number, bool) and kind == "b":
        return call.step("Cast", value, to="int64")
    return value


def _arithmetic(operator: str, *names: str) -> None:
    def arithmetic(call: Site):
        left, right = operands(call)
        if call.plain("alpha", 1) != 1:
            right = call.step("Mul", right, call.number(call.plain("alpha"), right))
        return call.result(operator, left, right)

    aten(*names)(arithmetic)


_arithmetic("Add", "add.Tensor", "add.Scalar")
_arithmetic("Sub", "sub.Tensor", "sub.Scalar", "subtract.Tensor", "subtract.Scalar")
_arithmetic("Mul", "mul.Tensor", "mul.Scalar", "multiply.Tensor", "multiply.Scalar")
_arithmetic("Max", "maximum.default", "max.other")
_arithmetic("Min", "minimum.default", "min.other")
_arithmetic("Equal", "eq.Tensor", "eq.Scalar")
_arithmetic("Less", "lt.Tensor", "lt.Scalar")
_arithmetic("Greater", "gt.Tensor", "gt.Scalar")
_arithmetic("LessOrEqual", "le.Tensor", "le.Scalar")
_arithmetic("GreaterOrEqual", "ge.Tensor", "ge.Scalar")


@aten("remainder.Scalar", "remainder.Tensor")
def remainder(call: Site):
    """With the sign of the divisor; the standard's operator has that for integers alone."""
    left, right = operands(call)
    if call.type_of(left).dtype.kind != "f":
        return call.result("Mod", left, right)
    whole = call.step("Floor", call.step("Div", left, right))
    return call.result("Sub", left, call.step("Mul", whole, right))


@aten("ne.Tensor", "ne.Scalar")
def differs(call: Site):
    return call.result("Not", call.step("Equal", *operands(call)))


def _logical(operator: str, *names: str) -> None:
    def logical(call: Site):
        both = [call.tensor("self"), call.tensor("other")]
        both = [v if call.type_of(v).dtype == bool else call.step("Cast", v, to="bool") for v in both]
        return call.result(operator, *both)

    aten(*names)(logical)


_logical("And", "logical_and.default", "bitwise_and.Tensor", "__and__.Tensor")
_logical("Or", "logical_or.default", "bitwise_or.Tensor", "__or__.Tensor")
_logical("Xor", "logical_xor.default", "bitwise_xor.Tensor")


@aten("div.Tensor", "div.Scalar", "true_divide.Tensor", "divide.Tensor")
def divide(call: Site):
    left, right = operands(call)
    if call.type_of(left).dtype.kind != "f":
        left, right = (call.step("Cast", value, to="float32") for value in (left, right))
    return call.result("Div", left, right)


@aten("div.Tensor_mode", "div.Scalar_mode", "floor_divide.default", "floor_divide.Scalar")
def divide_rounded(call: Site):
    mode = call.plain("rounding_mode", "floor" if "floor" in call.call.target else None)
    left, right = operands(call)
    if mode is None:
        return call.result("Div", left, right)
    whole = call.type_of(left).dtype.kind != "f"
    if whole:
        left, right = (call.step("Cast", value, to="float64") for value in (left, right))
    quotient = call.step("Div", left, right)
    if mode == "floor":
        rounded = call.step("Floor", quotient)
    else:
        rounded = call.step("Mul", call.step("Sign", quotient), call.step("Floor", call.step("Abs", quotient)))
    wanted = "int64" if whole else call.type_of(left).dtype.name
    return call.result("Cast", rounded, to=wanted)


@aten("rsub.Scalar", "rsub.Tensor")
def reverse_subtract(call: Site):
    left, right = operands(call)
    if call.plain("alpha", 1) != 1:
        left = call.step("Mul", left, call.number(call.plain("alpha"), left))
    return call.result("Sub", right, left)


@aten("pow.Tensor_Scalar")
def power(call: Site):
    x, exponent = call.tensor("self"), call.plain("exponent")
    if exponent == 2:
        return call.result("Mul", x, x)
    if exponent == 0.5:
        return call.result("Sqrt", x)
    return call.result("Pow", x, call.number(exponent, x))


@aten("pow.Tensor_Tensor")
def power_by_tensor(call: Site):
    return call.result("Pow", *together(call, call.tensor("self"), call.tensor("exponent")))


@aten("pow.Scalar")
def power_of_number(call: Site):
    exponent = call.tensor("exponent")
    return call.result("Pow", call.number(call.plain("self"), exponent), exponent)


@aten("where.self", "where.ScalarOther", "where.ScalarSelf", "where.Scalar")
def where(call: Site):
    condition = call.tensor("condition")
    if call.is_tensor("self") or call.is_tensor("other"):
        return call.result("Where", condition, *operands(call))
    fractions = any(isinstance(call.plain(name), float) for name in ("self", "other"))
    numbers = [np.array(call.plain(name), np.float32 if fractions else np.int64) for name in ("self", "other")]
    return call.result("Where", condition, *(call.constant(number, "number") for number in numbers))


@aten("masked_fill.Scalar", "masked_fill.Tensor")
def masked_fill(call: Site):
    x = call.tensor("self")
    filling = call.tensor("value") if call.is_tensor("value") else call.number(call.plain("value"), x)
    return call.result("Where", call.tensor("mask"), filling, x)


@aten("lerp.Scalar", "lerp.Tensor")
def interpolate_linearly(call: Site):
    start, end = call.tensor("self"), call.tensor("end")
    weight = call.tensor("weight") if call.is_tensor("weight") else call.number(call.plain("weight"), start)
    return call.result("Add", start, call.step("Mul", weight, call.step("Sub", end, start)))


@aten("addcmul.default")
def add_product(call: Site):
    product = call.step("Mul", call.tensor("tensor1"), call.tensor("tensor2"))
    return call.result(
        "Add", call.tensor("self"), call.step("Mul", product, call.number(call.plain("value", 1), product))
    )
