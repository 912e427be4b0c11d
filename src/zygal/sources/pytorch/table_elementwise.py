"""ATen operators that work element by element, and those that do nothing at inference."""

from __future__ import annotations

from math import inf, sqrt

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
_unary("Identity", "contiguous.default", "clone.default", "detach.default", "detach_.default", "alias.default",
       "lift_fresh_copy.default")  # fmt: skip


@aten("dropout.default", "feature_dropout.default", "alpha_dropout.default", "feature_alpha_dropout.default")
def dropout(call: Site):
    if call.plain("train") and call.plain("p"):
        call.refuse("drops values at random, so the model was captured in training mode; call .eval() before capturing")
    return call.result("Identity", call.tensor("input"))


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
        bent = call.step("Tanh", call.step("Mul", inner, call.number(sqrt(2 / 3.141592653589793), x)))
    else:
        bent = call.step("Erf", call.step("Div", x, call.number(sqrt(2), x)))
    half = call.step("Mul", x, call.number(0.5, x))
    return call.result("Mul", half, call.step("Add", bent, call.number(1.0, x)))


@aten("leaky_relu.default")
def leaky_relu(call: Site):
    return call.result("LeakyRelu", call.tensor("self"), alpha=float(call.plain("negative_slope", 0.01)))


@aten("elu.default")
def elu(call: Site):
    if call.plain("scale", 1) != 1 or call.plain("input_scale", 1) != 1:
        call.refuse("scales its exponential unit, which is not supported")
    return call.result("Elu", call.tensor("self"), alpha=float(call.plain("alpha", 1)))


@aten("relu6.default")
def relu6(call: Site):
    return call.result("Clip", call.tensor("self"), min=0.0, max=6.0)


@aten("hardtanh.default")
def hardtanh(call: Site):
    lower, upper = call.plain("min_val", -1), call.plain("max_val", 1)
    return call.result("Clip", call.tensor("self"), min=float(lower), max=float(upper))


@aten("clamp.default", "clamp_min.default", "clamp_max.default")
def clamp(call: Site):
    limits = {name: call.plain(name) for name in ("min", "max")}
    given = {name: float(value) for name, value in limits.items() if value is not None and abs(value) != inf}
    return call.result("Clip", call.tensor("self"), **given)


@aten("softmax.int", "_softmax.default")
def softmax(call: Site):
    return call.result("Softmax", call.tensor("self"), axis=call.plain("dim"))


@aten("log_softmax.int", "_log_softmax.default")
def log_softmax(call: Site):
    return call.result("LogSoftmax", call.tensor("self"), axis=call.plain("dim"))


def _arithmetic(operator: str, *names: str) -> None:
    def arithmetic(call: Site):
        left = call.tensor("self")
        right = call.operand("other", like=left)
        if call.plain("alpha", 1) != 1:
            right = call.step("Mul", right, call.number(call.plain("alpha"), right))
        return call.result(operator, left, right)

    aten(*names)(arithmetic)


_arithmetic("Add", "add.Tensor", "add.Scalar")
_arithmetic("Sub", "sub.Tensor", "sub.Scalar")
_arithmetic("Mul", "mul.Tensor", "mul.Scalar")


@aten("div.Tensor", "div.Scalar")
def divide(call: Site):
    left = call.tensor("self")
    if call.type_of(left).dtype.kind != "f":
        call.refuse("divides integers, which gives fractions")
    return call.result("Div", left, call.operand("other", like=left))


@aten("rsub.Scalar", "rsub.Tensor")
def reverse_subtract(call: Site):
    right = call.tensor("self")
    if call.plain("alpha", 1) != 1:
        call.refuse("scales what it subtracts, which is not supported")
    return call.result("Sub", call.operand("other", like=right), right)


@aten("pow.Tensor_Scalar")
def power(call: Site):
    x = call.tensor("self")
    return call.result("Pow", x, call.number(call.plain("exponent"), x))
