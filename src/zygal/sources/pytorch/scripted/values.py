"""What the code of an archive computes with."""

from __future__ import annotations

import ast
from dataclasses import dataclass, field
from typing import Any

from zygal.files.pickles import Record
from zygal.graph import Batch


@dataclass(frozen=True)
class Tensor:
    """A tensor of the program that is being recorded."""

    name: str

    def __bool__(self) -> bool:
        raise TypeError("a tensor depends on the image")


@dataclass(frozen=True)
class Size:
    """A multiple of the number of images, which is not known. name: of the value in the program."""

    dimension: Batch
    name: str = field(compare=False)

    def __bool__(self) -> bool:
        raise TypeError("the number of images is not known")


@dataclass(frozen=True)
class Device:
    """Where something would be computed. The artifact runs on the processor, whatever it is."""

    name: str = "cpu"


@dataclass(frozen=True)
class Member:
    """A member of an enumeration of the archive. enumeration: its qualified name."""

    enumeration: str
    name: str
    value: Any


@dataclass(frozen=True)
class Module:
    """An object of the archive. path: of the module in the model, such as "layer1.0.conv1"."""

    record: Record
    path: str


@dataclass(frozen=True)
class Function:
    """A function or a method of the archive's code. owner: the object of a method."""

    qualified_name: str
    code: ast.FunctionDef
    owner: Module | None = None


@dataclass
class Frame:
    """One call while it is followed. member: the file of the code; layer: the module that it belongs to."""

    function: Function
    layer: str
    names: dict[str, Any] = field(default_factory=dict)
