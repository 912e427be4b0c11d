"""Functions of an archive's code on plain values: numbers, text, lists, dictionaries, and multiples of the batch."""

from __future__ import annotations

import math
import operator
from collections.abc import Callable
from typing import Any

from zygal.errors import shown
from zygal.sources.pytorch.scripted.values import Device, Size

MOST_DIGITS = 300
LONGEST = 1_000_000
"""Elements of a list, letters of a text."""


class Undecided(Exception):
    """A comparison whose result depends on the number of images."""


class Unfit(Exception):
    """What cannot be followed, as the end of a sentence."""


def _compared(compare: Callable[[Any, Any], bool]) -> Callable[[Any, Any], bool]:
    def compared(left: Any, right: Any) -> bool:
        if not _sized(left) and not _sized(right):
            return compare(left, right)
        # The number of images is 1 or more: what holds for 1 and for very many, and changes nowhere between, holds.
        found = {compare(_at(left, count), _at(right, count)) for count in _COUNTS}
        if len(found) > 1 or isinstance(left, float) or isinstance(right, float):
            raise Undecided
        return found.pop()

    return compared


_COUNTS = (*range(1, 1025), 1 << 40)


def _sized(value: Any) -> bool:
    """Whether the number of images is in a value."""
    return isinstance(value, Size) or isinstance(value, (list, tuple)) and any(map(_sized, value))


def _at(value: Any, count: int) -> Any:
    if isinstance(value, (list, tuple)):
        return [_at(each, count) for each in value]
    return value.dimension.times * count if isinstance(value, Size) else value


def _contains(values: Any, value: Any) -> bool:
    if _sized(value) or _sized(list(values)):
        raise Undecided
    return value in values


def _raised(message: Any = "", *_: Any) -> None:
    raise Unfit(f"raises an error for such images ({shown(str(message))})")


def _formatted(text: str, *values: Any) -> str:
    """Each {} by the next value. Anything else between braces is left as it is."""
    parts = text.split("{}")
    said = [*(str(value)[:1000] for value in values), *[""] * len(parts)]
    return "".join(part + each for part, each in zip(parts, said))[:10_000]


def _repeated(values: Any, count: Any) -> Any:
    if isinstance(values, (list, tuple, str)) and len(values) * max(count, 0) > LONGEST:
        raise Unfit(f"makes a list of {len(values) * count} parts")
    return values * count


def _power(base: Any, exponent: Any) -> Any:
    if isinstance(base, int) and isinstance(exponent, int) and exponent * max(base.bit_length(), 1) > MOST_DIGITS:
        raise Unfit("computes a number beyond reason")
    return base**exponent


def _appended(values: list, value: Any) -> list:
    values.append(value)
    return values


def _extended(values: list, more: list) -> None:
    values.extend(list(more))


def _removed(values: Any, *place: Any) -> Any:
    return values.pop(*place)


def _set_item(values: Any, place: Any, value: Any) -> Any:
    if isinstance(values, list):
        values[operator.index(place)] = value
    else:
        values[place] = value
    return values


def _slice(values: Any, start: Any = None, end: Any = None, step: int = 1) -> Any:
    return values[slice(start, end, step)]


def _whole(value: Any) -> Any:
    return value if isinstance(value, Size) else int(value)


def _plain(value: Any) -> Any:
    return value


def _extreme(choose: Callable) -> Callable:
    def extreme(*values: Any) -> Any:
        values = values[0] if len(values) == 1 else values
        if any(isinstance(each, Size) for each in values):
            raise Undecided
        return choose(values)

    return extreme


def _times(value: Any, factor: Any) -> Any:
    return value if factor == 1 else value * factor


def _sum(left: Any, right: Any, alpha: Any = 1) -> Any:
    return left + _times(right, alpha)


def _quotient(left: Any, right: Any, rounding_mode: str | None = None) -> Any:
    if rounding_mode is None:
        return left / right
    rounded = {"floor": math.floor, "trunc": math.trunc}[rounding_mode](left / right)
    return rounded if isinstance(left, int) and isinstance(right, int) else float(rounded)


def _clamped(value: Any, min: Any = None, max: Any = None) -> Any:
    if isinstance(value, Size):
        raise Undecided
    value = value if min is None or value >= min else min
    return value if max is None or value <= max else max


def _derived(index: int, start: int, step: int) -> int:
    return start + index * step


