"""Activations that the graph has no operator for, element by element unless an axis is named."""

from __future__ import annotations

from math import pi, sqrt

from zygal.sources.emitter import Emitter


def clipped(emit: Emitter, x: str, low: float | None, high: float | None) -> str:
    """x kept from `low` to `high`; one of them alone is a maximum or a minimum, which lets infinity pass the other
    way."""
    if low is not None and high is not None:
        return emit.step("Clip", x, min=float(low), max=float(high))
    if low is not None:
        return emit.step("Max", x, emit.number(float(low), x))
    return x if high is None else emit.step("Min", x, emit.number(float(high), x))


def gelu(emit: Emitter, x: str, approximate: bool = False) -> str:
    """x Phi(x), Hendrycks and Gimpel 2016; the approximation by tanh is the paper's."""
    if approximate:
        cube = emit.step("Mul", emit.step("Mul", x, x), x)
        inner = emit.step("Add", x, emit.step("Mul", cube, emit.number(0.044715, x)))
        bent = emit.step("Tanh", emit.step("Mul", inner, emit.number(sqrt(2 / pi), x)))
    else:
        bent = emit.step("Erf", emit.step("Div", x, emit.number(sqrt(2), x)))
    half = emit.step("Mul", x, emit.number(0.5, x))
    return emit.step("Mul", half, emit.step("Add", bent, emit.number(1.0, x)))


def silu(emit: Emitter, x: str, beta: float = 1.0) -> str:
    """x sigmoid(beta x); Ramachandran et al., 2017."""
    scaled = x if beta == 1 else emit.step("Mul", x, emit.number(beta, x))
    return emit.step("Mul", x, emit.step("Sigmoid", scaled))


def mish(emit: Emitter, x: str) -> str:
    """x tanh(log(1 + exp(x))); Misra, 2019."""
    return emit.step("Mul", x, emit.step("Tanh", emit.step("Softplus", x)))


def hard_sigmoid(emit: Emitter, x: str, slope: float = 1 / 6) -> str:
    """clip(slope x + 1/2, 0, 1): with 1/6 it is relu6(x + 3) / 6."""
    return emit.step("HardSigmoid", x, alpha=slope, beta=0.5)


def elu(emit: Emitter, x: str, alpha: float = 1.0, scale: float = 1.0) -> str:
    """scale * elu(x, alpha)."""
    made = emit.step("Elu", x, alpha=float(alpha))
    return made if scale == 1 else emit.step("Mul", made, emit.number(float(scale), x))


def celu(emit: Emitter, x: str, alpha: float = 1.0) -> str:
    """alpha elu(x / alpha) for negative x, which is what elu with that alpha makes of x / alpha; Barron, 2017."""
    if alpha <= 0:
        emit.refuse(f"has the slope {alpha}, which must be above zero")
    scaled = emit.step("Elu", emit.step("Div", x, emit.number(float(alpha), x)), alpha=1.0)
    return emit.step("Mul", scaled, emit.number(float(alpha), x))


def softplus(emit: Emitter, x: str, beta: float = 1.0) -> str:
    """log(1 + exp(beta x)) / beta."""
    if beta == 1:
        return emit.step("Softplus", x)
    return emit.step("Div", emit.step("Softplus", emit.step("Mul", x, emit.number(beta, x))), emit.number(beta, x))


def log_sigmoid(emit: Emitter, x: str) -> str:
    """log(sigmoid(x)), without loss of digits."""
    return emit.step("Neg", emit.step("Softplus", emit.step("Neg", x)))


def hard_shrink(emit: Emitter, x: str, reach: float, keeps_nan: bool) -> str:
    """x outside of -reach to reach, 0 inside. keeps_nan: what is not a number stays so; else it is inside."""
    size, border = emit.step("Abs", x), emit.number(float(reach), x)
    if keeps_nan:
        return emit.step("Where", emit.step("LessOrEqual", size, border), emit.number(0.0, x), x)
    return emit.step("Where", emit.step("Greater", size, border), x, emit.number(0.0, x))


def soft_shrink(emit: Emitter, x: str, reach: float, keeps_nan: bool) -> str:
    """x less its part within -reach to reach. keeps_nan: see `hard_shrink`."""
    left = emit.step("Sub", x, emit.step("Clip", x, min=-float(reach), max=float(reach)))
    if keeps_nan:
        return left
    outside = emit.step("Greater", emit.step("Abs", x), emit.number(float(reach), x))
    return emit.step("Where", outside, left, emit.number(0.0, x))


def tanh_shrink(emit: Emitter, x: str) -> str:
    """x - tanh(x)."""
    return emit.step("Sub", x, emit.step("Tanh", x))


def gated(emit: Emitter, x: str, axis: int) -> str:
    """The first half along an axis, times the sigmoid of the second; Dauphin et al., 2016."""
    half = emit.type_of(x).shape[axis] // 2
    first, second = (emit.step("Slice", x, starts=[s], ends=[s + half], axes=[axis]) for s in (0, half))
    return emit.step("Mul", first, emit.step("Sigmoid", second))
