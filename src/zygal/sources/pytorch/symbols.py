"""The symbolic sizes of a captured program, parsed without evaluating anything."""

from __future__ import annotations

import ast
from math import prod

from zygal.graph import Batch, Dimension


class SymbolicSize(ValueError):
    """A size that is neither a number nor a multiple of the batch."""


def symbol_of(entry: dict) -> str | None:
    """The symbol that a recorded size consists of, or None if it is a number. Raises SymbolicSize."""
    if "as_int" in entry:
        return None
    node = _parse(entry["as_expr"]["expr_str"])
    name = _symbol(node)
    if name is not None:
        return name
    raise SymbolicSize(entry["as_expr"]["expr_str"])


def parse_size(entry: dict, batch: str | None) -> Dimension:
    """A recorded size, {"as_int": 3} or {"as_expr": {"expr_str": ...}}, as a dimension.

    `batch` is the symbol that stands for the batch. The framework prints sizes as Symbol('s0', ...)
    and Mul(Integer(4), Symbol('s0', ...)), in early releases s0 and 4*s0. Raises SymbolicSize.
    """
    if "as_int" in entry:
        return int(entry["as_int"])
    text = entry["as_expr"]["expr_str"]
    return _value(_parse(text), batch, text)


def _parse(text: str) -> ast.expr:
    if len(text) > 2000:
        raise SymbolicSize(text[:60])
    try:
        return ast.parse(text, mode="eval").body
    except (SyntaxError, RecursionError, MemoryError) as fault:
        raise SymbolicSize(text) from fault


def _is_call(node: ast.expr, function: str) -> bool:
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == function


def _symbol(node: ast.expr) -> str | None:
    """The name of a symbol, if that is all that an expression is."""
    if _is_call(node, "Symbol") and node.args and isinstance(node.args[0], ast.Constant):
        return str(node.args[0].value)
    return node.id if isinstance(node, ast.Name) else None


def _value(node: ast.expr, batch: str | None, text: str) -> Dimension:
    if isinstance(node, ast.Constant) and type(node.value) is int:
        return node.value
    if _is_call(node, "Integer") and len(node.args) == 1:
        return _value(node.args[0], batch, text)
    if _symbol(node) not in (None, batch):
        raise SymbolicSize(text)
    if _symbol(node) is not None:
        return Batch()
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Mult):
        return multiply(_value(node.left, batch, text), _value(node.right, batch, text))
    if _is_call(node, "Mul"):
        return multiply(*(_value(each, batch, text) for each in node.args))
    raise SymbolicSize(text)


def multiply(*factors: Dimension) -> Dimension:
    """The product of dimensions of which at most one is a multiple of the batch. Raises SymbolicSize."""
    batches = sum(isinstance(factor, Batch) for factor in factors)
    if batches > 1:
        raise SymbolicSize("the square of the batch")
    number = prod(factor.times if isinstance(factor, Batch) else factor for factor in factors)
    return Batch(number) if batches else number


def floor_divide(size: Dimension, divisor: int) -> Dimension:
    """size // divisor; a multiple of the batch must stay one. Raises SymbolicSize."""
    if not isinstance(size, Batch):
        return size // divisor
    if size.times % divisor:
        raise SymbolicSize(f"{size} // {divisor}")
    return Batch(size.times // divisor)