FUNCTIONS: dict[str, Callable[..., Any]] = {
    "eq": _compared(operator.eq),
    "ne": _compared(operator.ne),
    "lt": _compared(operator.lt),
    "le": _compared(operator.le),
    "gt": _compared(operator.gt),
    "ge": _compared(operator.ge),
    "__is__": lambda left, right: left is right if left is None or right is None else left == right,
    "__isnot__": lambda left, right: left is not right if left is None or right is None else left != right,
    "__not__": operator.not_,
    "__and__": operator.and_,
    "__or__": operator.or_,
    "__xor__": operator.xor,
    "add": _sum,
    "sub": lambda left, right, alpha=1: left - _times(right, alpha),
    "rsub": lambda left, right, alpha=1: right - _times(left, alpha),
    "mul": _repeated,
    "div": _quotient,
    "true_divide": operator.truediv,
    "floordiv": operator.floordiv,
    "floor_divide": operator.floordiv,
    "remainder": operator.mod,
    "neg": operator.neg,
    "pow": _power,
    "abs": abs,
    "min": _extreme(min),
    "max": _extreme(max),
    "clamp": _clamped,
    "clamp_min": _clamped,
    "clamp_max": lambda value, max: _clamped(value, None, max),
    "maximum": lambda left, right: _extreme(max)(left, right),
    "minimum": lambda left, right: _extreme(min)(left, right),
    "trunc": math.trunc,
    "sum": sum,
    "any": any,
    "all": all,
    "floor": math.floor,
    "ceil": math.ceil,
    "round": round,
    "sqrt": math.sqrt,
    "log": math.log,
    "exp": math.exp,
    "int": _whole,
    "float": float,
    "bool": bool,
    "str": str,
    "Int": _whole,
    "Float": float,
    "Bool": bool,
    "IntImplicit": _whole,
    "FloatImplicit": float,
    "ScalarImplicit": _plain,
    "NumToTensor": _plain,
    "range": range,
    "__range_length": lambda low, high, step: len(range(low, high, step)),
    "__derive_index": _derived,
    "rangelist": lambda count: list(range(len(_repeated("0", count)))),
    "len": len,
    "list": list,
    "_set_item": _set_item,
    "Delete": _removed,
    "copy": list,
    "append": _appended,
    "extend": _extended,
    "insert": lambda values, place, value: values.insert(place, value),
    "pop": _removed,
    "reverse": lambda values: values.reverse(),
    "slice": _slice,
    "__getitem__": operator.getitem,
    "__contains__": _contains,
    "keys": list,
    "values": lambda each: list(each.values()),
    "items": lambda each: list(each.items()),
    "get": lambda each, key, default=None: each.get(key, default),
    "update": lambda each, more: each.update(more),
    "unchecked_unwrap_optional": _plain,
    "unchecked_cast": _plain,
    "TupleConstruct": lambda *values: values,
    "RaiseException": _raised,
    "raise": _raised,
    "format": _formatted,
    "warn": lambda *words, **named: None,
    "percentFormat": lambda text, *values: text[:10_000],
    "EnumName": lambda member: member.name,
    "EnumValue": lambda member: member.value,
    "type": lambda device: device.name.partition(":")[0],
    "device": lambda *name: Device(str(name[0]) if name else "cpu"),
    "startswith": lambda text, part: text.startswith(part),
    "endswith": lambda text, part: text.endswith(part),
    "is_scripting": lambda: True,
    "is_tracing": lambda: False,
    "is_grad_enabled": lambda: True,
    "is_autocast_enabled": lambda *kind: False,
    "is_autocast_cpu_enabled": lambda: False,
    "is_inference_mode_enabled": lambda: False,
    "_get_tracing_state": lambda: False,
    "lower": lambda text: text.lower(),
}
"""By the name behind `torch.` or `ops.prim.`; used where no argument is a tensor."""

SAYING = ("format", "percentFormat", "warn", "RaiseException", "raise", "TupleConstruct")
"""What takes tensors, among others, without looking into them."""

ON_SIZES = {
    "mul": "_operator.mul",
    "floordiv": "_operator.floordiv",
    "floor_divide": "_operator.floordiv",
    "add": "_operator.add",
    "sub": "_operator.sub",
    "neg": "_operator.neg",
    "div": "_operator.truediv",
    "remainder": "_operator.mod",
}
"""What is computed with multiples of the batch, by the operator's name in captured programs."""
