"""Follows the code of a scripted archive over what is known: sizes, attributes and constants.

Nothing of it is run. Each kind of statement and expression has a method here; an operator on tensors is handed to the
recorder, everything else is computed at once. What depends on the image cannot be decided and is refused, with the
line.
"""

from __future__ import annotations

import ast
from collections.abc import Callable, Mapping
from typing import Any, NoReturn

from zygal.errors import SourceError, shown
from zygal.files.pickles import Record
from zygal.sources.pytorch.scripted.archive import ScriptedArchive
from zygal.sources.pytorch.scripted.builtins import FUNCTIONS, LONGEST, ON_SIZES, SAYING, Undecided, Unfit
from zygal.sources.pytorch.scripted.objects import Objects
from zygal.sources.pytorch.scripted.recorder import Recorder
from zygal.sources.pytorch.scripted.values import Device, Frame, Function, Module, Size, Tensor

MOST_STEPS = 1_000_000
DEEPEST_CALL = 60
_UNSET = object()


class _Returned(Exception):
    def __init__(self, value: Any):
        self.value = value


class Interpreter:
    """The code of one archive, and what its operators are recorded with."""

    def __init__(self, archive: ScriptedArchive, recorder: Recorder):
        self._where, self._code, self._recorder = str(archive.path), archive.code, recorder
        self._objects = Objects(archive, recorder)
        self._steps, self._frames = 0, []

    def forward(self, model: Record, images: Tensor) -> Any:
        """What the model gives for images. Raises SourceError."""
        module = Module(model, "")
        function = self._objects.method(module, "forward")
        if function is None:
            raise SourceError(f"{self._where} has no forward method; save the whole model with torch.jit.save.")
        needed = len(function.code.args.args) - 1 - len(function.code.args.defaults)
        if needed > 1:
            names = ", ".join(each.arg for each in function.code.args.args[1:])
            raise SourceError(
                f"{self._where} takes {needed} inputs ({names}); an image classifier takes one, so save a model that "
                "takes the image alone."
            )
        return self._call(function, [images], {})

    # Calls

    def _call(self, function: Function, given: list[Any], named: Mapping[str, Any]) -> Any:
        arguments = function.code.args
        if arguments.vararg or arguments.kwarg or arguments.kwonlyargs or arguments.posonlyargs:
            self._refuse("has parameters of a kind that archives do not have")
        if len(self._frames) >= DEEPEST_CALL:
            self._refuse(f"calls {function.qualified_name} more than {DEEPEST_CALL} deep")
        parameters = [each.arg for each in arguments.args]
        given = [function.owner, *given] if function.owner is not None else list(given)
        layer = function.owner.path if function.owner is not None else self._layer
        frame = Frame(function, layer, dict(zip(parameters, given)))
        if len(given) > len(parameters) or named.keys() & frame.names.keys() or named.keys() - set(parameters):
            self._refuse(f"calls {function.qualified_name} with arguments that do not fit it")
        frame.names |= named
        for name, default in zip(reversed(parameters), reversed(arguments.defaults)):
            if name not in frame.names:
                frame.names[name] = self._value(default)
        if set(parameters) - frame.names.keys():
            self._refuse(f"calls {function.qualified_name} without all of its arguments")
        self._frames.append(frame)
        self._recorder.layer = frame.layer
        try:
            self._run(function.code.body)
            result = None
        except _Returned as end:
            result = end.value
        self._frames.pop()
        self._recorder.layer = self._layer
        return result

    @property
    def _layer(self) -> str:
        return self._frames[-1].layer if self._frames else ""

    def _refuse(self, why: str, node: ast.AST | None = None) -> NoReturn:
        place = ""
        if self._frames:
            frame = self._frames[-1]
            member = self._code.members.get(frame.function.qualified_name, "the code")
            line = getattr(node, "lineno", None) or self._line
            place = f"{member}, line {line}" + (f", layer {frame.layer}," if frame.layer else "") + " "
        raise SourceError(f"{self._where} cannot be converted: {place}{why}.")

    _line = 0

    # Statements

    def _run(self, statements: list[ast.stmt]) -> None:
        for statement in statements:
            self._line = statement.lineno
            self._count(statement)
            run = _STATEMENTS.get(type(statement))
            if run is None:
                self._refuse(f"has a statement that is not understood ({type(statement).__name__})", statement)
            run(self, statement)

    def _count(self, node: ast.AST) -> None:
        self._steps += 1
        if self._steps > MOST_STEPS:
            self._refuse(f"is a loop without an end: more than {MOST_STEPS} steps", node)

    def _assign(self, statement: ast.Assign) -> None:
        if len(statement.targets) != 1:
            self._refuse("assigns to several names at once", statement)
        self._bind(statement.targets[0], self._value(statement.value))

    def _bind(self, target: ast.expr, value: Any) -> None:
        if isinstance(target, ast.Name):
            self._frames[-1].names[target.id] = value
        elif isinstance(target, ast.Tuple):
            if not isinstance(value, (list, tuple)) or len(value) != len(target.elts):
                self._refuse("unpacks a value of another length", target)
            for part, each in zip(target.elts, value):
                self._bind(part, each)
        elif isinstance(target, ast.Attribute):
            self._fit(target, self._objects.set_attribute, self._value(target.value), target.attr, value)
        elif isinstance(target, ast.Subscript):
            holder, key = self._value(target.value), self._value(target.slice)
            if (
                isinstance(holder, list)
                and type(key) is int
                and -len(holder) <= key < len(holder)
                or isinstance(holder, dict)
                and isinstance(key, (str, int, float, bool))
            ):
                holder[key] = value
            else:
                self._refuse("assigns to a part of something that has none", target)
        else:
            self._refuse("assigns to something that is no name", target)

    def _annotated(self, statement: ast.AnnAssign) -> None:
        if statement.value is not None:
            self._bind(statement.target, self._value(statement.value))

    def _if(self, statement: ast.If) -> None:
        self._run(statement.body if self._truth(statement.test) else statement.orelse)

    def _truth(self, node: ast.expr) -> bool:
        value = self._value(node)
        if isinstance(value, Tensor):
            known = self._recorder.known(value)
            value = known.item() if known is not None and known.size == 1 else value
        if isinstance(value, (bool, int, float)):
            return bool(value)
        return self._undecided(node)

    def _undecided(self, node: ast.AST) -> NoReturn:
        self._recorder.undecided = True
        self._refuse(
            "decides by the image or by the number of images which layers run; an artifact runs the same layers for "
            "every image",
            node,
        )

    def _for(self, statement: ast.For) -> None:
        values = self._value(statement.iter)
        if not isinstance(values, (list, tuple, range)):
            self._refuse("loops over something that is no list", statement)
        for value in values:
            self._count(statement)
            self._bind(statement.target, value)
            self._run(statement.body)

    def _while(self, statement: ast.While) -> None:
        while self._truth(statement.test):
            self._count(statement)
            self._run(statement.body)

    def _with(self, statement: ast.With) -> None:
        # Gradients are switched off and on, which a converted model does not have.
        for item in statement.items:
            entered = self._value(item.context_expr)
            if not isinstance(entered, Module) or "no_grad" not in entered.record.name:
                self._refuse("runs layers inside of a block that is not understood", statement)
        self._run(statement.body)

    def _return(self, statement: ast.Return) -> NoReturn:
        raise _Returned(None if statement.value is None else self._value(statement.value))

    # Expressions

    def _value(self, node: ast.expr) -> Any:
        self._count(node)
        evaluate = _EXPRESSIONS.get(type(node))
        if evaluate is None:
            self._refuse(f"has an expression that is not understood ({type(node).__name__})", node)
        return evaluate(self, node)

    def _constant(self, node: ast.Constant) -> Any:
        if not isinstance(node.value, (int, float, str, bool, type(None))):
            self._refuse("has a number or text that is not understood", node)
        return node.value

    def _name(self, node: ast.Name) -> Any:
        found = self._frames[-1].names.get(node.id, _UNSET)
        if found is _UNSET:
            if node.id in ("inf", "nan"):
                return float(node.id)
            self._refuse(f"reads {shown(node.id)}, which it has not set", node)
        return found

    def _unary(self, node: ast.UnaryOp) -> Any:
        value = self._value(node.operand)
        if isinstance(node.op, ast.USub) and type(value) in (int, float):
            return -value
        if isinstance(node.op, ast.Not) and isinstance(value, bool):
            return not value
        return self._refuse("has an operation that is not understood", node)

    def _choice(self, node: ast.IfExp) -> Any:
        return self._value(node.body if self._truth(node.test) else node.orelse)

    def _boolean(self, node: ast.BoolOp) -> bool:
        stops = isinstance(node.op, ast.Or)
        return stops if any(self._truth(each) == stops for each in node.values) else not stops

    def _list(self, node: ast.List) -> list:
        return [self._value(each) for each in node.elts]

    def _tuple(self, node: ast.Tuple) -> tuple:
        return tuple(self._value(each) for each in node.elts)

    def _dict(self, node: ast.Dict) -> dict:
        keys = [self._value(each) for each in node.keys]
        if not all(isinstance(each, (str, int, float, bool)) for each in keys):
            self._refuse("has a dictionary whose keys are no text and no numbers", node)
        return dict(zip(keys, (self._value(each) for each in node.values)))

    def _part(self, node: ast.Subscript) -> Any:
        holder, key = self._value(node.value), self._value(node.slice)
        if isinstance(holder, (list, tuple, str)) and type(key) is int and -len(holder) <= key < len(holder):
            return holder[key]
        if isinstance(holder, dict) and isinstance(key, (str, int, float, bool)) and key in holder:
            return holder[key]
        if isinstance(holder, Module) and type(key) is int:
            return self._fit(node, self._objects.element, holder, key)
        return self._refuse(f"takes the part {shown(key)} of something that does not have it", node)

    def _attribute(self, node: ast.Attribute) -> Any:
        if isinstance(node.value, ast.Name) and node.value.id == "CONSTANTS":
            return self._fit(node, self._objects.constant, node.attr)
        name = _dotted(node)
        if name is not None and name.startswith("__torch__."):
            return self._fit(node, self._objects.named, name)
        return self._of(self._value(node.value), node.attr, node)

    def _of(self, owner: Any, name: str, node: ast.AST) -> Any:
        """An attribute of an object; of a tensor, what an operator says of it."""
        if isinstance(owner, Tensor):
            return self._builtin(name, [owner], {}, node)
        return self._fit(node, self._objects.attribute, owner, name)

    def _fit(self, node: ast.AST, ask: Callable[..., Any], *given: Any) -> Any:
        """What is asked of the objects, refused with the line where it cannot be."""
        try:
            return ask(*given)
        except Unfit as fault:
            return self._refuse(str(fault), node)

    def _called(self, node: ast.Call) -> Any:
        name = _dotted(node.func)
        named = {each.arg: each.value for each in node.keywords}
        if None in named or any(isinstance(each, ast.Starred) for each in node.args):
            self._refuse("calls with arguments that are not spelt out", node)
        if name in ("annotate", "unchecked_cast") and len(node.args) == 2:
            return self._value(node.args[1])
        if name == "uninitialized":
            return None
        if name == "isinstance":
            return self._is_instance(node)
        owner = node.func
        function = None
        if name is None or name.startswith("__torch__.") or name.partition(".")[0] in self._frames[-1].names:
            if name is not None and name.startswith("__torch__.") and name not in self._code.functions:
                return self._made(name, [self._value(each) for each in node.args], node)
            function = self._value(owner)
        given = [self._value(each) for each in node.args]
        named = {key: self._value(each) for key, each in named.items()}
        self._line = node.lineno
        if isinstance(function, Function):
            return self._call(function, given, named)
        if isinstance(function, Module):
            return self._call(self._of(function, "forward", node), given, named)
        if function is not None or name is None:
            self._refuse("calls something that is no function", node)
        if name == "getattr" and len(given) == 2 and isinstance(given[1], str):
            return self._of(given[0], given[1], node)
        return self._builtin(name, given, named, node)

    def _made(self, name: str, given: list[Any], node: ast.AST) -> Any:
        """An object of a class of the archive, or a named tuple of it."""
        maker = self._fit(node, self._objects.made, name, self._layer)
        method = self._objects.method(maker, "__init__")
        if method is not None:
            self._call(method, given, {})
            return maker
        return tuple(given)

    def _builtin(self, name: str, given: list[Any], named: dict[str, Any], node: ast.AST) -> Any:
        plain = name.removeprefix("torch.").removeprefix("ops.prim.").removeprefix("ops.aten.")
        given = self._recorder.numbers(plain, given)
        try:
            sized = plain in ON_SIZES and any(isinstance(each, Size) for each in given)
            of_list = bool(given) and isinstance(given[0], (list, dict, tuple, str))
            on_tensors = any(map(_has_tensor, given)) and not of_list and plain not in SAYING
            if plain in FUNCTIONS and not sized and not on_tensors:
                value = FUNCTIONS[plain](*given, **named)
            elif name.startswith("ops.") and not name.startswith("ops.aten.") and not name.startswith("ops.prim."):
                value = self._recorder.unknown(name.removeprefix("ops."))
            else:
                value = self._recorder.call(plain, given, named)
        except Undecided:
            self._undecided(node)
        except Unfit as fault:
            self._refuse(str(fault), node)
        except (TypeError, ValueError, KeyError, IndexError, ZeroDivisionError, OverflowError) as fault:
            self._refuse(f"calls {name} with what does not fit it ({shown(str(fault))})", node)
        if isinstance(value, (list, str, tuple)) and len(value) > LONGEST:
            self._refuse(f"makes a list or text of {len(value)} parts", node)
        return value

    def _is_instance(self, node: ast.Call) -> bool:
        value = self._value(node.args[0])
        kinds = node.args[1].elts if isinstance(node.args[1], (ast.Tuple, ast.List)) else [node.args[1]]
        found = []
        for kind in kinds:
            known = _KINDS.get(ast.unparse(kind).partition("[")[0])
            if known is None:
                self._refuse(f"asks for a type that is not understood ({ast.unparse(kind)[:60]})", node)
            found.append(known(value))
        return any(found)


