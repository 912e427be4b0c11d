"""Operators on numbers whose form has changed between versions of the standard, or that are several of the graph's."""

from __future__ import annotations

from math import prod

import numpy as np
from onnx import helper

from zygal.graph import Batch
from zygal.sources.onnx.site import Made, OnnxSite, operator
from zygal.sources.recipes.activations import gelu as gelu_of
from zygal.sources.recipes.activations import hard_shrink, mish

COMPUTED = frozenset(("float16", "float32", "float64", "int8", "int16", "int32", "int64", "uint8", "bool"))


@operator("Clip")
def clip(site: OnnxSite) -> Made:
    """Limits were attributes before opset 11; a limit that depends on the image is a Max or a Min."""
    if site.version < 11:
        limits = {name: site.attribute(name) for name in ("min", "max")}
        return site.step("Clip", site.value(0), **limits)
    x, known = site.value(0), {}
    for place, (name, kind) in enumerate((("min", "Max"), ("max", "Min")), start=1):
        if not site.given(place):
            continue
        if site.array(site.value(place)) is None:
            x = site.step(kind, x, site.value(place))
        else:
            known[name] = site.one(place, name)
    return site.step("Clip", x, **known) if known or x == site.value(0) else x


@operator("Softmax", "LogSoftmax")
def softmax(site: OnnxSite) -> Made:
    """Before opset 13 all axes from the given one on count as one."""
    x = site.value(0)
    if site.version >= 13:
        return site.alike(x, axis=site.attribute("axis", -1))
    axis, shape = site.axis(1), site.type_of(x).shape
    if axis == len(shape) - 1 or prod(each if isinstance(each, int) else 0 for each in shape[axis + 1 :]) == 1:
        return site.step(site.kind, x, axis=axis)
    if any(isinstance(size, Batch) for size in shape[axis:]):
        site.refuse("takes the images of a batch together")
    flat = site.reshaped(x, [*shape[:axis], prod(shape[axis:])])
    return site.reshaped(site.step(site.kind, flat, axis=axis), shape)


@operator("Sum", "Mean", "Max", "Min")
def of_several(site: OnnxSite) -> Made:
    """Any number of operands, broadcast together."""
    first, *others = [site.value(place) for place in range(len(site.inputs))]
    if site.kind in ("Max", "Min") and others:
        return site.step(site.kind, first, *others)
    made = first
    for each in others:
        made = site.step("Add", made, each)
    if site.kind == "Mean" and others:
        made = site.step("Div", made, site.number(float(len(site.inputs)), made))
    return site.step("Identity", made) if made == first else made


@operator("Pow")
def power(site: OnnxSite) -> Made:
    """The exponent may be of another dtype: it is brought to that of the base, which is the result's."""
    base, exponent = site.value(0), site.value(1)
    dtypes = [site.type_of(each).dtype for each in (base, exponent)]
    if dtypes[0] != dtypes[1]:
        if dtypes[0].kind != "f":
            site.refuse(f"raises {dtypes[0]} to a power of {dtypes[1]}")
        exponent = site.step("Cast", exponent, to=dtypes[0].name)
    return site.step("Pow", base, exponent)


@operator("Attention")
def attention(site: OnnxSite) -> Made:
    """Of all places, without what earlier runs left."""
    for name in ("is_causal", "softcap", "qk_matmul_output_mode"):
        site.without(name, 0)
    site.without("softmax_precision", None)
    return site.alike(*site.inputs)


@operator("Gelu")
def gelu(site: OnnxSite) -> Made:
    """Hendrycks and Gimpel, 2016; by the hyperbolic tangent where that is asked for."""
    form = site.attribute("approximate", "none")
    if form not in ("none", "tanh"):
        site.refuse(f"has approximate {form}, which is not known")
    return site.step("Gelu", site.value(0)) if form == "none" else gelu_of(site, site.value(0), True)


@operator("Mish")
def mish_(site: OnnxSite) -> Made:
    """Misra, 2019."""
    return mish(site, site.value(0))


@operator("ThresholdedRelu")
def thresholded(site: OnnxSite) -> Made:
    """What is larger than a threshold, else zero."""
    x = site.value(0)
    larger = site.step("Greater", x, site.number(site.attribute("alpha", 1.0), x))
    return site.step("Where", larger, x, site.number(0.0, x))


@operator("Shrink")
def shrink(site: OnnxSite) -> Made:
    """Zero near zero; `bias` is taken from the size of what is further away."""
    if site.attribute("bias", 0.0):
        site.refuse("has a bias, which is not supported")
    return hard_shrink(site, site.value(0), site.attribute("lambd", 0.5), keeps_nan=False)


@operator("Dropout")
def dropout(site: OnnxSite) -> Made:
    """Nothing at inference; the mask is true everywhere."""
    for name in ("ratio", "seed"):
        site.attribute(name)
    x = site.value(0)
    if site.given(2) and site.one(2, "training_mode"):
        site.refuse("is in training mode; export the model in evaluation mode")
    made = site.step("Identity", x)
    if len(site.outputs) < 2 or not site.outputs[1]:
        return made
    if site.version < 10:
        return made, site.expanded(site.constant(np.array(1, site.type_of(x).dtype), "one"), site.type_of(x).shape)
    return made, site.expanded(site.constant(np.array(True), "true"), site.type_of(x).shape)


