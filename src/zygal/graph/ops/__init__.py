"""The operators. Each has its shape rule, its NumPy meaning and its form in the artifact in one place.

Operators carry the names and the meaning of the ONNX operators of that name. What ONNX passes as
tensors but must be known beforehand (axes, shapes, pads) is an attribute here; a `Parameter` says
how the artifact spells it.
"""

from zygal.graph.ops import (  # noqa: F401  (each enters its operators into the list)
    activations,
    arithmetic,
    convolution,
    indexing,
    linear,
    normalization,
    pooling,
    recurrent,
    reduction,
    resampling,
    sampling,
    scattering,
    shaping,
)
from zygal.graph.ops.base import Operator, Parameter, known_operators, operator_named

__all__ = ["Operator", "Parameter", "known_operators", "operator_named"]
