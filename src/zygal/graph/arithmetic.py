"""How many multiply-adds an operator does, from the shapes of what it reads and makes: one rule each, for graphs and
for written artifacts.

A product that goes into a sum counts as one, as is usual; biases, activations and normalisations are not counted.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from math import prod
from typing import Any

Sizes = Sequence[int]
Count = Callable[[Mapping[str, Any], Sizes, Sizes, Sizes], int]
"""From the operator's attributes, the shapes of its first two inputs and that of its result. Raises KeyError where it
is not known."""


def _convolution(attributes: Mapping[str, Any], image: Sizes, weight: Sizes, result: Sizes) -> int:
    """Each number of the result is a sum over the weight's input channels and places."""
    return prod(result) * prod(weight[1:])


def _transposed_convolution(attributes: Mapping[str, Any], image: Sizes, weight: Sizes, result: Sizes) -> int:
    """Each number of the image is multiplied with all of the weight that belongs to its channel."""
    return prod(image) * prod(weight[1:])


def _product(attributes: Mapping[str, Any], left: Sizes, right: Sizes, result: Sizes) -> int:
    return prod(result) * left[-1]


def _general_product(attributes: Mapping[str, Any], left: Sizes, right: Sizes, result: Sizes) -> int:
    return prod(result) * left[0 if attributes.get("transA") else -1]


def _einsum(attributes: Mapping[str, Any], left: Sizes, right: Sizes, result: Sizes) -> int:
    """One for each combination of all letters."""
    equation = attributes["equation"].replace(" ", "")
    terms = equation.split("->")[0].split(",")
    if len(terms) != 2 or "." in equation:
        raise KeyError(equation)
    return prod(
        {letter: size for term, sizes in zip(terms, (left, right)) for letter, size in zip(term, sizes)}.values()
    )


def _attention(attributes: Mapping[str, Any], query: Sizes, key: Sizes, result: Sizes) -> int:
    """Scores of each row with each place, and the places' values summed by them; heads lie in an axis of their own or
    within the last."""
    return key[-2] * (prod(query) + prod(result))


def _recurrent(attributes: Mapping[str, Any], sequence: Sizes, weight: Sizes, result: Sizes) -> int:
    """At each step every gate sums over the input and over the states: x [steps, N, inputs], weight [directions, gates
    * hidden, inputs]."""
    steps, batch, inputs = sequence
    return steps * batch * weight[0] * weight[1] * (inputs + result[-1])


COUNTS: dict[str, Count] = {
    "Attention": _attention,
    "Conv": _convolution,
    "ConvInteger": _convolution,
    "ConvTranspose": _transposed_convolution,
    "Gemm": _general_product,
    "MatMul": _product,
    "MatMulInteger": _product,
    "Einsum": _einsum,
    "LSTM": _recurrent,
    "GRU": _recurrent,
    "RNN": _recurrent,
}
"""By the operators' names in the standard; what is not here multiplies nothing."""
