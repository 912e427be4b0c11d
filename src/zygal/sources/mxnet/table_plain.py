"""Arithmetic, and what ends a network."""

from __future__ import annotations

import numpy as np

from zygal.sources.mxnet.site import OPERATORS, Handler, Made, SymbolSite, operator
from zygal.sources.recipes.activations import clipped

# Ends. Labels that they take for training are no inputs.


@operator("SoftmaxOutput", "Softmax")
def softmax_output(site: SymbolSite) -> Made:
    """A softmax at inference, over the classes or over the channels."""
    for name in ("grad_scale", "ignore_label", "use_ignore", "normalization", "out_grad", "smooth_alpha"):
        site.text(name)
    rank = site.type_of(site.x).rank
    if site.truth("preserve_shape"):
        return site.step("Softmax", site.x, axis=rank - 1)
    if not site.truth("multi_output") and rank != 2:
        site.refuse(f"is applied to {site.type_of(site.x)} as a whole, where the framework's own builds disagree")
    return site.step("Softmax", site.x, axis=1)


@operator("SoftmaxActivation")
def softmax_activation(site: SymbolSite) -> Made:
    """Over the channels, or over the last axis, which is what the framework makes of an instance."""
    mode = site.choice("mode", "instance", "instance", "channel")
    return site.step("Softmax", site.x, axis=1 if mode == "channel" else site.type_of(site.x).rank - 1)


@operator("softmax", "log_softmax", "softmin")
def softmax(site: SymbolSite) -> Made:
    """Along one axis."""
    site.without("dtype", None)
    site.without("use_length", "False", "0")
    x, heat = site.x, site.text("temperature")
    if heat is not None:
        x = site.step("Div", x, site.number(site.real("temperature"), x))
    if site.node.op == "softmin":
        x = site.step("Neg", x)
    return site.step("LogSoftmax" if site.node.op == "log_softmax" else "Softmax", x, axis=site.axis(default=-1))


@operator("LogisticRegressionOutput")
def independent_labels(site: SymbolSite) -> Made:
    """A sigmoid for each label."""
    site.text("grad_scale")
    return site.step("Sigmoid", site.x)


@operator("LinearRegressionOutput", "MAERegressionOutput", "SVMOutput", "MakeLoss", "BlockGrad", "identity", "_copy")
@operator("Dropout", "stop_gradient", "_identity_with_attr_like_rhs", "IdentityAttachKLSparseReg")
def nothing(site: SymbolSite) -> Made:
    """What acts in training alone."""
    for name in ("grad_scale", "margin", "regularization_coefficient", "use_linear", "p", "axes", "normalization"):
        site.text(name)
    site.without("mode", "training")
    return site.step("Identity", site.x)


# Arithmetic

_UNARY = {
    "abs": "Abs",
    "arccos": "Acos",
    "arccosh": "Acosh",
    "arcsin": "Asin",
    "arcsinh": "Asinh",
    "arctan": "Atan",
    "arctanh": "Atanh",
    "ceil": "Ceil",
    "cos": "Cos",
    "cosh": "Cosh",
    "erf": "Erf",
    "exp": "Exp",
    "floor": "Floor",
    "log": "Log",
    "negative": "Neg",
    "reciprocal": "Reciprocal",
    "relu": "Relu",
    "rint": "Round",
    "sigmoid": "Sigmoid",
    "sign": "Sign",
    "sin": "Sin",
    "sinh": "Sinh",
    "softsign": "Softsign",
    "sqrt": "Sqrt",
    "tan": "Tan",
    "tanh": "Tanh",
}
_BINARY = {
    "add": "Add",
    "plus": "Add",
    "sub": "Sub",
    "minus": "Sub",
    "mul": "Mul",
    "div": "Div",
    "maximum": "Max",
    "minimum": "Min",
    "power": "Pow",
}
_OLDER = {"_grad_add": "Add"}
for _name, _kind in _BINARY.items():
    _OLDER |= {f"_{_name}": _kind, f"_{_name.capitalize()}": _kind}
"""The same, in older files."""


def _applied(kind: str) -> Handler:
    return lambda site: site.step(kind, site.x)


def _of_two(kind: str) -> Handler:
    return lambda site: site.step(kind, site.x, site.input(1))


