"""The operators. Each has its shape rule and its NumPy meaning in one place.

Operators carry the names and the meaning of the ONNX operators of that name. What must be known beforehand (axes,
shapes, pads) is an attribute here, even where a format passes it as a tensor: how a format spells an operator stands in
the format's folder.
"""

from zygal.graph.ops import (  # noqa: F401  (each enters its operators into the list)
    activations,
    arithmetic,
    attention,
    convolution,
    indexing,
    linear,
    measured,
    normalization,
    pooling,
    quantization,
    recurrent,
    reduction,
    resampling,
    sampling,
    scattering,
    shaping,
)
from zygal.graph.ops.base import Operator, Parameter, known_operators, operator_named

__all__ = ["Operator", "Parameter", "known_operators", "operator_named"]