def _has_tensor(value: Any) -> bool:
    return isinstance(value, Tensor) or isinstance(value, list) and any(isinstance(each, Tensor) for each in value)


_KINDS: dict[str, Callable[[Any], bool]] = {
    "Tensor": lambda value: isinstance(value, Tensor),
    "int": lambda value: type(value) is int or isinstance(value, Size),
    "float": lambda value: type(value) is float,
    "bool": lambda value: type(value) is bool,
    "str": lambda value: type(value) is str,
    **dict.fromkeys(("List", "list"), lambda value: type(value) is list),
    **dict.fromkeys(("Tuple", "tuple"), lambda value: type(value) is tuple),
    **dict.fromkeys(("Dict", "dict"), lambda value: isinstance(value, dict)),
    "NoneType": lambda value: value is None,
    "Device": lambda value: isinstance(value, Device),
}


def _dotted(node: ast.expr) -> str | None:
    """A name with dots, if that is all that an expression is."""
    if isinstance(node, ast.Name):
        return node.id
    if isinstance(node, ast.Attribute):
        before = _dotted(node.value)
        return None if before is None else f"{before}.{node.attr}"
    return None


_STATEMENTS: dict[type, Callable[[Interpreter, Any], None]] = {
    ast.Assign: Interpreter._assign,
    ast.AnnAssign: Interpreter._annotated,
    ast.If: Interpreter._if,
    ast.For: Interpreter._for,
    ast.While: Interpreter._while,
    ast.With: Interpreter._with,
    ast.Return: Interpreter._return,
    ast.Expr: lambda self, statement: self._value(statement.value) and None,
    ast.Pass: lambda self, statement: None,
}
_EXPRESSIONS: dict[type, Callable[[Interpreter, Any], Any]] = {
    ast.Constant: Interpreter._constant,
    ast.Name: Interpreter._name,
    ast.UnaryOp: Interpreter._unary,
    ast.IfExp: Interpreter._choice,
    ast.BoolOp: Interpreter._boolean,
    ast.List: Interpreter._list,
    ast.Tuple: Interpreter._tuple,
    ast.Dict: Interpreter._dict,
    ast.Subscript: Interpreter._part,
    ast.Attribute: Interpreter._attribute,
    ast.Call: Interpreter._called,
}
