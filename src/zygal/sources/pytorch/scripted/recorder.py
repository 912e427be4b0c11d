"""Records what the code of an archive does as the calls of a program, each translated at once to know its shapes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from zygal.errors import SourceError
from zygal.graph import Batch, TensorType
from zygal.sources.pytorch.calls import Context, Site
from zygal.sources.pytorch.program import Call
from zygal.sources.pytorch.scripted.builtins import FUNCTIONS, ON_SIZES, Unfit
from zygal.sources.pytorch.scripted.signatures import Signature, signatures_of
from zygal.sources.pytorch.scripted.values import Device, Size, Tensor
from zygal.sources.pytorch.tensors import SCALAR_TYPES, StoredTensor, TensorBytes, read_tensor
from zygal.sources.pytorch.translate import known_operator, operator_name, translated

MOST_CALLS = 200_000
_CODE_DTYPES = {
    "uint8": 0,
    "int8": 1,
    "int16": 2,
    "int32": 3,
    "int64": 4,
    "float16": 5,
    "float32": 6,
    "float64": 7,
    "bool": 11,
    "bfloat16": 15,
}
"""The numbers by which code names dtypes."""
_WIDER = ("float16", "bfloat16", "float32", "float64")
_CASTS = ("to", "_to_copy", "type_as", "half", "float", "double", "bfloat16")


class Recorder:
    """The calls of a program while they are recorded.

    types: of every tensor as the artifact computes it. dtype_names: as the framework does. tensors: the stored ones
    that are read. in_training: whether code asked for the mode of a module that was saved in training mode. undecided:
    whether it asked for what depends on the images.
    A shape that the code asks for is known as soon as what makes it is recorded.
    """

    def __init__(self, where: str, stored: TensorBytes, image: TensorType, image_dtype: str):
        self._where, self._stored_bytes = where, stored
        self.layer = ""
        self.calls: list[Call] = []
        self.tensors: dict[str, StoredTensor] = {}
        self.trained: set[str] = set()
        self.unknown_operators: dict[str, list[str]] = {}
        self._context = Context(where)
        self.images = Tensor("images")
        self._context.values["images"] = self._context.builder.input("images", image)
        self.types: dict[str, TensorType] = {"images": image}
        self.dtype_names: dict[str, str] = {"images": image_dtype}
        self.path = Path(where)
        self.in_training = self.undecided = False
        self._names: dict[int, tuple[StoredTensor, Tensor]] = {}
        self._literals: dict[str, np.ndarray] = {}
        # Numbers that code has changed in place, through whatever view: what is known of any is not believed then.
        self._constants_written = False
        self._count = 0

    # Values

    def stored(self, value: Any) -> Any:
        """An attribute or a constant as the code sees it: stored tensors become tensors of the program."""
        if isinstance(value, StoredTensor):
            if id(value) not in self._names:
                name = f"stored_{len(self._names)}"
                array = read_tensor(self, value)
                self.tensors[name] = value
                if value.trained or value.requires_grad:
                    self.trained.add(name)
                self._context.values[name] = self._context.builder.constant(name, array)
                self.types[name] = self._context.builder.types[name]
                self.dtype_names[name] = SCALAR_TYPES[value.scalar_type]
                # The tensor is kept, so that no other one takes its identity.
                self._names[id(value)] = value, Tensor(name)
            return self._names[id(value)][1]
        if isinstance(value, list):
            return [self.stored(each) for each in value]
        if isinstance(value, tuple):
            return tuple(self.stored(each) for each in value)
        if isinstance(value, dict):
            return {key: self.stored(each) for key, each in value.items()}
        return value

    def known(self, tensor: Tensor) -> np.ndarray | None:
        """The numbers of a tensor that depends on no image; None if it does, or if code wrote into it."""
        value = self._context.values.get(tensor.name)
        if not isinstance(value, str) or self._constants_written:
            return None
        return self._site("known", ()).array(value)

    def member_bytes(self, member: str) -> np.ndarray:
        """The bytes of a storage of the archive, or of a tensor that stands in the code as numbers."""
        literal = self._literals.get(member)
        return self._stored_bytes.member_bytes(member) if literal is None else literal

    def _literal(
        self, values: Any, dtype: int | None = None, device: Any = None, requires_grad: bool = False
    ) -> Tensor:
        """A tensor of numbers that the code spells out; whole numbers are int64 and others float32, unless it says."""
        try:
            array = np.array(values)
        except ValueError as fault:
            raise Unfit("makes a tensor of a list that is no grid of numbers") from fault
        usual = {"b": "bool", "i": "int64", "f": "float32"}.get(array.dtype.kind)
        names = {number: name for name, number in _CODE_DTYPES.items()}
        name = usual if dtype is None else names.get(dtype)
        if usual is None or name is None or name == "bfloat16":
            raise Unfit("makes a tensor of something that is no number, or of a dtype that is not known")
        member = f"literal {len(self._literals)}"
        array = np.ascontiguousarray(array.astype(name))
        self._literals[member] = array.reshape(-1).view(np.uint8)
        strides = tuple(step // array.itemsize for step in array.strides)
        number = next(number for number, each in SCALAR_TYPES.items() if each == name)
        return self.stored(StoredTensor(member, number, array.shape, strides, 0))

    def unknown(self, operator: str) -> Any:
        """An operator of a library that the tables do not have."""
        self.unknown_operators.setdefault(operator, []).append(self.layer or operator)
        raise SourceError(f"{self._where} uses the operator {operator}, which Zygal does not know.")

    # Calls

    def call(self, name: str, given: list[Any], named: Mapping[str, Any]) -> Any:
        """What an operator gives. Raises Unfit, or SourceError naming the layer."""
        asked = _ASKED.get(name)
        if asked is not None and given and isinstance(given[0], Tensor):
            return asked(self, *given, **named)
        if any(isinstance(each, Size) for each in given) and name in ON_SIZES:
            if named.keys() - {"alpha", "rounding_mode"} or named.get("alpha", 1) != 1:
                raise Unfit(f"calls torch.{name} on the number of images with more than two numbers")
            return self._on_sizes(ON_SIZES["floordiv" if named.get("rounding_mode") else name], given)
        given, named = [_settled(each) for each in given], {key: _settled(each) for key, each in named.items()}
        plain = name.rstrip("_") if name.endswith("_") and not name.endswith("__") else name
        overloads = signatures_of(name) or signatures_of(plain)
        if name in ("tensor", "as_tensor"):
            return self._literal(*given, **named)
        if not overloads:
            return self.unknown(f"aten.{name}")
        for signature in overloads:
            arguments = signature.bound(given, named)
            if arguments is not None:
                return self._recorded(replace(signature, name=name), arguments)
        raise Unfit(f"calls torch.{name} with arguments that fit none of its forms")

    def numbers(self, name: str, given: list[Any]) -> list[Any]:
        """The arguments with known single numbers in the place of tensors, where a number meets them: a trace computes
        sizes with such tensors."""
        if name not in FUNCTIONS or not any(isinstance(each, (int, float, Size)) for each in given):
            return given
        known = [self.known(each) if isinstance(each, Tensor) else None for each in given]
        if any(isinstance(each, Tensor) and (at is None or at.ndim) for each, at in zip(given, known)):
            return given
        return [each if at is None else at.item() for each, at in zip(given, known)]

    def _on_sizes(self, target: str, given: list[Any]) -> Any:
        arguments = {
            str(place): ("sym_int", {"as_name": each.name}) if isinstance(each, Size) else ("int", each)
            for place, each in enumerate(given)
        }
        call = Call(target, arguments, (self._free(),), self._layer)
        (value,) = translated(Site(call, self._context), self._where)
        self._keep(call)
        self._context.values[call.results[0]] = value
        return Size(value, call.results[0]) if isinstance(value, Batch) else value

    def _recorded(self, signature: Signature, arguments: dict[str, tuple[str, Any]]) -> Any:
        name = self._free()
        call = Call(signature.target, arguments, (name,), self.layer or name)
        if not known_operator(call.target):
            return self.unknown(f"aten.{signature.name}.{signature.overload}")
        made = translated(Site(call, self._context), self._where)
        several = signature.several or signature.results > 1
        names = tuple(f"{name}_{place}" for place in range(len(made))) if several else (name,)
        call = replace(call, results=names)
        self._keep(call)
        for each, value in zip(names, made):
            if isinstance(value, str):
                self._context.values[each] = value
                self.types[each] = self._context.builder.types[value]
                self.dtype_names[each] = self._width_of(call, self.types[each])
        if operator_name(call.target)[1]:
            # Only its shape is followed here; what the memory holds then is found when the whole is translated.
            self._constants_written |= any(self.known(Tensor(each)) is not None for each in call.tensors_read()[:1])
        tensors = [Tensor(each) if isinstance(value, str) else None for each, value in zip(names, made)]
        if signature.several:
            return tensors
        return tuple(tensors) if signature.results > 1 else (tensors[0] if tensors else None)

    def _site(self, target: str, results: tuple[str, ...]) -> Site:
        return Site(Call(target, {}, results, self.layer or target), self._context)

    def _keep(self, call: Call) -> None:
        self.calls.append(call)
        if len(self.calls) > MOST_CALLS:
            raise Unfit(f"runs more than {MOST_CALLS} operators")

    def _free(self) -> str:
        self._count += 1
        return f"v{self._count}"

    @property
    def _layer(self) -> str:
        return self.layer or "sizes"

    def _width_of(self, call: Call, type: TensorType) -> str:
        """The dtype that the framework computes a result in. Floating point takes the widest of what is read, of single
        numbers only where there is nothing else (PyTorch's rules of type promotion)."""
        if type.dtype.kind != "f":
            return type.dtype.name
        for key in ("dtype", "other"):
            kind, value = call.arguments.get(key, ("none", None))
            if kind == "scalar_type":
                return SCALAR_TYPES.get(value, "unknown")
            if kind == "tensor" and call.target.split(".")[-2] in _CASTS:
                return self.dtype_names[value["name"]]
        read = [name for name in call.tensors_read() if self.types[name].dtype.kind == "f"]
        widths = [self.dtype_names[each] for each in read if self.types[each].rank] or [
            self.dtype_names[each] for each in read
        ]
        if "float16" in widths and "bfloat16" in widths:
            return "float32"
        return max(widths, key=_WIDER.index, default="float32")

    # What code asks of a tensor

    def _sizes(self, tensor: Tensor, *places: int) -> Any:
        shape = self.types[tensor.name].shape
        if places:
            return self._size(tensor, places[0] % len(shape))
        return [self._size(tensor, place) for place in range(len(shape))]

    def _size(self, tensor: Tensor, place: int) -> Any:
        size = self.types[tensor.name].shape[place]
        if not isinstance(size, Batch):
            return size
        name = self._free()
        arguments = {"self": ("tensor", {"name": tensor.name}), "dim": ("int", place)}
        self._keep(Call("torch.ops.aten.sym_size.int", arguments, (name,), self._layer))
        self._context.values[name] = size
        return Size(size, name)

    def _length(self, tensor: Tensor) -> Any:
        return self._size(tensor, 0)

    def _numel(self, tensor: Tensor) -> Any:
        sizes = self._sizes(tensor)
        product: Any = 1
        for size in sizes:
            both = isinstance(product, Size) or isinstance(size, Size)
            product = self._on_sizes(ON_SIZES["mul"], [product, size]) if both else product * size
        return product

    def _dtype(self, tensor: Tensor) -> int:
        name = self.dtype_names[tensor.name]
        if name not in _CODE_DTYPES:
            raise Unfit(f"asks for a dtype ({name}) that has no number")
        return _CODE_DTYPES[name]

    def _item(self, tensor: Tensor) -> Any:
        array = self.known(tensor)
        if array is None or array.size != 1:
            raise Unfit("reads a number out of a tensor that depends on the image")
        return array.item()

    def _list(self, tensor: Tensor, *_: Any) -> Any:
        array = self.known(tensor)
        if array is None:
            raise Unfit("reads numbers out of a tensor that depends on the image")
        return array.tolist()


def _settled(value: Any) -> Any:
    """A tuple of numbers stands where a list does."""
    return list(value) if isinstance(value, tuple) else value


def _same(_recorder: Recorder, tensor: Tensor, *_: Any) -> Tensor:
    return tensor


_ASKED = {
    "size": Recorder._sizes,
    "shape": Recorder._sizes,
    "len": Recorder._length,
    "dim": lambda recorder, tensor: recorder.types[tensor.name].rank,
    "ndim": lambda recorder, tensor: recorder.types[tensor.name].rank,
    "ndimension": lambda recorder, tensor: recorder.types[tensor.name].rank,
    "numel": Recorder._numel,
    "dtype": Recorder._dtype,
    "device": lambda recorder, tensor: Device(),
    "layout": lambda recorder, tensor: 0,
    "is_cuda": lambda recorder, tensor: False,
    "is_mps": lambda recorder, tensor: False,
    "is_mkldnn": lambda recorder, tensor: False,
    "is_quantized": lambda recorder, tensor: False,
    "is_sparse": lambda recorder, tensor: False,
    "is_nested": lambda recorder, tensor: False,
    "requires_grad": lambda recorder, tensor: False,
    "is_floating_point": lambda recorder, tensor: recorder.types[tensor.name].dtype.kind == "f",
    "is_complex": lambda recorder, tensor: False,
    "item": Recorder._item,
    "int": lambda recorder, tensor: int(recorder._item(tensor)),
    "Int": lambda recorder, tensor: int(recorder._item(tensor)),
    "IntImplicit": lambda recorder, tensor: int(recorder._item(tensor)),
    "float": lambda recorder, tensor: float(recorder._item(tensor)),
    "Float": lambda recorder, tensor: float(recorder._item(tensor)),
    "FloatImplicit": lambda recorder, tensor: float(recorder._item(tensor)),
    "bool": lambda recorder, tensor: bool(recorder._item(tensor)),
    "Bool": lambda recorder, tensor: bool(recorder._item(tensor)),
    "ScalarImplicit": Recorder._item,
    "tolist": Recorder._list,
    "__is__": lambda recorder, tensor, other: other is not None and tensor == other,
    "__isnot__": lambda recorder, tensor, other: other is None or tensor != other,
    "unchecked_unwrap_optional": _same,
    "requires_grad_": _same,
    "data": _same,
    "cpu": _same,
    "cuda": _same,
}
"""What is known of a tensor without computing it, by the name behind `torch.` or `ops.prim.`"""