def _with_number(kind: str, reversed_: bool) -> Handler:
    def handler(site: SymbolSite) -> Made:
        number = site.number(site.real("scalar"), site.x)
        return site.step(kind, *((number, site.x) if reversed_ else (site.x, number)))

    return handler


OPERATORS.update({name: _applied(kind) for name, kind in _UNARY.items()})
OPERATORS.update(
    {f"{form}_{name}": _of_two(kind) for form in ("elemwise", "broadcast") for name, kind in _BINARY.items()}
)
OPERATORS.update({name: _of_two(kind) for name, kind in _OLDER.items()})
for _name, _kind in _BINARY.items():
    for _form in (f"_{_name}_scalar", f"_{_name.capitalize()}Scalar"):
        OPERATORS[_form] = _with_number(_kind, False)
    for _form in (f"_r{_name}_scalar", f"_R{_name.capitalize()}Scalar"):
        OPERATORS[_form] = _with_number(_kind, True)


@operator("square")
def square(site: SymbolSite) -> Made:
    """x^2."""
    return site.step("Mul", site.x, site.x)


@operator("rsqrt")
def reciprocal_root(site: SymbolSite) -> Made:
    """1 / sqrt(x)."""
    return site.step("Reciprocal", site.step("Sqrt", site.x))


@operator("add_n", "ElementWiseSum")
def sum_of_all(site: SymbolSite) -> Made:
    """Any number of operands of one shape."""
    made = site.x
    for each in site.inputs[1:]:
        made = site.step("Add", made, each)
    return made if len(site.inputs) > 1 else site.step("Identity", made)


@operator("clip")
def clip(site: SymbolSite) -> Made:
    """Between two limits."""
    return clipped(site, site.x, site.real("a_min"), site.real("a_max"))


@operator("Cast", "cast", "amp_cast")
def cast(site: SymbolSite) -> Made:
    """To another dtype."""
    dtype = site.choice("dtype", "", "float16", "float32", "float64", "int8", "uint8", "int32", "int64", "bool")
    return site.step("Cast", site.x, to=dtype)


@operator("ones_like", "zeros_like")
def filled_alike(site: SymbolSite) -> Made:
    """One number everywhere, in the shape of another value."""
    type = site.type_of(site.x)
    return site.expanded(site.constant(np.array(site.node.op == "ones_like", type.dtype), "value"), type.shape)


def _reduction(kind: str) -> Handler:
    def handler(site: SymbolSite) -> Made:
        rank = site.type_of(site.x).rank
        axes = [axis % rank for axis in site.integers("axis", ()) or range(rank)]
        if site.truth("exclude"):
            axes = [axis for axis in range(rank) if axis not in axes]
        return site.step(kind, site.x, axes=axes, keepdims=int(site.truth("keepdims")))

    return handler


for _name, _kind in (("mean", "Mean"), ("sum", "Sum"), ("max", "Max"), ("min", "Min"), ("prod", "Prod")):
    OPERATORS[_name] = _reduction(f"Reduce{_kind}")
OPERATORS.update({"sum_axis": OPERATORS["sum"], "max_axis": OPERATORS["max"], "min_axis": OPERATORS["min"]})


@operator("norm")
def norm(site: SymbolSite) -> Made:
    """The length, or the sum of absolute values."""
    site.without("out_dtype", None)
    order, axes = site.integer("ord", 2), list(site.integers("axis", ()))
    if order not in (1, 2) or not axes:
        site.refuse("has another order than 1 or 2, or no axes")
    return site.step(f"ReduceL{order}", site.x, axes=axes, keepdims=int(site.truth("keepdims")))


@operator("dot", "batch_dot")
def product(site: SymbolSite) -> Made:
    """Of two matrices, each turned if it says so; of many in turn."""
    site.without("forward_stype", None)
    sides = []
    for place, name in enumerate(("transpose_a", "transpose_b")):
        value = site.input(place)
        rank = site.type_of(value).rank
        if rank != (2 if site.node.op == "dot" else 3):
            site.refuse(f"multiplies {site.type_of(value)}, which is not supported")
        turned = [*range(rank - 2), rank - 1, rank - 2]
        sides.append(site.step("Transpose", value, perm=turned) if site.truth(name) else value)
    return site.step("MatMul", *sides)