@operator("Cast")
def cast(site: OnnxSite) -> Made:
    """saturate and round_mode concern dtypes that are refused here."""
    for name in ("saturate", "round_mode"):
        site.attribute(name)
    return site.step("Cast", site.value(0), to=dtype_of(site, site.attribute("to")))


@operator("CastLike")
def cast_like(site: OnnxSite) -> Made:
    """To the dtype of another value."""
    for name in ("saturate", "round_mode"):
        site.attribute(name)
    return site.step("Cast", site.value(0), to=site.type_of(site.value(1)).dtype.name)


def dtype_of(site: OnnxSite, number: int) -> str:
    """The name of a dtype by its number in the standard. Raises SourceError if an artifact does not compute with it."""
    name = helper.tensor_dtype_to_np_dtype(number).name
    if name not in COMPUTED:
        site.refuse(f"makes {name}, which an artifact does not compute with")
    return name


@operator("IsInf")
def is_infinite(site: OnnxSite) -> Made:
    """Of both signs."""
    site.without("detect_negative", 1)
    site.without("detect_positive", 1)
    return site.step("IsInf", site.value(0))


# Over axes


def axes_of(site: OnnxSite, since: int) -> list[int] | None:
    """The axes that an operator names: as an attribute before the version `since`, as an input from then on. None: it
    names none."""
    if site.version < since:
        return site.attribute("axes")
    return site.integers(1, "axes") if site.given(1) else None


_AXES_AS_INPUT = {"ReduceSum": 13}


@operator("ReduceMean", "ReduceSum", "ReduceMax", "ReduceMin", "ReduceProd", "ReduceL1", "ReduceL2")
@operator("ReduceSumSquare", "ReduceLogSum", "ReduceLogSumExp")
def reduction(site: OnnxSite) -> Made:
    """Over some axes; over all where none is named, unless the node says that it then does nothing."""
    x, keep = site.value(0), site.attribute("keepdims", 1)
    axes, nothing = axes_of(site, _AXES_AS_INPUT.get(site.kind, 18)), site.attribute("noop_with_empty_axes", 0)
    if not axes and nothing:
        if site.kind in ("ReduceSumSquare", "ReduceLogSum", "ReduceLogSumExp", "ReduceL1", "ReduceL2"):
            site.refuse("names no axes and is said to reduce none, which is not supported")
        return site.step("Identity", x)
    over = {"axes": axes or None, "keepdims": keep}
    if site.kind == "ReduceSumSquare":
        return site.step("ReduceSum", site.step("Mul", x, x), **over)
    if site.kind == "ReduceLogSum":
        return site.step("Log", site.step("ReduceSum", x, **over))
    if site.kind == "ReduceLogSumExp":
        # The largest is taken out, or the exponents would overflow.
        largest = site.step("ReduceMax", x, axes=over["axes"], keepdims=1)
        total = site.step("ReduceSum", site.step("Exp", site.step("Sub", x, largest)), **over)
        if not keep:
            largest = site.step("ReduceMax", x, **over)
        return site.step("Add", site.step("Log", total), largest)
    return site.step(site.kind, x, **over)


@operator("ArgMax", "ArgMin")
def place_of_most(site: OnnxSite) -> Made:
    """The first of several that are equal."""
    site.without("select_last_index", 0)
    x = site.value(0)
    if site.kind == "ArgMin":
        if site.type_of(x).dtype.kind != "f":
            site.refuse("takes whole numbers, which is not supported")
        x = site.step("Neg", x)
    return site.step("ArgMax", x, axis=site.attribute("axis", 0), keepdims=site.attribute("keepdims", 1))


@operator("TopK")
def largest(site: OnnxSite) -> Made:
    """How many was an attribute before opset 10."""
    count = site.attribute("k") if site.version < 10 else site.one(1, "count")
    rest = {name: site.attribute(name, default) for name, default in (("axis", -1), ("largest", 1), ("sorted", 1))}
    return site.several("TopK", site.value(0), count=2, k=count, **rest)


@operator("CumSum")
def running_sum(site: OnnxSite) -> Made:
    """Along one axis."""
    return site.alike(site.value(0), axis=site.one(1, "axis"))


@operator("Hardmax")
def hardmax(site: OnnxSite) -> Made:
    """One at the first place of the largest number along an axis, zero elsewhere."""
    x, axis = site.value(0), site.axis(-1 if site.version >= 13 else 1)
    shape = site.type_of(x).shape
    if site.version < 13 and axis != len(shape) - 1 or isinstance(shape[axis], Batch):
        site.refuse("is not along the last axis, which is not supported")
    places = site.step("ArgMax", x, axis=axis, keepdims=1)
    counted = np.arange(shape[axis], dtype=np.int64).reshape([-1] + [1] * (len(shape) - 1 - axis))
    chosen = site.step("Equal", places, site.constant(counted, "places"))
    return site.step("Cast", chosen, to=site.type_of(x).dtype.name)
