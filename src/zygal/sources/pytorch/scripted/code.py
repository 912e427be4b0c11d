"""The code of a scripted archive: text in a small typed part of Python, parsed and never compiled or run."""

from __future__ import annotations

import ast
import warnings
from dataclasses import dataclass, field
from typing import Any

from zygal.errors import SourceError, shown
from zygal.files.mapped import MappedZip

MOST_CODE_BYTES = 20_000_000


@dataclass
class Code:
    """functions: by their qualified names, methods behind their class. constants: of classes, by class and name.
    members: the file that each function stands in. enumerations: the values of their members, by name."""

    functions: dict[str, ast.FunctionDef] = field(default_factory=dict)
    constants: dict[tuple[str, str], Any] = field(default_factory=dict)
    fields: dict[str, tuple[str, ...]] = field(default_factory=dict)
    members: dict[str, str] = field(default_factory=dict)
    enumerations: dict[str, dict[str, Any]] = field(default_factory=dict)


def read_code(archive: MappedZip, root: str) -> Code:
    """All code of an archive. Raises SourceError naming the file and line of what is not understood."""
    code, left = Code(), MOST_CODE_BYTES
    for name in archive.names:
        if not name.startswith(f"{root}/code/") or not name.endswith(".py"):
            continue
        data = bytes(archive.member_bytes(name, left))
        left -= len(data)
        member = name.removeprefix(f"{root}/")
        module = member.removeprefix("code/").removesuffix(".py").replace("/", ".")
        for statement in _parsed(data, f"{member} in {archive.path}"):
            _enter(code, statement, module, member, f"{member} in {archive.path}")
    if not code.functions:
        raise SourceError(f"{archive.path} holds no code; save the model again with torch.jit.save.")
    return code


def _parsed(data: bytes, where: str) -> list[ast.stmt]:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # Of numbers that touch words.
            return ast.parse(data.decode("utf-8")).body
    except (SyntaxError, ValueError, RecursionError, MemoryError) as fault:
        raise SourceError(f"{where} is damaged: its text cannot be parsed ({shown(str(fault))}).") from None


def _enter(code: Code, statement: ast.stmt, module: str, member: str, where: str) -> None:
    if isinstance(statement, ast.FunctionDef):
        code.functions[f"{module}.{statement.name}"] = statement
        code.members[f"{module}.{statement.name}"] = member
    elif isinstance(statement, ast.ClassDef):
        _enter_class(code, statement, f"{module}.{statement.name}", member, where)
    elif not isinstance(statement, ast.Pass):
        raise SourceError(f"{where} has a statement in line {statement.lineno} that is no function and no class.")


def _enter_class(code: Code, body: ast.ClassDef, name: str, member: str, where: str) -> None:
    fields = []
    is_enumeration = [ast.unparse(each) for each in body.bases] == ["Enum"]
    for each in body.body:
        if isinstance(each, ast.FunctionDef):
            code.functions[f"{name}.{each.name}"] = each
            code.members[f"{name}.{each.name}"] = member
        elif isinstance(each, ast.AnnAssign) and isinstance(each.target, ast.Name):
            fields.append(each.target.id)
            if each.value is not None:
                code.constants[name, each.target.id] = literal(each.value, where)
        elif isinstance(each, ast.Assign) and is_enumeration and isinstance(each.targets[0], ast.Name):
            members = code.enumerations.setdefault(name, {})
            members[each.targets[0].id] = literal(each.value, where)
        elif isinstance(each, ast.Assign) and _target(each.targets[0]) in _ABOUT_ATTRIBUTES:
            continue
        elif not isinstance(each, ast.Pass):
            raise SourceError(f"{where} has a statement in line {each.lineno} that a class of a model does not have.")
    code.fields[name] = tuple(fields)


_ABOUT_ATTRIBUTES = ("__parameters__", "__buffers__", "__annotations__", "__forward_hooks__", "__forward_pre_hooks__")
"""Which attributes are parameters and buffers, and the types of those whose names are no words."""


def _target(node: ast.expr) -> str | None:
    node = node.value if isinstance(node, ast.Subscript) else node
    return node.id if isinstance(node, ast.Name) else None


def literal(node: ast.expr, where: str) -> Any:
    """A constant of the text: numbers, text, None, and lists and tuples of them. Raises SourceError."""
    if isinstance(node, ast.Constant) and isinstance(node.value, (int, float, str, bool, type(None))):
        return node.value
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        value = literal(node.operand, where)
        if type(value) in (int, float):
            return -value
    if isinstance(node, (ast.List, ast.Tuple)):
        values = [literal(each, where) for each in node.elts]
        return values if isinstance(node, ast.List) else tuple(values)
    if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in ("annotate", "float"):
        value = literal(node.args[-1], where)
        return float(value) if node.func.id == "float" and value in ("inf", "-inf", "nan") else value
    if isinstance(node, ast.Name) and node.id in ("inf", "nan"):
        return float(node.id)
    if isinstance(node, ast.Call) and ast.unparse(node.func) == "torch.device" and len(node.args) == 1:
        return None
    raise SourceError(f"{where} has a constant in line {node.lineno} that is no plain value.")
